//! What needs attention in an estate, gravest first.

use std::collections::{BTreeMap, HashMap};

use api::BandUse;
use api::coverage::survey::{ChangedKind, SignalChange};
use api::device::{Device, DeviceState};
use api::diagnosis::device::Weight;
use api::diagnosis::plausibility::ModelDoubt;
use api::diagnosis::watch::{About, Concern, DecodeFailures, Watch};
use api::gateway::credential::{CredentialState, EndingCredential, Endings};
use api::gateway::{Gateway, GatewayState};
use api::radio::agreement::RefusedSetting;
use chrono::{DateTime, Utc};
use lorawan::Eui64;

use crate::gateway::credential;

/// Days before the authority's certificate expires in which it is pointed out.
const AUTHORITY_WARN_DAYS: i64 = 365;
/// Days that a weaker signal is pointed out: then it is how it is.
const CHANGED_DAYS: i64 = 30;
/// Devices named of those with the same trouble.
const NAMED: usize = 3;

/// What the engine knows of a device that works and still needs attention.
#[derive(Debug, Clone, PartialEq)]
pub struct DeviceTrouble {
    /// The device.
    pub dev_eui: Eui64,
    /// Sub-bands in which little or nothing of its hourly airtime is left.
    pub airtime: Vec<BandUse>,
    /// Settings that it refuses.
    pub refused: Vec<RefusedSetting>,
}

/// Everything that is looked at.
#[derive(Debug, Clone, Default)]
pub struct Seen<'a> {
    /// The estate's gateways.
    pub gateways: &'a [Gateway],
    /// The devices that the caller may see.
    pub devices: &'a [Device],
    /// What the engine knows of them.
    pub troubles: &'a [DeviceTrouble],
    /// Credentials that expire soon; nothing for a caller who sees devices only.
    pub endings: Option<&'a Endings>,
    /// What the service found out about itself.
    pub of_service: Vec<Concern>,
    /// Uplinks that could not be decoded.
    pub failures: &'a [DecodeFailures],
    /// Readings that look wrong.
    pub doubts: &'a [ModelDoubt],
    /// Changes of signal, the latest first.
    pub changes: &'a [SignalChange],
    /// Gateways that connect and are not registered.
    pub strangers: usize,
}

/// Something to report, before it is said of what.
struct Found {
    weight: Weight,
    since: Option<DateTime<Utc>>,
    what: String,
    next_step: String,
}

impl Found {
    fn new(weight: Weight, since: Option<DateTime<Utc>>, what: String, next_step: &str) -> Self {
        Self { weight, since, what, next_step: next_step.into() }
    }

    fn of(self, about: About, eui: Option<Eui64>, name: Option<&str>) -> Concern {
        let Self { weight, since, what, next_step } = self;
        let name = name.map(str::to_owned);
        Concern { weight, about, eui, name, model: None, message: None, since, what, next_step }
    }
}

fn airtime(band: &BandUse, next_step: &str) -> Found {
    let over = band.used_percent > 100.0;
    let weight = if over { Weight::Trouble } else { Weight::Attention };
    let what = format!("{:.0} % of the hourly airtime in sub-band {} is used.", band.used_percent, band.sub_band);
    Found::new(weight, band.near_since, what, next_step)
}

fn of_gateway(gateway: &Gateway) -> Vec<Found> {
    let mut out = Vec::new();
    let silent = match gateway.state {
        GatewayState::Listening => None,
        GatewayState::Quiet => Some((Weight::Attention, "Quiet: nothing was heard from it lately.")),
        GatewayState::Lost => Some((Weight::Trouble, "Lost: nothing is heard from it.")),
        GatewayState::NeverHeard => Some((Weight::Attention, "Never heard.")),
    };
    if let Some((weight, what)) = silent {
        let next = "Its page lists what to check, and each attempt to connect with its reason.";
        out.push(Found::new(weight, gateway.last_heard, what.into(), next));
    }
    if !gateway.off_plan_mhz.is_empty() {
        let what = format!(
            "It hears frames on {} frequencies that are not channels of {}.",
            gateway.off_plan_mhz.len(),
            gateway.region
        );
        let next = "Compare the channel plan set in the gateway with its region.";
        out.push(Found::new(Weight::Attention, None, what, next));
    }
    // The engine never lets a gateway pass its allowance.
    let near = gateway.airtime.iter().filter(|band| band.near_since.is_some());
    out.extend(
        near.map(|band| airtime(band, "Downlinks there wait. The airtime ledger shows which devices cause them.")),
    );
    out
}

fn of_device(device: &Device) -> Option<Found> {
    match (device.state, &device.refusal) {
        (DeviceState::Refused, Some(refusal)) => {
            let since = device.refused_since.unwrap_or(refusal.time);
            Some(Found::new(Weight::Trouble, Some(since), refusal.why.clone(), &refusal.next_step))
        }
        (DeviceState::Silent, _) => {
            let what = "Silent: overdue by its usual interval.".into();
            let next = "Its page shows which gateways heard it last, and how well.";
            Some(Found::new(Weight::Attention, device.last_heard, what, next))
        }
        _ => None,
    }
}

fn of_trouble(trouble: &DeviceTrouble) -> Vec<Found> {
    let next = "Send less often, or at a faster data rate: `heron airtime calc` shows what fits.";
    let mut out: Vec<Found> = trouble.airtime.iter().map(|band| airtime(band, next)).collect();
    out.extend(trouble.refused.iter().map(|refused| {
        let times = match refused.times {
            1 => "once".to_owned(),
            n => format!("{n} times in a row"),
        };
        let what = format!("It refuses {}, {times}.", refused.what);
        let next = format!(
            "It is asked again at {} UTC. Ask for what the device supports, in its radio settings.",
            refused.again_at.format("%Y-%m-%d %H:%M:%S")
        );
        Found::new(Weight::Attention, Some(refused.since), what, &next)
    }));
    out
}

fn of_credential(ending: &EndingCredential, now: DateTime<Utc>) -> Found {
    let expired = credential::state(&ending.credential, now) == CredentialState::Expired;
    let what = format!(
        "Its {} for {} {} on {}.",
        ending.credential.kind.name(),
        ending.credential.purpose.name(),
        if expired { "expired" } else { "expires" },
        ending.credential.expires_at.format("%Y-%m-%d")
    );
    let since = expired.then_some(ending.credential.expires_at);
    match (expired, ending.renews_itself) {
        (true, _) => Found::new(Weight::Trouble, since, what, "Create a new connection kit."),
        (false, false) => Found::new(Weight::Attention, since, what, "Create a new connection kit."),
        (false, true) => Found::new(Weight::Attention, since, what, "It renews when it next asks for updates."),
    }
}

/// The service's own certificates.
fn of_certificates(endings: &Endings, now: DateTime<Utc>) -> Vec<Found> {
    let days = |at: DateTime<Utc>| (at - now).num_days();
    let mut out = Vec::new();
    if days(endings.server_expires_at) < credential::WARN_DAYS && !endings.server_renews_itself {
        let what = format!("Its certificate for gateways expires on {}.", endings.server_expires_at.format("%Y-%m-%d"));
        out.push(Found::new(Weight::Trouble, None, what, "Give it a new certificate, and restart it."));
    }
    if days(endings.authority_expires_at) < AUTHORITY_WARN_DAYS {
        let at = endings.authority_expires_at.format("%Y-%m-%d");
        let what = format!("The certificate authority that gateways trust expires on {at}.");
        let next = "Put a new authority into the data folder, and create new connection kits.";
        out.push(Found::new(Weight::Attention, None, what, next));
    }
    out
}

/// A model's decoder, by what it could not decode.
fn of_decoder(model: &str, failures: &[&DecodeFailures]) -> Concern {
    let all: u32 = failures.iter().map(|of| of.failures).sum();
    let first = failures.iter().min_by_key(|of| of.first_at);
    let names: Vec<&str> = failures.iter().map(|of| of.device.name.as_str()).take(NAMED).collect();
    let more = failures.len().saturating_sub(names.len());
    let whose = if more > 0 { format!("{} and {more} more", names.join(", ")) } else { names.join(", ") };
    let what = format!(
        "Its decoder failed on {all} {} of {whose}: {}",
        if all == 1 { "uplink" } else { "uplinks" },
        first.map_or("", |of| of.why.as_str())
    );
    let next = "Open the first one in the workbench, and fix the decoder there.";
    let found = Found::new(Weight::Trouble, first.map(|of| of.first_at), what, next);
    let message = first.map(|of| of.first_message.clone());
    Concern { model: Some(model.to_owned()), message, ..found.of(About::Decoder, None, Some(model)) }
}

fn of_doubt(doubt: &ModelDoubt) -> Concern {
    let others = match doubt.devices {
        0 | 1 => String::new(),
        n => format!(" and {} more", n - 1),
    };
    let what = format!(
        "{} of {}{others} looks wrong: {}; {}",
        doubt.doubt.reading, doubt.device.name, doubt.doubt.seen, doubt.doubt.question
    );
    let found =
        Found::new(Weight::Attention, None, what, "Set the unit or the scale of this reading in the workbench.");
    Concern { model: Some(doubt.model.clone()), ..found.of(About::Decoder, None, Some(&doubt.model)) }
}

/// Those whose signal is weaker, and has not changed again since.
fn weaker(changes: &[SignalChange], now: DateTime<Utc>) -> impl Iterator<Item = &SignalChange> {
    let last = |change: &SignalChange| {
        let later =
            |other: &SignalChange| (other.kind, other.eui) == (change.kind, change.eui) && other.since > change.since;
        !changes.iter().any(later)
    };
    let days = move |change: &SignalChange| (now - change.since).num_days();
    changes.iter().filter(move |change| change.change_db < 0.0 && days(change) <= CHANGED_DAYS && last(change))
}

fn of_change(change: &SignalChange) -> Concern {
    let about = match change.kind {
        ChangedKind::Gateway => About::Gateway,
        ChangedKind::Device => About::Device,
    };
    let found = Found::new(Weight::Attention, Some(change.since), change.what.clone(), &change.next_step);
    found.of(about, Some(change.eui), Some(&change.name))
}

/// Lists what needs attention, gravest first.
pub fn build(seen: Seen<'_>, now: DateTime<Utc>) -> Watch {
    let Seen { gateways, devices, troubles, endings, of_service, failures, doubts, changes, strangers } = seen;
    let mut concerns = of_service;
    let certificates = endings.iter().flat_map(|endings| of_certificates(endings, now));
    concerns.extend(certificates.map(|found| found.of(About::Service, None, None)));
    for gateway in gateways {
        let found = of_gateway(gateway).into_iter();
        concerns.extend(found.map(|found| found.of(About::Gateway, Some(gateway.eui), Some(&gateway.name))));
    }
    for ending in endings.iter().flat_map(|endings| &endings.credentials) {
        concerns.push(of_credential(ending, now).of(About::Gateway, Some(ending.gateway), Some(&ending.name)));
    }
    let troubles: HashMap<Eui64, &DeviceTrouble> = troubles.iter().map(|trouble| (trouble.dev_eui, trouble)).collect();
    for device in devices {
        let of_engine = troubles.get(&device.dev_eui).map(|trouble| of_trouble(trouble)).unwrap_or_default();
        let found = of_device(device).into_iter().chain(of_engine);
        concerns.extend(found.map(|found| found.of(About::Device, Some(device.dev_eui), Some(&device.name))));
    }
    let mut by_model: BTreeMap<&str, Vec<&DecodeFailures>> = BTreeMap::new();
    for of in failures {
        by_model.entry(&of.model).or_default().push(of);
    }
    concerns.extend(by_model.iter().map(|(model, failures)| of_decoder(model, failures)));
    concerns.extend(doubts.iter().map(of_doubt));
    concerns.extend(weaker(changes, now).map(of_change));
    concerns.sort_by(|a, b| (a.weight, a.about, &a.name).cmp(&(b.weight, b.about, &b.name)));
    Watch {
        concerns,
        gateways: gateways.len(),
        gateways_listening: Some(gateways.iter().filter(|g| g.state == GatewayState::Listening).count()),
        devices: devices.len(),
        devices_active: Some(devices.iter().filter(|d| d.state == DeviceState::Active).count()),
        strangers,
    }
}

#[cfg(test)]
mod tests {
    use api::message::DeviceRef;
    use chrono::TimeDelta;
    use serde_json::json;

    use super::*;

    fn gateway(name: &str, state: &str, now: DateTime<Utc>) -> Gateway {
        serde_json::from_value(json!({
            "eui": "02a1f00000000001", "name": name, "description": "", "region": "EU868", "channels": "0-7",
            "protocol": "udp", "udp_source": null, "latitude_deg": null, "longitude_deg": null, "altitude_m": null,
            "antenna_gain_dbi": 2.15, "cable_loss_db": 0.0, "open_to_others": false, "beacons": false, "has_gps": false,
            "state": state, "last_heard": now - TimeDelta::minutes(30), "address": null, "frames": 0, "off_plan_mhz": [],
            "delay": null, "software": null, "report": null, "added_at": now, "airtime": []
        }))
        .unwrap()
    }

    fn device(name: &str, state: &str, now: DateTime<Utc>) -> Device {
        serde_json::from_value(json!({
            "dev_eui": "02b0000000000001", "join_eui": "02aa000000000001", "name": name, "fleet": "f", "model": null,
            "region": "EU868", "state": state, "last_heard": null, "usual_interval_s": null, "tags": [], "disabled": false, "added_at": now,
            "refusal": { "code": "x", "join": true, "why": "The key differs.", "next_step": "Compare.", "time": now },
            "refused_since": now - TimeDelta::minutes(5)
        }))
        .unwrap()
    }

    fn endings(now: DateTime<Utc>, left: i64) -> Endings {
        Endings {
            server_expires_at: now + TimeDelta::days(left),
            server_renews_itself: false,
            authority_expires_at: now + TimeDelta::days(7000),
            credentials: Vec::new(),
        }
    }

    #[test]
    fn what_does_not_work_comes_before_what_should_be_looked_at() {
        let now = Utc::now();
        let mut heard = gateway("chapel-rise", "listening", now);
        heard.off_plan_mhz = vec![903.9];
        let gateways = [heard, gateway("quay", "quiet", now), gateway("pier", "lost", now)];
        let devices = [device("tide-01", "active", now), device("tide-02", "refused", now), device("a", "silent", now)];
        let (endings_10, endings_100) = (endings(now, 10), endings(now, 100));
        let seen = Seen {
            gateways: &gateways,
            devices: &devices,
            endings: Some(&endings_10),
            strangers: 1,
            ..Seen::default()
        };
        let watch = build(seen, now);
        let told: Vec<_> =
            watch.concerns.iter().map(|c| (c.weight, c.about, c.name.as_deref().unwrap_or(""))).collect();
        use Weight::{Attention, Trouble};
        assert_eq!(
            told,
            [
                (Trouble, About::Service, ""),
                (Trouble, About::Gateway, "pier"),
                (Trouble, About::Device, "tide-02"),
                (Attention, About::Gateway, "chapel-rise"),
                (Attention, About::Gateway, "quay"),
                (Attention, About::Device, "a"),
            ]
        );
        assert_eq!(watch.concerns[1].what, "Lost: nothing is heard from it.");
        assert_eq!(watch.concerns[1].since, Some(now - TimeDelta::minutes(30)));
        assert_eq!(watch.concerns[2].since, Some(now - TimeDelta::minutes(5)), "the first refusal of those in a row");
        assert_eq!((watch.gateways_listening, watch.devices_active, watch.strangers), (Some(1), Some(1), 1));
        let seen = Seen { endings: Some(&endings_100), ..Seen::default() };
        assert!(build(seen, now).concerns.is_empty());
    }

    #[test]
    fn airtime_passed_and_settings_refused_are_told_with_since_when() {
        let now = Utc::now();
        let ago = |minutes| now - TimeDelta::minutes(minutes);
        let band = |used_percent| BandUse {
            sub_band: "M".into(),
            from_mhz: 868.0,
            to_mhz: 868.6,
            airtime_ms: 0.0,
            allowance_ms: 36_000.0,
            used_percent,
            frames: 9,
            near_since: Some(ago(20)),
        };
        let refused =
            RefusedSetting { what: "channels 0-7".into(), times: 3, since: ago(90), at: ago(1), again_at: now };
        let devices = [device("collar-44", "active", now)];
        let dev_eui = devices[0].dev_eui;
        let told = |airtime, refused| {
            let troubles = [DeviceTrouble { dev_eui, airtime, refused }];
            let watch = build(Seen { devices: &devices, troubles: &troubles, ..Seen::default() }, now);
            watch.concerns.into_iter().map(|c| (c.weight, c.since, c.what)).collect::<Vec<_>>()
        };
        let passed = "1252 % of the hourly airtime in sub-band M is used.";
        let refuses = "It refuses channels 0-7, 3 times in a row.";
        assert_eq!(
            told(vec![band(1252.0)], vec![refused]),
            [
                (Weight::Trouble, Some(ago(20)), passed.to_owned()),
                (Weight::Attention, Some(ago(90)), refuses.to_owned())
            ]
        );
        assert_eq!(told(vec![band(85.0)], vec![])[0].0, Weight::Attention);
    }

    #[test]
    fn a_weaker_signal_is_told_until_it_is_better_or_old() {
        let now = Utc::now();
        let change = |eui, days, change_db| SignalChange {
            kind: ChangedKind::Gateway,
            eui: Eui64(eui),
            name: format!("gateway-{eui}"),
            since: now - TimeDelta::days(days),
            change_db,
            links: 9,
            of: 10,
            what: "Signals are weaker.".into(),
            next_step: "Look at its antenna.".into(),
        };
        // The latest first: that of gateway 2 was mended, that of gateway 3 is old.
        let changes = [change(1, 3, -6.0), change(2, 5, 7.0), change(2, 9, -7.0), change(3, 45, -5.0)];
        let watch = build(Seen { changes: &changes, ..Seen::default() }, now);
        let told: Vec<_> = watch.concerns.iter().map(|one| (one.about, one.name.as_deref(), one.since)).collect();
        assert_eq!(told, [(About::Gateway, Some("gateway-1"), Some(changes[0].since))]);
    }

    #[test]
    fn decoders_that_fail_are_told_once_with_their_first_uplink() {
        let now = Utc::now();
        let failing = |name: &str, failures, minutes| DecodeFailures {
            device: DeviceRef { eui: Eui64(1), name: name.into(), model: Some("tg2".into()) },
            model: "tg2".into(),
            failures,
            first_message: name.to_uppercase(),
            first_at: now - TimeDelta::minutes(minutes),
            last_at: now,
            why: format!("port 9 of {name}"),
        };
        let failures = [failing("tide-01", 2, 5), failing("tide-02", 3, 9), failing("a", 1, 1), failing("b", 1, 1)];
        let doubt = api::diagnosis::plausibility::Doubt {
            reading: "t".into(),
            seen: "all are 200 °C".into(),
            question: "a factor of 10?".into(),
            factor: Some(0.1),
        };
        let doubts = [ModelDoubt { model: "tg2".into(), doubt, device: failures[0].device.clone(), devices: 3 }];
        let watch = build(Seen { failures: &failures, doubts: &doubts, ..Seen::default() }, now);
        assert_eq!(watch.concerns.len(), 2);
        let (trouble, question) = (&watch.concerns[0], &watch.concerns[1]);
        assert_eq!(trouble.message.as_deref(), Some("TIDE-02"));
        assert_eq!(
            trouble.what,
            "Its decoder failed on 7 uplinks of tide-01, tide-02, a and 1 more: port 9 of tide-02"
        );
        assert_eq!(question.what, "t of tide-01 and 2 more looks wrong: all are 200 °C; a factor of 10?");
    }
}

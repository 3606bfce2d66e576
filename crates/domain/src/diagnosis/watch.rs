//! What needs attention in an estate, gravest first.

use std::collections::BTreeMap;

use api::device::{Device, DeviceState};
use api::diagnosis::device::Weight;
use api::diagnosis::plausibility::ModelDoubt;
use api::diagnosis::watch::{About, Concern, DecodeFailures, Watch};
use api::gateway::credential::{CredentialState, Endings};
use api::gateway::{Gateway, GatewayState};
use chrono::{DateTime, Utc};
use lorawan::Eui64;

use crate::gateway::credential;

/// Percent of an hour's airtime from which on a gateway is pointed out.
const MUCH_PERCENT: f64 = 80.0;

fn of_gateway(gateway: &Gateway, now: DateTime<Utc>) -> Vec<(Weight, String, String)> {
    let mut out = Vec::new();
    let since = |at: Option<DateTime<Utc>>| match at.map(|at| (now - at).num_minutes()) {
        Some(minutes @ 0..=119) => format!("for {minutes} min"),
        Some(minutes) => format!("for {} h", minutes / 60),
        None => "yet".into(),
    };
    let silent = match gateway.state {
        GatewayState::Listening => None,
        GatewayState::Quiet => Some(Weight::Attention),
        GatewayState::Lost => Some(Weight::Trouble),
        GatewayState::NeverHeard => Some(Weight::Attention),
    };
    if let Some(weight) = silent {
        let what = format!("It is {}: not a word from it {}.", gateway.state.label(), since(gateway.last_heard));
        out.push((weight, what, "Its page says what to look at, and each attempt with its reason.".into()));
    }
    if !gateway.off_plan_mhz.is_empty() {
        let what = format!(
            "It hears frames on {} frequencies that are no channels of {}.",
            gateway.off_plan_mhz.len(),
            gateway.region
        );
        out.push((Weight::Attention, what, "Compare the channel plan set in it with its region.".into()));
    }
    for band in gateway.airtime.iter().filter(|band| band.used_percent >= MUCH_PERCENT) {
        let what = format!("{:.0} % of the hour's airtime in sub-band {} are used.", band.used_percent, band.sub_band);
        out.push((Weight::Attention, what, "Downlinks there wait; the ledger says for whom it sends so much.".into()));
    }
    out
}

fn of_device(device: &Device) -> Option<(Weight, String, String)> {
    match (device.state, &device.refusal) {
        (DeviceState::Refused, Some(refusal)) => {
            Some((Weight::Trouble, refusal.why.clone(), refusal.next_step.clone()))
        }
        (DeviceState::Silent, _) => {
            let what = "It is silent: it is overdue by its own rhythm.".into();
            Some((Weight::Attention, what, "Its page says by whom it was heard last, and how well.".into()))
        }
        _ => None,
    }
}

/// A model's decoder, by what it could not read.
fn of_decoder(model: &str, failures: &[&DecodeFailures]) -> Concern {
    let all: u32 = failures.iter().map(|of| of.failures).sum();
    let first = failures.iter().min_by_key(|of| of.first_at);
    let names: Vec<&str> = failures.iter().map(|of| of.device.name.as_str()).take(3).collect();
    let more = failures.len().saturating_sub(names.len());
    let whose = if more > 0 { format!("{} and {more} more", names.join(", ")) } else { names.join(", ") };
    let what = format!(
        "Its decoder could not read {all} {} of {whose}: {}",
        if all == 1 { "uplink" } else { "uplinks" },
        first.map_or("", |of| of.why.as_str())
    );
    Concern {
        weight: Weight::Trouble,
        about: About::Decoder,
        eui: None,
        name: Some(model.to_owned()),
        model: Some(model.to_owned()),
        message: first.map(|of| of.first_message.clone()),
        what,
        next_step: "Open the first of them in the workbench, and mend the decoder there.".into(),
    }
}

fn of_doubt(found: &ModelDoubt) -> Concern {
    let others = match found.devices {
        0 | 1 => String::new(),
        n => format!(" and {} more", n - 1),
    };
    Concern {
        weight: Weight::Attention,
        about: About::Decoder,
        eui: None,
        name: Some(found.model.clone()),
        model: Some(found.model.clone()),
        message: None,
        what: format!(
            "{} of {}{others} looks wrong: {}; {}",
            found.doubt.reading, found.device.name, found.doubt.seen, found.doubt.question
        ),
        next_step: "Say in the workbench what is to be known of this reading: its unit, or its scale.".into(),
    }
}

/// What is known of decoders.
#[derive(Debug, Clone, Copy, Default)]
pub struct Decoding<'a> {
    /// What they could not read.
    pub failures: &'a [DecodeFailures],
    /// What looks wrong in what they read.
    pub doubts: &'a [ModelDoubt],
}

/// From what there is. `strangers` call and are not registered.
pub fn build(
    gateways: &[Gateway],
    devices: &[Device],
    // Nothing for who sees only devices.
    endings: Option<&Endings>,
    found_by_service: Vec<Concern>,
    decoding: Decoding<'_>,
    strangers: usize,
    now: DateTime<Utc>,
) -> Watch {
    let mut concerns = found_by_service;
    let mut add = |about, eui: Option<Eui64>, name: Option<&str>, (weight, what, next_step)| {
        let name = name.map(str::to_owned);
        concerns.push(Concern { weight, about, eui, name, model: None, message: None, what, next_step });
    };
    let days = |at: DateTime<Utc>| (at - now).num_days();
    if let Some(endings) = endings {
        if days(endings.server_expires_at) < credential::WARN_DAYS && !endings.server_renews_itself {
            let what = format!(
                "The certificate it shows to gateways ends on {}.",
                endings.server_expires_at.format("%Y-%m-%d")
            );
            add(About::Service, None, None, (Weight::Trouble, what, "Give it a new one, and start it again.".into()));
        }
        if days(endings.authority_expires_at) < 365 {
            let what = format!(
                "The authority that gateways trust ends on {}.",
                endings.authority_expires_at.format("%Y-%m-%d")
            );
            let next = "Put a new authority in the data folder, and make new connection kits.".into();
            add(About::Service, None, None, (Weight::Attention, what, next));
        }
    }
    for gateway in gateways {
        for found in of_gateway(gateway, now) {
            add(About::Gateway, Some(gateway.eui), Some(&gateway.name), found);
        }
    }
    for ending in endings.iter().flat_map(|endings| &endings.credentials) {
        let ended = credential::state(&ending.credential, now) == CredentialState::Expired;
        let what = format!(
            "Its {} for {} {} on {}.",
            ending.credential.kind.name(),
            ending.credential.purpose.name(),
            if ended { "ended" } else { "ends" },
            ending.credential.expires_at.format("%Y-%m-%d")
        );
        let (weight, next) = match (ended, ending.renews_itself) {
            (true, _) => (Weight::Trouble, "Make it a new connection kit."),
            (false, false) => (Weight::Attention, "Make it a new connection kit."),
            (false, true) => (Weight::Attention, "It fetches another when it next asks over CUPS."),
        };
        add(About::Gateway, Some(ending.gateway), Some(&ending.name), (weight, what, next.into()));
    }
    for device in devices {
        if let Some(found) = of_device(device) {
            add(About::Device, Some(device.dev_eui), Some(&device.name), found);
        }
    }
    let mut by_model: BTreeMap<&str, Vec<&DecodeFailures>> = BTreeMap::new();
    for of in decoding.failures {
        by_model.entry(&of.model).or_default().push(of);
    }
    concerns.extend(by_model.iter().map(|(model, failures)| of_decoder(model, failures)));
    concerns.extend(decoding.doubts.iter().map(of_doubt));
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
            "refusal": { "code": "x", "join": true, "why": "The key differs.", "next_step": "Compare.", "time": now }
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
        let watch = build(&gateways, &devices, Some(&endings(now, 10)), Vec::new(), Decoding::default(), 1, now);
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
        assert_eq!(watch.concerns[1].what, "It is lost: not a word from it for 30 min.");
        assert_eq!((watch.gateways_listening, watch.devices_active, watch.strangers), (Some(1), Some(1), 1));
        assert!(build(&[], &[], Some(&endings(now, 100)), Vec::new(), Decoding::default(), 0, now).concerns.is_empty());
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
        let decoding = Decoding { failures: &failures, doubts: &doubts };
        let watch = build(&[], &[], Some(&endings(now, 100)), Vec::new(), decoding, 0, now);
        assert_eq!(watch.concerns.len(), 2);
        let (trouble, question) = (&watch.concerns[0], &watch.concerns[1]);
        assert_eq!(trouble.message.as_deref(), Some("TIDE-02"));
        assert_eq!(
            trouble.what,
            "Its decoder could not read 7 uplinks of tide-01, tide-02, a and 1 more: port 9 of tide-02"
        );
        assert_eq!(question.what, "t of tide-01 and 2 more looks wrong: all are 200 °C; a factor of 10?");
    }
}

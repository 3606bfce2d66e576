//! Why a device is not heard: what must be true for a join, and what its join-requests show.

use api::device::DeviceDetail;
use api::device::join::{DeviceStranger, Verdict};
use api::diagnosis::device::{Finding, Weight};
use api::diagnosis::join::Condition;
use api::gateway::{Gateway, GatewayState};
use api::message::{Body, Join, Message, SentBy};
use lorawan::Eui64;
use lorawan::region::Region;

use crate::diagnosis::finding;

/// Signals below this are at the edge of what LoRa carries; a gateway's answer may not come back.
const WEAK_DBM: f32 = -118.0;

/// Join-requests in a row after which it is likely that the device does not hear the answers.
const UNHEARD: usize = 2;

/// What is around a device that was never heard.
pub struct JoinContext<'a> {
    /// The estate's gateways.
    pub gateways: &'a [Gateway],
    /// What only who sees the whole estate is told; gateways have no names for others.
    pub of_estate: Option<OfEstate<'a>>,
    /// Its own join-requests before it was registered.
    pub asked_before: Option<&'a DeviceStranger>,
}

/// What else there is in the estate of a device that was never heard.
pub struct OfEstate<'a> {
    /// Devices that ask to join unregistered.
    pub strangers: &'a [DeviceStranger],
    /// The device that was heard last, and how long ago, in words.
    pub last_heard: Option<(String, String)>,
}

/// What is said to who sees a part of the estate.
const FOR_MEMBERS: &str = "The members of the estate see that.";

/// The join-requests of a device before it was registered.
pub(crate) fn requests_before(asked: &DeviceStranger) -> String {
    let at = asked.last_heard.format("%Y-%m-%d %H:%M:%S UTC");
    match asked.requests {
        1 => format!("One join-request was heard before it was registered, at {at}."),
        n => format!("{n} join-requests were heard before it was registered, the last at {at}."),
    }
}

fn listed<'a>(names: impl Iterator<Item = &'a str>) -> String {
    let names: Vec<&str> = names.collect();
    match names.len() {
        0..=4 => names.join(", "),
        more => format!("{} and {} more", names[..4].join(", "), more - 4),
    }
}

/// What has to be true before a device is heard, in order. Nothing for one that was heard, well or badly.
pub fn conditions(detail: &DeviceDetail, around: &JoinContext<'_>) -> Vec<Condition> {
    let device = &detail.device;
    if device.last_heard.is_some() || device.refusal.is_some() {
        return Vec::new();
    }
    let mut all = Vec::new();
    let mut add = |what: &str, verdict: Verdict, known: String| {
        all.push(Condition { what: what.into(), verdict, known });
    };
    let sends = if detail.personalized { "uplinks" } else { "join-requests" };
    match device.disabled {
        true => {
            add("It is enabled here", Verdict::Failed, "It is disabled: even if it is heard, it is refused.".into());
        }
        false => add("It is enabled here", Verdict::Passed, "It is.".into()),
    }
    let seen = "This cannot be seen from here: many devices sleep until a button is held or a magnet removed.";
    let (on, seen) = match around.asked_before {
        Some(asked) => (Verdict::Passed, requests_before(asked)),
        None => (Verdict::NotReached, seen.to_owned()),
    };
    add(&format!("It is switched on and sends {sends}"), on, seen);
    let (verdict, known) = gateways(device.region, around.gateways, around.of_estate.is_some());
    add(&format!("A gateway near it listens to {}", device.region), verdict, known);
    let (verdict, known) = match around.of_estate.as_ref().map(|estate| &estate.last_heard) {
        Some(Some((name, ago))) => (Verdict::Passed, format!("{name} was heard {ago}.")),
        Some(None) => (Verdict::Doubtful, "Nothing of any device of this estate was ever heard.".into()),
        None => (Verdict::NotReached, FOR_MEMBERS.into()),
    };
    add("What gateways hear arrives here", verdict, known);
    let plan = device.region.plan();
    let mut channels: Vec<String> =
        plan.join_channels().map(|channel| format!("{}", f64::from(channel.frequency_hz) / 1e6)).collect();
    let more = channels.len().saturating_sub(4);
    channels.truncate(4);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let known = format!("Join-requests of {} go out at {}{more} MHz.", device.region, channels.join(", "));
    add(&format!("Its firmware is set to {}", device.region), Verdict::NotReached, known);
    let (verdict, known) = match (around.asked_before, &around.of_estate) {
        (Some(_), _) => (Verdict::Passed, "It has asked to join with this DevEUI.".to_owned()),
        (None, Some(estate)) => strangers(device.dev_eui, estate.strangers),
        (None, None) => (Verdict::NotReached, format!("Is another one near it that asks to join? {FOR_MEMBERS}")),
    };
    if detail.personalized {
        let known = "Looked at once an uplink comes: an unknown address is shown in the traffic.".into();
        add("DevAddr and session keys are those of the device", Verdict::NotReached, known);
    } else {
        add(&format!("Its DevEUI is {}", device.dev_eui), verdict, known);
        let known = "Looked at once a join-request with this DevEUI comes; the timeline then says which check failed.";
        add("JoinEUI and key are those of the device", Verdict::NotReached, known.into());
    }
    all
}

fn gateways(region: Region, gateways: &[Gateway], named: bool) -> (Verdict, String) {
    let here: Vec<&Gateway> = gateways.iter().filter(|gateway| gateway.region == region).collect();
    if here.is_empty() {
        let others = match gateways.len() {
            0 => "No gateway is registered".to_owned(),
            n => format!("None of the {n} registered gateways is one of {region}"),
        };
        return (Verdict::Failed, format!("{others}. Register one, or correct the device's region."));
    }
    let listening: Vec<&&Gateway> = here.iter().filter(|gateway| gateway.state == GatewayState::Listening).collect();
    if listening.is_empty() {
        let names = listed(here.iter().map(|gateway| gateway.name.as_str()));
        let which = if named { names } else { "the estate's gateways".into() };
        return (Verdict::Failed, format!("None does now: {which} are not heard from."));
    }
    let names = format!(": {}", listed(listening.iter().map(|gateway| gateway.name.as_str())));
    let names = if named { names } else { String::new() };
    (Verdict::Passed, format!("{} of {} do{names}. Whether one is near it is not known.", listening.len(), here.len()))
}

fn strangers(dev_eui: Eui64, strangers: &[DeviceStranger]) -> (Verdict, String) {
    let like = strangers.iter().find(|s| s.resembles.as_ref().is_some_and(|known| known.dev_eui == dev_eui));
    if let Some(like) = like {
        let known = format!(
            "An unregistered device asks to join as {}: nearly the same. If it is this one, correct the registration.",
            like.dev_eui
        );
        return (Verdict::Failed, known);
    }
    match strangers {
        [] => (Verdict::NotReached, "No unregistered device asks to join, so there is nothing to compare with.".into()),
        all => {
            let euis: Vec<String> = all.iter().map(|stranger| stranger.dev_eui.to_string()).collect();
            let known = format!(
                "Unregistered devices ask to join as {}. If one of them is this device, its DevEUI was registered wrongly.",
                listed(euis.iter().map(String::as_str))
            );
            (Verdict::Doubtful, known)
        }
    }
}

/// What is to be said of a device whose joins are accepted, and which is never heard under a session: it does not hear the
/// answers.
pub fn unheard_accepts(detail: &DeviceDetail, timeline: &[Message]) -> Option<Finding> {
    detail.next_session.as_ref()?;
    let since = detail.session.as_ref().map(|session| session.joined_at);
    let fresh = || timeline.iter().filter(|message| since.is_none_or(|since| message.time > since));
    let joins: Vec<(&Message, &Join)> = fresh()
        .filter_map(|message| match &message.body {
            Body::Join(join) if join.rejoin_type.is_none() => Some((message, join)),
            _ => None,
        })
        .collect();
    if joins.len() < UNHEARD {
        return None;
    }
    let (_, last) = joins.first()?;
    let sent: Vec<&SentBy> = fresh()
        .filter_map(|message| match &message.body {
            Body::Downlink(downlink) if downlink.frame.is_none() => downlink.sent.as_ref(),
            _ => None,
        })
        .collect();
    let what = format!(
        "It has asked to join {} times, each request was good, and it was never heard under a session afterwards: it does not hear the join-accepts. {}",
        joins.len(),
        answers(&sent)
    );
    let off_plan = last.checks.first().filter(|check| check.verdict == Verdict::Doubtful);
    let strongest = joins.iter().flat_map(|(_, join)| &join.heard_by).map(|heard| heard.rssi_dbm).reduce(f32::max);
    let region = detail.device.region;
    let plan = region.plan();
    let step = if let Some(why) = &last.unanswered {
        format!("No answer went out: {why}.")
    } else if let Some(found) = off_plan.and_then(|check| check.found.as_ref()) {
        format!("{found}: set the device to {region}, or register it for the region it is set to.")
    } else if strongest.is_some_and(|dbm| dbm < WEAK_DBM) {
        format!(
            "Its requests arrive with {:.0} dBm at best, at the edge; the answer may well not. Take it nearer to a gateway, or see to its antenna, and let it join there.",
            strongest.unwrap_or_default()
        )
    } else {
        let nonces = match detail.whole_radio.mac_version {
            Some(version @ (lorawan::MacVersion::V1_0_4 | lorawan::MacVersion::V1_1)) => format!(
                " In {version} a device refuses a JoinNonce that is not above the last it saw: if it was registered elsewhere before, reset it to factory settings."
            ),
            _ => String::new(),
        };
        format!(
            "The signal is good, so look at the device's windows: 5 s after its request where {region} puts RX1, and 6 s after it at {} MHz with {}.{nonces}",
            f64::from(plan.rx2_frequency_hz) / 1e6,
            plan.data_rate_label(plan.rx2_data_rate)
        )
    };
    Some(finding(Weight::Trouble, "join", what, &step))
}

fn answers(sent: &[&SentBy]) -> String {
    let Some(last) = sent.first() else { return "No gateway has reported sending one.".into() };
    let windows = |name: &str| sent.iter().filter(|by| by.window == name).count();
    format!(
        "{} went out, {} in RX1 and {} in RX2; the last by {} with {} dBm at {} MHz.",
        sent.len(),
        windows("RX1"),
        windows("RX2"),
        last.name,
        last.power_dbm,
        last.radio.frequency_mhz
    )
}

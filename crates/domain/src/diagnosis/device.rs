//! A device's diagnosis: findings, reasons, and next steps.

use api::device::join::DeviceStranger;
use api::device::outbox::OutboxItem;
use api::device::{DeviceDetail, DeviceState};
use api::diagnosis::device::{Finding, Weight};
use api::message::Message;
use chrono::TimeDelta;

use crate::diagnosis::finding;
use crate::diagnosis::join::{requests_before, unheard_accepts};

/// Percent of an hour's allowance from which on airtime is reported.
const MUCH_PERCENT: f64 = 80.0;

/// A downlink that was added this long before the last uplink could have gone with it.
const SETTLING: TimeDelta = TimeDelta::seconds(1);

/// A device's findings, the most important first. From its outbox: the last failed downlink, the number of waiting
/// ones, and the next one. `asked_before` are the join-requests it sent before it was registered.
pub fn findings(
    detail: &DeviceDetail,
    failed: Option<&OutboxItem>,
    next: Option<(u64, &OutboxItem)>,
    timeline: &[Message],
    asked_before: Option<&DeviceStranger>,
) -> Vec<Finding> {
    let mut all = vec![unheard_accepts(detail, timeline).unwrap_or_else(|| state(detail, asked_before))];
    all.extend(radio(detail));
    for band in detail.airtime.iter().filter(|band| band.used_percent >= MUCH_PERCENT) {
        let what = format!(
            "Sub-band {}: {:.1} s on air in the last hour with {} frames; {:.1} s are allowed ({:.0} %).",
            band.sub_band,
            band.airtime_ms / 1000.0,
            band.frames,
            band.allowance_ms / 1000.0,
            band.used_percent
        );
        let weight = if band.used_percent > 100.0 { Weight::Trouble } else { Weight::Attention };
        all.push(finding(
            weight,
            "airtime",
            what,
            "Send less often, or at a faster data rate: `heron airtime calc` shows what fits.",
        ));
    }
    if let Some((waiting, item)) = next {
        let note = item.note.clone().unwrap_or_default();
        // The device was there and it did not go.
        let passed = detail.device.last_heard.is_some_and(|heard| heard > item.added_at + SETTLING);
        let weight = if item.attempts > 0 || passed { Weight::Attention } else { Weight::Fine };
        let what = match waiting {
            1 => format!("One downlink {note}"),
            _ => format!("{waiting} downlinks wait; the first {note}"),
        };
        all.push(finding(weight, "outbox", what, ""));
    }
    if let Some(item) = failed {
        let note = item.note.clone().unwrap_or_default();
        let what = format!("The downlink {} on port {} failed: {note}", item.payload, item.port);
        all.push(finding(Weight::Attention, "outbox", what, ""));
    }
    all.sort_by_key(|finding| finding.weight);
    all
}

fn state(detail: &DeviceDetail, asked_before: Option<&DeviceStranger>) -> Finding {
    let device = &detail.device;
    match (device.state, &device.refusal) {
        (DeviceState::NeverHeard, _) => finding(
            Weight::Trouble,
            "session",
            "Personalized (ABP), and never heard under its session.".into(),
            "Check that it is switched on and near a gateway. Compare DevAddr and session keys with the device.",
        ),
        (DeviceState::NeverJoined, _) if asked_before.is_some() => finding(
            Weight::Attention,
            "join",
            format!("{} None since.", asked_before.map(requests_before).unwrap_or_default()),
            "A device asks again by itself, often after minutes or hours. Restart it to make it ask at once.",
        ),
        (DeviceState::NeverJoined, _) => finding(
            Weight::Trouble,
            "join",
            "No join-request heard yet.".into(),
            "The list below shows what must be true for a join, and what is known of each point.",
        ),
        (DeviceState::Refused, Some(refusal)) => {
            finding(Weight::Trouble, "join", refusal.why.clone(), &refusal.next_step)
        }
        (DeviceState::Refused, None) => finding(Weight::Trouble, "join", "Its frames are refused.".into(), ""),
        (DeviceState::Silent, _) => {
            let usual =
                device.usual_interval_s.map_or_else(String::new, |s| format!(" It usually sends every {s:.0} s."));
            let what = format!("Silent: nothing heard for more than three of its intervals.{usual}");
            let step = "Look at the gateways that heard it last. If they are quiet too, the device is not the cause.";
            finding(Weight::Trouble, "uplinks", what, step)
        }
        (DeviceState::Disabled, _) => finding(
            Weight::Attention,
            "device",
            "Disabled: its frames are refused, and nothing is sent to it.".into(),
            "Enable it to serve it again.",
        ),
        (DeviceState::Active, _) if device.last_heard.is_none() => finding(
            Weight::Fine,
            "uplinks",
            "Joined; no uplink of its new session was heard yet.".into(),
            "If none comes, the device did not hear the join-accept.",
        ),
        (DeviceState::Active, _) => finding(Weight::Fine, "uplinks", "Uplinks arrive on time.".into(), ""),
    }
}

fn radio(detail: &DeviceDetail) -> Vec<Finding> {
    let mut all = Vec::new();
    if let Some(agreement) = &detail.agreement {
        for refused in &agreement.refused {
            let what = format!("It refuses {}, {} times in a row.", refused.what, refused.times);
            let step = format!(
                "It is asked again at {}. Ask for what the device supports, in its radio settings.",
                refused.again_at.format("%Y-%m-%d %H:%M:%S UTC")
            );
            all.push(finding(Weight::Attention, "settings", what, &step));
        }
        if agreement.unanswered > 1 {
            let what = format!(
                "{} requests in a row got no answer: {}.",
                agreement.unanswered,
                agreement.under_way.join(", ")
            );
            all.push(finding(
                Weight::Attention,
                "settings",
                what,
                "Check that it hears downlinks at all: add a confirmed one to its outbox.",
            ));
        } else if let Some(first) = agreement.under_way.first() {
            all.push(finding(Weight::Fine, "settings", format!("Under way: {first}."), ""));
        }
        if let Some(health) = &agreement.health
            && let Some(percent) = health.battery_percent.filter(|percent| *percent < 15.0)
        {
            all.push(finding(
                Weight::Attention,
                "battery",
                format!("Its battery is down to {percent:.0} %."),
                "Plan to replace it.",
            ));
        }
    }
    if let Some(next) = &detail.next_session {
        let what = format!("A new session with DevAddr {} begins with the first uplink under it.", next.dev_addr);
        let step =
            if detail.session.is_none() { "If none comes, the device did not hear the join-accept." } else { "" };
        all.push(finding(Weight::Fine, "session", what, step));
    }
    if let Some(decision) = &detail.rate_decision {
        let weight = match decision.verdict.as_str() {
            "strained" | "lossy" => Weight::Attention,
            _ => Weight::Fine,
        };
        all.push(finding(weight, "data rate", decision.why.clone(), ""));
    }
    all
}

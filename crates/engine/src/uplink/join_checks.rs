//! A join-request check by check: what it passed, where it failed, and what was then not looked at any more.
//!
//! The order is that of [`Engine`](crate::Engine)'s own checks, so each verdict follows from how far a request came.

use lorawan::region::{Plan, Region, Use};

use crate::io::frame::Radio;
use crate::uplink::refusal::{FleetKey, Refusal};

/// The result of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Passed.
    Passed,
    /// Not right, but the request was not refused for it.
    Doubtful,
    /// The request was refused for it.
    Failed,
    /// An earlier one failed.
    NotReached,
}

/// A check of a join-request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JoinCheck {
    /// The condition.
    pub what: &'static str,
    /// The result.
    pub verdict: Verdict,
    /// What was found, where there is more to say.
    pub found: Option<String>,
}

/// The checks in their order. The first two and the last say something about every request.
const CHECKS: [&str; 6] = [
    "its DevEUI is registered",
    "its JoinEUI is that of the registration",
    "it is registered to join (OTAA)",
    "its MIC matches the registered key",
    "its DevNonce is new",
    "it is enabled",
];
const ON_PLAN: &str = "its channel and data rate are those of the region";
const ANSWERED: &str = "a gateway could answer";

/// Which of [`CHECKS`] a refusal is about.
const fn failed_at(refusal: &Refusal) -> Option<usize> {
    match refusal {
        Refusal::UnknownDevEui { .. } | Refusal::DevEuiReversed { .. } | Refusal::EuisSwapped { .. } => Some(0),
        Refusal::WrongJoinEui { .. } => Some(1),
        Refusal::Personalized => Some(2),
        Refusal::JoinMic { .. } => Some(3),
        Refusal::DevNonceUsed { .. } | Refusal::DevNonceNotAbove { .. } => Some(4),
        Refusal::Disabled { joining: true } => Some(5),
        _ => None,
    }
}

/// What distinguishes a failure from the plain "no" of its check.
fn found(refusal: &Refusal) -> String {
    match refusal {
        Refusal::DevEuiReversed { registered, .. } => format!("its bytes are reversed: {registered} is registered"),
        Refusal::EuisSwapped { registered } => format!("DevEUI and JoinEUI are swapped: {registered} is registered"),
        Refusal::UnknownDevEui { dev_eui, .. } => format!("{dev_eui} is not registered, nor are its bytes reversed"),
        Refusal::WrongJoinEui { received, registered } => format!("received {received}, registered {registered}"),
        Refusal::JoinMic { key_reversed: true, .. } => "it matches with the bytes of the key reversed".into(),
        Refusal::JoinMic { app_key_instead: true, .. } => "it matches the AppKey; 1.1 uses the NwkKey".into(),
        Refusal::JoinMic { fleet_key: FleetKey::Of(other), .. } => format!("it matches the key of {other}"),
        Refusal::JoinMic { fleet_key: FleetKey::Nobodys, key, .. } => {
            format!("the {key} differs, and no other key of the fleet matches")
        }
        Refusal::JoinMic { key, .. } => format!("the {key} differs"),
        Refusal::DevNonceUsed { dev_nonce } => {
            format!("{dev_nonce} was used before: the device was reset, or the request is a replay")
        }
        Refusal::DevNonceNotAbove { dev_nonce, last } => {
            format!("{dev_nonce} is not above {last}: the device was reset, or the request is a replay")
        }
        _ => String::new(),
    }
}

/// What is not as a region wants it of a join-request that was sent like this; `None` if all is.
pub fn off_plan(plan: &Plan, radio: Radio) -> Option<String> {
    let fits = |plan: &Plan| {
        let rate = plan.uplink_data_rate_of(radio.modulation);
        plan.join_channels().any(|channel| {
            channel.frequency_hz == radio.frequency_hz
                && rate.is_some_and(|rate| (channel.min_data_rate..=channel.max_data_rate).contains(&rate))
        })
    };
    if fits(plan) {
        return None;
    }
    let mhz = f64::from(radio.frequency_hz) / 1e6;
    let others: Vec<&str> = Region::ALL.into_iter().filter(|r| fits(r.plan())).map(Region::name).collect();
    let whose = match others.as_slice() {
        [] => "nor of any other region".to_owned(),
        all => format!("but it is one of {}", all.join(", ")),
    };
    if plan.join_channels().any(|channel| channel.frequency_hz == radio.frequency_hz) {
        let rates = plan.data_rates().filter(|(_, rate)| rate.direction != Use::Down).count();
        return Some(format!(
            "{} is none of the {rates} data rates that {} has for join-requests at {mhz} MHz",
            radio.modulation, plan.name
        ));
    }
    Some(format!("{mhz} MHz is not a channel for join-requests in {}, {whose}", plan.name))
}

/// The verdicts on a join-request: of the one that was accepted, if `refusal` is `None`, with why it could not be
/// answered. Nothing for what is not a join-request.
pub fn join_checks(plan: &Plan, radio: Radio, refusal: Option<&Refusal>, unanswered: Option<&str>) -> Vec<JoinCheck> {
    let failed = match refusal.map(failed_at) {
        None => CHECKS.len(),
        Some(Some(at)) => at,
        Some(None) => return Vec::new(),
    };
    let aside = off_plan(plan, radio);
    let verdict = if aside.is_some() { Verdict::Doubtful } else { Verdict::Passed };
    let mut all = vec![JoinCheck { what: ON_PLAN, verdict, found: aside }];
    all.extend(CHECKS.into_iter().enumerate().map(|(at, what)| match refusal {
        Some(refusal) if at == failed => {
            let found = Some(found(refusal)).filter(|found| !found.is_empty());
            JoinCheck { what, verdict: Verdict::Failed, found }
        }
        _ if at < failed => JoinCheck { what, verdict: Verdict::Passed, found: None },
        _ => JoinCheck { what, verdict: Verdict::NotReached, found: None },
    }));
    let (verdict, found) = match (refusal, unanswered) {
        (Some(_), _) => (Verdict::NotReached, None),
        (None, Some(why)) => (Verdict::Failed, Some(why.to_owned())),
        (None, None) => (Verdict::Passed, None),
    };
    all.push(JoinCheck { what: ANSWERED, verdict, found });
    all
}

#[cfg(test)]
mod tests {
    use lorawan::{Bandwidth, Eui64, Modulation, SpreadingFactor};

    use super::*;

    fn radio(frequency_hz: u32, sf: u8) -> Radio {
        let spreading_factor = SpreadingFactor::new(sf).unwrap();
        Radio { frequency_hz, modulation: Modulation::Lora { spreading_factor, bandwidth: Bandwidth::Khz125 } }
    }

    fn verdicts(checks: &[JoinCheck]) -> String {
        let sign = |check: &JoinCheck| match check.verdict {
            Verdict::Passed => '+',
            Verdict::Doubtful => '?',
            Verdict::Failed => '!',
            Verdict::NotReached => '.',
        };
        checks.iter().map(sign).collect()
    }

    #[test]
    fn a_refusal_ends_the_checks_where_it_failed() {
        let plan = Region::Eu868.plan();
        let (ours, other) = (Eui64(1), Eui64(2));
        let mic =
            |fleet_key| Refusal::JoinMic { key: "AppKey", key_reversed: false, app_key_instead: false, fleet_key };
        for (refusal, wanted, said) in [
            (Refusal::UnknownDevEui { dev_eui: ours, join_eui: other }, "+!......", "nor are its bytes reversed"),
            (Refusal::EuisSwapped { registered: ours }, "+!......", "are swapped"),
            (Refusal::WrongJoinEui { received: ours, registered: other }, "++!.....", "registered 0000000000000002"),
            (mic(FleetKey::Of(other)), "++++!...", "the key of 0000000000000002"),
            (Refusal::DevNonceUsed { dev_nonce: 7 }, "+++++!..", "7 was used before"),
        ] {
            let checks = join_checks(plan, radio(868_100_000, 12), Some(&refusal), None);
            assert_eq!(verdicts(&checks), wanted, "{refusal:?}");
            let found = checks.iter().find_map(|check| check.found.as_deref()).unwrap();
            assert!(found.contains(said), "{found}");
        }
        assert_eq!(join_checks(plan, radio(868_100_000, 12), Some(&Refusal::RejoinVersion), None), []);
    }

    #[test]
    fn a_request_off_the_plan_names_the_regions_it_fits() {
        let checks = join_checks(Region::Eu868.plan(), radio(865_062_500, 10), None, None);
        assert_eq!(verdicts(&checks), "?+++++++");
        assert!(checks[0].found.as_ref().unwrap().contains("it is one of IN865"), "{checks:?}");
        let nowhere = off_plan(Region::Eu868.plan(), radio(868_200_000, 10)).unwrap();
        assert!(nowhere.contains("868.2 MHz") && nowhere.contains("nor of any other"), "{nowhere}");
        // A fixed plan has narrow channels for slow data rates only.
        let slow = off_plan(Region::Us915.plan(), radio(902_300_000, 12)).unwrap();
        assert!(slow.contains("SF12") && slow.contains("US915"), "{slow}");
    }

    #[test]
    fn an_accepted_request_may_stay_without_answer() {
        let plan = Region::Eu868.plan();
        assert_eq!(verdicts(&join_checks(plan, radio(868_100_000, 7), None, None)), "++++++++");
        assert_eq!(verdicts(&join_checks(plan, radio(868_100_000, 7), None, Some("no gateway"))), "+++++++!");
    }
}

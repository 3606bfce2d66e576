//! One downlink for each of many devices: over what time they are spread.

use api::device::round::NewRound;
use api::problem::{Problem, bad_field};
use lorawan::airtime;
use lorawan::region::Region;

use crate::device::change::MOST_DEVICES;
use crate::input;

/// The longest time a round is spread over, in seconds.
pub const LONGEST_S: f64 = 7.0 * 86_400.0;
/// The share of a gateway's airtime that a round takes at most, if nobody says over what time it is spread.
const SHARE: f64 = 0.5;
/// The duty cycle that is assumed of a gateway in regions with such limits (EN 300 220-2, band M).
const DUTY_CYCLE: f64 = 0.01;
/// The shortest time between two downlinks of a round, in seconds.
const LEAST_APART_S: f64 = 0.2;
/// Header, port and MIC around a payload (TS001-1.0.4 §4.1): 1 + 7 + 1 + 4 bytes.
const AROUND: usize = 13;

/// Checks who is meant, and for how long.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check(wanted: &NewRound) -> Result<(), Problem> {
    let by_filter = wanted.fleet.is_some() || wanted.model.is_some() || wanted.tag.is_some();
    match (by_filter, wanted.devices.len()) {
        (false, 0) => return Err(bad_field("devices", "none", "fleet, model, tag or devices say who is meant")),
        (true, 1..) => return Err(bad_field("devices", "some", "either devices, or fleet, model and tag")),
        (_, count) if count > MOST_DEVICES => {
            return Err(bad_field("devices", &count.to_string(), format!("at most {MOST_DEVICES} are allowed")));
        }
        _ => {}
    }
    if let Some(over_s) = wanted.over_s {
        input::range("over_s", over_s, 0.0, LONGEST_S, "s")?;
    }
    if wanted.downlink.first {
        return Err(bad_field("downlink.first", "true", "leave it out: a round does not go before what waits"));
    }
    Ok(())
}

/// Airtime of a downlink at the data rate of RX2, in microseconds.
pub fn airtime_us(region: Region, payload: usize) -> u64 {
    let plan = region.plan();
    let rate = plan.data_rates().find(|(index, _)| *index == plan.rx2_data_rate);
    rate.map_or(0, |(_, rate)| airtime::downlink_us(rate.modulation, AROUND + payload))
}

/// Over how many seconds downlinks are spread: with a duty cycle so long that they take at most half of what the gateways
/// that listen may send.
pub fn spread_s(airtimes_us: &[u64], gateways: usize, has_duty_cycle: bool) -> f64 {
    let apart_s = airtimes_us.len().saturating_sub(1) as f64 * LEAST_APART_S;
    if !has_duty_cycle {
        return apart_s;
    }
    let total_s = airtimes_us.iter().sum::<u64>() as f64 / 1e6;
    (total_s / (SHARE * DUTY_CYCLE * gateways.max(1) as f64)).max(apart_s).min(LONGEST_S)
}

#[cfg(test)]
mod tests {
    use api::device::outbox::NewOutboxItem;

    use super::*;

    #[test]
    fn a_round_says_who_is_meant() {
        let fleet = NewRound { fleet: Some("tide".into()), ..NewRound::default() };
        assert!(check(&fleet).is_ok());
        let field = |wanted: NewRound| check(&wanted).unwrap_err().field.unwrap();
        assert_eq!(field(NewRound::default()), "devices");
        assert_eq!(field(NewRound { devices: vec!["02".into()], ..fleet.clone() }), "devices");
        assert_eq!(field(NewRound { over_s: Some(1e9), ..fleet.clone() }), "over_s");
        let first = NewOutboxItem { first: true, ..NewOutboxItem::default() };
        assert_eq!(field(NewRound { downlink: first, ..fleet }), "downlink.first");
    }

    #[test]
    fn a_round_leaves_half_of_the_airtime_to_others() {
        // One byte at SF12/125 kHz in RX2 of EU868: 1,155 ms (Semtech AN1200.13 §4).
        let one = airtime_us(Region::Eu868, 1);
        assert!((1_100_000..1_200_000).contains(&one), "{one}");
        let hundred = vec![1_000_000; 100];
        assert_eq!(spread_s(&hundred, 2, true), 10_000.0);
        assert_eq!(spread_s(&hundred, 0, true), 20_000.0, "as with one");
        assert!((spread_s(&hundred, 2, false) - 19.8).abs() < 1e-9);
        assert_eq!(spread_s(&[1_000_000], 1, false), 0.0);
        assert_eq!(spread_s(&vec![1_000_000; 10_000], 1, true), LONGEST_S);
    }
}

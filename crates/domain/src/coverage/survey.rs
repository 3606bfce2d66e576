//! The survey: what uplinks are evidence of, how those of devices that stand still are thinned, and what is told of it.

use std::collections::{BTreeMap, HashMap};

use api::coverage::survey::SurveyQuantity;
use api::message::{Body, Message, Reading, ReadingValue};
use coverage::survey::areas::{AreaKind, FoundArea, WEAK_DB};
use coverage::survey::changes::{Change, Whose};
use coverage::survey::hexagons::Quantity;
use lorawan::Eui64;
use lorawan::modulation::SpreadingFactor;
use lorawan::region::Region;

use super::forecast::rates;

/// Of a device that stands still, one uplink in this time is kept.
const STILL_S: i64 = 600;
/// A counter that goes on after a larger gap has not lost that many uplinks: it was set.
const MOST_LOST: u32 = 1_000;
/// Devices that are followed at the same time.
const MOST_DEVICES: usize = 200_000;

/// An uplink as evidence, before it is known what it stands for.
#[derive(Debug, Clone, PartialEq)]
pub struct Evidence {
    /// The device.
    pub dev_eui: Eui64,
    /// When, in seconds since 1970.
    pub at_s: i64,
    /// The frame counter.
    pub counter: u32,
    /// Latitude and longitude, if the device told them.
    pub told_place: Option<(f64, f64)>,
    /// The index of its data rate.
    pub data_rate: u8,
    /// The SNR that the data rate needs, in dB.
    pub needed_snr_db: f64,
    /// What the device was told to transmit with, in dBm.
    pub power_dbm: Option<f64>,
    /// Each gateway with RSSI in dBm and SNR in dB.
    pub heard: Vec<(Eui64, f32, f32)>,
}

/// What a message is evidence of. FSK has no SNR, and says nothing here.
pub fn evidence(message: &Message) -> Option<Evidence> {
    let Body::Uplink(sent) = &message.body else { return None };
    if sent.rehearsed.is_some() {
        return None;
    }
    let factor = sent.radio.spreading_factor.and_then(SpreadingFactor::new)?;
    let heard = sent.heard_by.iter().filter_map(|one| Some((one.gateway, one.rssi_dbm, one.snr_db?)));
    let told_place = position(&sent.readings);
    Some(Evidence {
        dev_eui: message.device.as_ref()?.eui,
        at_s: message.time.timestamp(),
        counter: sent.frame.counter,
        told_place,
        data_rate: sent.radio.data_rate?,
        needed_snr_db: factor.required_snr_db(),
        power_dbm: sent.radio.power_dbm,
        heard: heard.collect(),
    })
}

/// A position among readings: a latitude and a longitude that have the rest of their names in common.
pub fn position(readings: &BTreeMap<String, Reading>) -> Option<(f64, f64)> {
    let number = |name: &str| match readings.get(name)?.value {
        ReadingValue::Number(number) if number.is_finite() => Some(number),
        _ => None,
    };
    readings.keys().find_map(|name| {
        let (before, last) =
            name.rsplit_once('.').map_or(("", name.as_str()), |(_, last)| (&name[..name.len() - last.len()], last));
        let longitudes: &[&str] = match last {
            "latitude" => &["longitude"],
            "lat" => &["lon", "lng", "long"],
            _ => return None,
        };
        let longitude = longitudes.iter().find_map(|last| number(&format!("{before}{last}")))?;
        Some((number(name)?, longitude))
    })
}

/// Follows devices, to know what an uplink stands for.
#[derive(Debug, Default)]
pub struct Thinner(HashMap<Eui64, Followed>);

#[derive(Debug, Clone, Copy)]
struct Followed {
    kept_s: i64,
    counter: u32,
    uplinks: u16,
    lost: u16,
}

impl Thinner {
    /// How many uplinks this one stands for, and how many were lost before it; `None` if it is not kept.
    pub fn keep(&mut self, seen: &Evidence) -> Option<(u16, u16)> {
        if self.0.len() >= MOST_DEVICES && !self.0.contains_key(&seen.dev_eui) {
            self.0.clear();
        }
        let Some(followed) = self.0.get_mut(&seen.dev_eui) else {
            let new = Followed { kept_s: seen.at_s, counter: seen.counter, uplinks: 0, lost: 0 };
            self.0.insert(seen.dev_eui, new);
            return Some((1, 0));
        };
        let missed = seen.counter.checked_sub(followed.counter).map_or(0, |gap| gap.saturating_sub(1));
        if missed <= MOST_LOST {
            followed.lost = followed.lost.saturating_add(missed as u16);
        }
        followed.counter = seen.counter;
        followed.uplinks = followed.uplinks.saturating_add(1);
        let waits = (0..STILL_S).contains(&(seen.at_s - followed.kept_s));
        if seen.told_place.is_none() && waits {
            return None;
        }
        followed.kept_s = seen.at_s;
        Some((std::mem::take(&mut followed.uplinks), std::mem::take(&mut followed.lost)))
    }
}

/// What a device of a region has more at full power and at the slowest data rate, in dB.
pub fn reserve_db(region: Region, needed_snr_db: f64, power_dbm: f64) -> f64 {
    let slowest_db = rates(region).iter().filter_map(|(_, rate)| rate.required_snr_db()).fold(needed_snr_db, f64::min);
    needed_snr_db - slowest_db + (full_power_dbm(region) - power_dbm).max(0.0)
}

/// The most that devices of a region transmit (EIRP), in dBm.
pub fn full_power_dbm(region: Region) -> f64 {
    f64::from(region.plan().tx_power.max_dbm)
}

/// The quantity that a word stands for.
pub const fn quantity(word: SurveyQuantity) -> Quantity {
    match word {
        SurveyQuantity::Margin => Quantity::Margin,
        SurveyQuantity::Reserve => Quantity::Reserve,
        SurveyQuantity::Rssi => Quantity::Rssi,
        SurveyQuantity::Snr => Quantity::Snr,
        SurveyQuantity::DataRate => Quantity::DataRate,
        SurveyQuantity::BestGateway => Quantity::BestGateway,
        SurveyQuantity::Gateways => Quantity::Gateways,
        SurveyQuantity::Heard => Quantity::Heard,
        SurveyQuantity::Count => Quantity::Count,
    }
}

/// The word for a quantity.
pub const fn quantity_word(quantity: Quantity) -> SurveyQuantity {
    match quantity {
        Quantity::Margin => SurveyQuantity::Margin,
        Quantity::Reserve => SurveyQuantity::Reserve,
        Quantity::Rssi => SurveyQuantity::Rssi,
        Quantity::Snr => SurveyQuantity::Snr,
        Quantity::DataRate => SurveyQuantity::DataRate,
        Quantity::BestGateway => SurveyQuantity::BestGateway,
        Quantity::Gateways => SurveyQuantity::Gateways,
        Quantity::Heard => SurveyQuantity::Heard,
        Quantity::Count => SurveyQuantity::Count,
    }
}

/// A value in words; `gateways` are the names of the numbers of [`Quantity::BestGateway`].
pub fn quantity_words(quantity: Quantity, value: f64, gateways: &[impl AsRef<str>]) -> String {
    match quantity {
        Quantity::BestGateway => gateways.get(value as usize).map_or("?", AsRef::as_ref).to_owned(),
        Quantity::DataRate => format!("DR{value:.0}"),
        _ => format!("{value:.0}{}", quantity.legend().unit),
    }
}

/// What to do about an area that is poorly covered.
pub fn next_step(area: &FoundArea, best_gateway: Option<&str>) -> String {
    let best = best_gateway.unwrap_or("no gateway");
    let (lost, sent) = (area.lost, area.lost.saturating_add(area.uplinks));
    match area.kind {
        AreaKind::Dark if area.uplinks == 0 => {
            "Nothing arrives from here: plan a gateway nearby, and see with a forecast what it adds.".into()
        }
        AreaKind::Dark | AreaKind::Weak if area.margin_db >= WEAK_DB => format!(
            "{lost} of {sent} uplinks are lost although {best} hears the others {:.0} dB above what the slowest data rate needs at full power: look for interference, for dips in the ground, and for a data rate that is too fast for devices that move.",
            area.margin_db
        ),
        AreaKind::Dark => format!(
            "{lost} of {sent} uplinks are lost; {best} hears the others best. Plan a gateway nearby, and see with a forecast what it adds."
        ),
        AreaKind::Weak => format!(
            "{best} hears it best, {:.0} dB above what the slowest data rate needs at full power. Raise antennas there, or plan a gateway nearby.",
            area.margin_db
        ),
        AreaKind::OneGateway => {
            format!("If {best} fails, nothing is heard from here. A second gateway in reach would keep it.")
        }
    }
}

/// What has changed, and what to do; `name` is the device's or gateway's.
pub fn change_words(change: &Change, name: &str) -> (String, String) {
    let db = change.step.change_db();
    let much = format!("{:.1} dB {}", db.abs(), if db < 0.0 { "weaker" } else { "stronger" });
    let Change { links, of, .. } = change;
    let what = match change.whose {
        Whose::Gateway(_) => format!("Signals at {name} are {much}, of {links} of {of} devices."),
        Whose::Device(_) => format!("{name} is {much}, at {links} of {of} gateways."),
    };
    let next = match (change.whose, db < 0.0) {
        (Whose::Gateway(_), true) => "Look at its antenna, its cable and the connectors.",
        (Whose::Device(_), true) => "Look at its antenna, at its place, and at what stands around it now.",
        (_, false) => "Nothing needs to be done.",
    };
    (what, next.into())
}

#[cfg(test)]
mod tests {
    use coverage::survey::steps::Step;
    use serde_json::json;

    use super::*;

    fn uplink(readings: &serde_json::Value, spreading_factor: Option<u8>) -> Message {
        serde_json::from_value(json!({
            "type": "uplink", "id": "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C", "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey",
            "fleet": "grazing", "device": { "eui": "02b0090000000001", "name": "collar-01" },
            "frame": { "counter": 12, "port": 2, "confirmed": false, "payload": "01" },
            "radio": { "region": "EU868", "data_rate": 3, "spreading_factor": spreading_factor, "bandwidth_khz": 125,
                "frequency_mhz": 868.1, "airtime_ms": 100.0, "power_dbm": 12.0 },
            "readings": readings, "warnings": [],
            "heard_by": [
                { "gateway": "02a1f00000000001", "name": "a", "rssi_dbm": -101.0, "snr_db": 2.5 },
                { "gateway": "02a1f00000000002", "name": "b", "rssi_dbm": -80.0 }
            ]
        }))
        .unwrap()
    }

    #[test]
    fn an_uplink_says_where_it_was_sent_and_who_heard_it() {
        let place =
            json!({ "position.latitude": { "value": 54.71, "unit": "°" }, "position.longitude": { "value": 3.95 } });
        let seen = evidence(&uplink(&place, Some(9))).unwrap();
        assert_eq!((seen.told_place, seen.counter, seen.power_dbm), (Some((54.71, 3.95)), 12, Some(12.0)));
        assert_eq!((seen.needed_snr_db, seen.data_rate), (-12.5, 3));
        assert_eq!(seen.heard, [(Eui64(0x02a1_f000_0000_0001), -101.0, 2.5)], "without SNR there is nothing to tell");
        assert_eq!(evidence(&uplink(&json!({}), None)), None, "FSK");
        let others = [
            json!({ "lat": { "value": 54.7 }, "lng": { "value": 3.9 } }),
            json!({ "a.latitude": { "value": 54.7 }, "b.longitude": { "value": 3.9 } }),
            json!({ "latitude": { "value": "54.7" }, "longitude": { "value": 3.9 } }),
        ];
        let places: Vec<_> = others.map(|one| evidence(&uplink(&one, Some(9))).unwrap().told_place).into();
        assert_eq!(places, [Some((54.7, 3.9)), None, None]);
    }

    #[test]
    fn a_device_that_stands_still_counts_every_ten_minutes() {
        let mut thinner = Thinner::default();
        let first = evidence(&uplink(&json!({}), Some(9))).unwrap();
        let mut at = |minutes: i64, counter: u32, told: bool| {
            let told_place = told.then_some((54.7, 3.9));
            thinner.keep(&Evidence { at_s: first.at_s + minutes * 60, counter, told_place, ..first.clone() })
        };
        assert_eq!(at(0, 12, false), Some((1, 0)));
        assert_eq!((at(3, 13, false), at(6, 16, false)), (None, None));
        assert_eq!(at(10, 17, false), Some((3, 2)), "two of the ten minutes were lost");
        assert_eq!(at(11, 18, true), Some((1, 0)), "one that moves is always kept");
        assert_eq!(at(30, 0, false), Some((1, 0)), "it joined again");
        assert_eq!(at(60, 60_000, false), Some((1, 0)), "such a gap is no loss");
        assert_eq!(at(20, 60_001, false), Some((1, 0)), "the clock was set back");
    }

    #[test]
    fn reserve_is_power_and_slower_data_rates() {
        assert_eq!(reserve_db(Region::Eu868, -7.5, 16.0), 12.5);
        assert_eq!(reserve_db(Region::Eu868, -20.0, 10.0), 6.0);
        // The slowest uplink of US915 is SF10.
        assert_eq!(reserve_db(Region::Us915, -7.5, 30.0), 7.5);
    }

    #[test]
    fn words_name_what_changed_and_by_how_much() {
        for quantity in Quantity::ALL {
            assert_eq!(super::quantity(quantity_word(quantity)), quantity);
        }
        assert_eq!(quantity_words(Quantity::Rssi, -97.0, &[""; 0]), "-97 dBm");
        assert_eq!(quantity_words(Quantity::BestGateway, 1.0, &["a", "b"]), "b");
        let step = Step { at_s: 0, before_db: 1.0, after_db: -5.2 };
        let change = |whose| Change { whose, step, links: 11, of: 12 };
        let (what, next) = change_words(&change(Whose::Gateway(7)), "north-weir");
        assert_eq!(what, "Signals at north-weir are 6.2 dB weaker, of 11 of 12 devices.");
        assert!(next.contains("antenna"), "{next}");
        assert!(change_words(&change(Whose::Device(7)), "tide-05").0.contains("at 11 of 12 gateways"));
        let better = Step { before_db: -6.0, after_db: 0.0, ..step };
        let (what, next) = change_words(&Change { step: better, ..change(Whose::Gateway(7)) }, "north-weir");
        assert!(what.contains("6.0 dB stronger") && next.contains("Nothing"), "{what} {next}");
    }
}

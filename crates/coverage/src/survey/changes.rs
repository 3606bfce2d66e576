//! Whose signal has changed: a gateway's, if most devices that it hears have changed with it; else a device's.

use std::collections::{BTreeMap, BTreeSet};

use super::median;
use super::record::{Filter, Record};
use super::steps::{Step, steps};

/// Whose antenna, cable or place it may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Whose {
    /// A gateway's.
    Gateway(u64),
    /// A device's.
    Device(u64),
}

/// A change of level that was found.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Change {
    /// Whose.
    pub whose: Whose,
    /// When, and by how much. Levels are relative to each link's middle.
    pub step: Step,
    /// Links that changed.
    pub links: usize,
    /// Links that were heard before and after.
    pub of: usize,
}

/// Smaller changes are not told, in dB.
const LEAST_DB: f64 = 3.0;
/// A link with fewer values has no middle.
const LEAST_VALUES: usize = 24;
/// The share of a gateway's links that change when the gateway has changed.
const MOST_LINKS: f64 = 0.6;
/// Days before and after a step that its links are compared over.
const AROUND_S: i64 = 7 * 86_400;
/// Values that such a part of a link needs.
const AROUND: usize = 6;
/// A link has changed if it did by this share of the step.
const SAME: f64 = 0.5;

type Values = Vec<(i64, f64)>;

/// The levels of links, by device and gateway.
#[derive(Debug, Default)]
struct Links(BTreeMap<(u64, u64), Values>);

/// The strength of a device at a gateway over time, as if it had always sent with the same power: the signal without noise
/// less the power, in dB.
pub fn levels(record: &Record, device: u64, gateway: u64) -> Vec<(i64, f64)> {
    let filter = Filter { device: Some(device), ..Filter::default() };
    let level =
        |seen: super::record::Seen<'_>| Some((seen.at_s(), seen.by(Some(gateway))?.signal_dbm() - seen.power_dbm()));
    record.seen(&filter, 0).filter_map(level).collect()
}

/// The changes in a record, the oldest first. Devices that move have none.
pub fn changes(record: &Record) -> Vec<Change> {
    let mut links = Links::of(record);
    let (gateways, devices): (BTreeSet<u64>, BTreeSet<u64>) =
        (links.0.keys().map(|(_, gateway)| *gateway).collect(), links.0.keys().map(|(device, _)| *device).collect());
    let mut found = Vec::new();
    for gateway in gateways {
        let of_it = |(_, of): &(u64, u64)| *of == gateway;
        let its_links = links.0.iter().filter(|(link, _)| of_it(link)).map(|(_, values)| values);
        for step in steps(&pooled(its_links), LEAST_DB) {
            let (changed, of) = links.changed(&step, &of_it);
            // Of one link nobody can tell which end has changed.
            if of < 2 || (changed as f64) < MOST_LINKS * of as f64 {
                continue;
            }
            found.push(Change { whose: Whose::Gateway(gateway), step, links: changed, of });
            links.take_out(&step, &of_it);
        }
    }
    for device in devices {
        let of_it = |(of, _): &(u64, u64)| *of == device;
        let its_links = links.0.range((device, 0)..=(device, u64::MAX)).map(|(_, values)| values);
        for step in steps(&pooled(its_links), LEAST_DB) {
            let (changed, of) = links.changed(&step, &of_it);
            if changed > 0 {
                found.push(Change { whose: Whose::Device(device), step, links: changed, of });
            }
        }
    }
    found.sort_by_key(|change| (change.step.at_s, change.whose));
    found
}

/// The values of some links together.
fn pooled<'a>(links: impl Iterator<Item = &'a Values>) -> Values {
    links.flatten().copied().collect()
}

impl Links {
    /// The links of a record, each less its middle.
    fn of(record: &Record) -> Self {
        let mut links = Self::default();
        for seen in record.seen(&Filter::default(), 0).filter(|seen| !seen.moves()) {
            for heard in seen.heard() {
                let level = (seen.at_s(), heard.signal_dbm() - seen.power_dbm());
                links.0.entry((seen.device(), heard.gateway)).or_default().push(level);
            }
        }
        links.0.retain(|_, values| values.len() >= LEAST_VALUES);
        for values in links.0.values_mut() {
            let mut levels: Vec<f64> = values.iter().map(|(_, level)| *level).collect();
            let middle = median(&mut levels).unwrap_or(0.0);
            values.iter_mut().for_each(|(_, level)| *level -= middle);
        }
        links
    }

    /// How many links have changed at a step, and how many were heard before and after.
    fn changed(&self, step: &Step, of: &impl Fn(&(u64, u64)) -> bool) -> (usize, usize) {
        let part = |values: &Values, from_s: i64, until_s: i64| {
            let mut part: Vec<f64> =
                values.iter().filter(|(at_s, _)| (from_s..until_s).contains(at_s)).map(|(_, level)| *level).collect();
            (part.len() >= AROUND).then(|| median(&mut part))?
        };
        let by = |values: &Values| {
            let before = part(values, step.at_s - AROUND_S, step.at_s)?;
            Some(part(values, step.at_s, step.at_s + AROUND_S)? - before)
        };
        let all: Vec<f64> = self.0.iter().filter(|(link, _)| of(link)).filter_map(|(_, values)| by(values)).collect();
        let change_db = step.change_db();
        let same = all.iter().filter(|db| **db * change_db.signum() >= SAME * change_db.abs());
        (same.count(), all.len())
    }

    /// Gives back what a step has taken, so that it is not found again elsewhere.
    fn take_out(&mut self, step: &Step, of: &impl Fn(&(u64, u64)) -> bool) {
        let later = self.0.iter_mut().filter(|(link, _)| of(link)).flat_map(|(_, values)| values.iter_mut());
        later.filter(|(at_s, _)| *at_s >= step.at_s).for_each(|(_, level)| *level -= step.change_db());
    }
}

#[cfg(test)]
mod tests {
    use super::super::observation::tests::{MIDDLE, START_S, observed};
    use super::super::observation::{Heard, Observation};
    use super::*;

    const DAY: i64 = 86_400;

    /// Twenty days of four devices that three gateways hear; `off` says by how much a link is stronger on a day.
    fn record(off: impl Fn(u64, u64, i64) -> f32) -> Record {
        let mut record = Record::default();
        for n in 0..20 * 24 {
            for device in 1..=4u64 {
                let at_s = n * 3_600 + device as i64;
                let fading = ((n * 31 + device as i64 * 17) % 11) as f32 / 2.0 - 2.5;
                let level = |gateway: u64| -90.0 - gateway as f32 * 5.0 + fading + off(device, gateway, at_s / DAY);
                let heard = (1..=3).map(|gateway| Heard { gateway, rssi_dbm: level(gateway), snr_db: 9.0 }).collect();
                let one = Observation { device, moves: false, heard, ..observed(MIDDLE, at_s, 0.0) };
                record.add(&one).unwrap();
            }
        }
        record
    }

    #[test]
    fn a_gateways_antenna_is_told_from_a_devices() {
        let off = |device, gateway, day| {
            (if gateway == 2 && day >= 12 { -6.0 } else { 0.0 }) - if device == 3 && day >= 6 { 9.0 } else { 0.0 }
        };
        let found = changes(&record(off));
        let whose: Vec<Whose> = found.iter().map(|change| change.whose).collect();
        assert_eq!(whose, [Whose::Device(3), Whose::Gateway(2)], "{found:#?}");
        let gateway = found[1];
        assert!((gateway.step.change_db() + 6.0).abs() < 1.5 && (gateway.links, gateway.of) == (4, 4), "{gateway:?}");
        let off_h = (gateway.step.at_s - START_S - 12 * DAY) / 3_600;
        assert!(off_h.abs() < 30, "{off_h} h");
        assert!((found[0].step.change_db() + 9.0).abs() < 1.5, "{found:#?}");
    }

    #[test]
    fn power_that_is_taken_off_is_no_change() {
        let mut with_power = Record::default();
        for n in 0..20 * 24i64 {
            let lowered = if n > 240 { 8.0 } else { 0.0 };
            let mut one = observed(MIDDLE, n * 3_600, -90.0 - lowered as f32 + (n % 7) as f32 / 3.0);
            (one.moves, one.power_dbm) = (false, 14.0 - lowered);
            with_power.add(&one).unwrap();
        }
        assert_eq!(changes(&with_power), []);
        assert_eq!(levels(&with_power, 1, 7).len(), 480);
        assert_eq!(levels(&with_power, 1, 8), []);
        assert_eq!(changes(&Record::default()), []);
    }

    #[test]
    fn one_link_alone_is_the_devices_and_a_moving_one_is_nobodys() {
        let one = |moves: bool| {
            let mut record = Record::default();
            for n in 0..20 * 24i64 {
                let level = if n > 240 { -99.0 } else { -90.0 };
                let seen = observed(MIDDLE, n * 3_600, level + (n % 7) as f32 / 3.0);
                record.add(&Observation { moves, ..seen }).unwrap();
            }
            changes(&record).iter().map(|change| change.whose).collect::<Vec<_>>()
        };
        assert_eq!(one(false), [Whose::Device(1)]);
        assert_eq!(one(true), []);
    }
}

//! What a survey says of each gateway: how much it heard, and the noise at its antenna.

use std::collections::{BTreeMap, BTreeSet};

use super::median;
use super::record::{Filter, Record};

/// A gateway in a survey.
#[derive(Debug, Clone, PartialEq)]
pub struct Surveyed {
    /// Its EUI.
    pub gateway: u64,
    /// Uplinks that it heard.
    pub heard: u32,
    /// Devices that it heard.
    pub devices: usize,
    /// The median noise in its channels, in dBm; none if all that it heard was strong.
    pub noise_dbm: Option<f64>,
}

/// Above this SNR its value says little of the noise, for receivers end their scale a little higher, in dB.
const STRONG_DB: f64 = 5.0;
/// Fewer values are no noise floor.
const LEAST_VALUES: usize = 10;

#[derive(Debug, Default)]
struct Tally {
    heard: u32,
    devices: BTreeSet<u64>,
    noise_dbm: Vec<f64>,
}

/// The gateways of a record, those that heard most first.
pub fn gateways(record: &Record, filter: &Filter) -> Vec<Surveyed> {
    let mut all: BTreeMap<u64, Tally> = BTreeMap::new();
    for seen in record.seen(filter, 0) {
        for heard in seen.heard() {
            let tally = all.entry(heard.gateway).or_default();
            tally.heard = tally.heard.saturating_add(seen.counts().0);
            tally.devices.insert(seen.device());
            let snr_db = f64::from(heard.snr_db);
            if snr_db < STRONG_DB {
                tally.noise_dbm.push(heard.signal_dbm() - snr_db);
            }
        }
    }
    let told = |(gateway, mut tally): (u64, Tally)| {
        let enough = tally.noise_dbm.len() >= LEAST_VALUES;
        let noise_dbm = median(&mut tally.noise_dbm).filter(|_| enough);
        Surveyed { gateway, heard: tally.heard, devices: tally.devices.len(), noise_dbm }
    };
    let mut all: Vec<Surveyed> = all.into_iter().map(told).collect();
    all.sort_by(|a, b| (b.heard, a.gateway).cmp(&(a.heard, b.gateway)));
    all
}

#[cfg(test)]
mod tests {
    use super::super::observation::tests::{MIDDLE, observed};
    use super::super::observation::{Heard, Observation};
    use super::*;

    #[test]
    fn noise_is_told_by_weak_signals() {
        let mut record = Record::default();
        for n in 0..20u8 {
            // Noise of -117 dBm and a signal 5 dB below it: RSSI is the sum of both.
            let weak = Heard { gateway: 7, rssi_dbm: -117.0 + 1.19, snr_db: -5.0 };
            let strong = Heard { gateway: 8, rssi_dbm: -60.0, snr_db: 12.0 };
            let one = Observation { device: u64::from(n % 4), ..observed(MIDDLE, i64::from(n) * 60, 0.0) };
            record.add(&Observation { heard: vec![weak, strong], ..one }).unwrap();
        }
        record.add(&observed(MIDDLE, 9_000, -90.0)).unwrap();
        let all = gateways(&record, &Filter::default());
        assert_eq!((all[0].gateway, all[0].heard, all[0].devices), (7, 21, 4));
        assert!((all[0].noise_dbm.unwrap() + 117.0).abs() < 0.1, "{all:?}");
        assert_eq!((all[1].gateway, all[1].noise_dbm), (8, None));
    }
}

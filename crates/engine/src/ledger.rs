//! The account of transmitted airtime, per transmitter and sub-band.
//!
//! Duty cycle is observed over one hour (EN 300 220-1 V3.1.1 §5.4). The account is kept by the
//! minute, and the oldest minute counts until it lies wholly outside the hour: a sum may be too high
//! by what was sent in one minute, never too low.

use std::collections::VecDeque;

use lorawan::Eui64;
use lorawan::region::{Plan, SubBand};

use crate::time::Timestamp;

const HOUR_MINUTES: i64 = 60;

/// Who transmits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Transmitter {
    /// A gateway.
    Gateway(Eui64),
    /// An end device.
    Device(Eui64),
}

/// Use of one sub-band in the last hour.
#[derive(Debug, Clone, PartialEq)]
pub struct BandUse {
    /// The sub-band.
    pub sub_band: &'static SubBand,
    /// Airtime in the last hour.
    pub airtime_us: u64,
    /// Frames in the last hour.
    pub frames: u32,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Minute {
    pub(crate) minute: i64,
    pub(crate) airtime_us: u64,
    pub(crate) frames: u32,
}

#[derive(Debug, Default)]
pub(crate) struct Ledger {
    bands: Vec<(String, VecDeque<Minute>)>,
}

impl Ledger {
    fn band(&mut self, name: &str) -> &mut VecDeque<Minute> {
        let at = match self.bands.iter().position(|(known, _)| known == name) {
            Some(at) => at,
            None => {
                self.bands.push((name.to_owned(), VecDeque::new()));
                self.bands.len() - 1
            }
        };
        &mut self.bands[at].1
    }

    fn minute(&mut self, band: &str, minute: i64) -> &mut Minute {
        let minutes = self.band(band);
        while minutes.front().is_some_and(|oldest| oldest.minute < minute - HOUR_MINUTES) {
            minutes.pop_front();
        }
        let at = minutes.partition_point(|m| m.minute < minute);
        if minutes.get(at).is_none_or(|m| m.minute != minute) {
            minutes.insert(at, Minute { minute, airtime_us: 0, frames: 0 });
        }
        &mut minutes[at]
    }

    /// Books a frame and gives the minute's new total.
    pub(crate) fn book(&mut self, band: &str, at: Timestamp, airtime_us: u64) -> Minute {
        let entry = self.minute(band, at.minute());
        entry.airtime_us += airtime_us;
        entry.frames += 1;
        *entry
    }

    /// Takes a frame back that was booked but not sent.
    pub(crate) fn refund(&mut self, band: &str, at: Timestamp, airtime_us: u64) -> Minute {
        let entry = self.minute(band, at.minute());
        entry.airtime_us = entry.airtime_us.saturating_sub(airtime_us);
        entry.frames = entry.frames.saturating_sub(1);
        *entry
    }

    pub(crate) fn restore(&mut self, band: &str, minute: i64, airtime_us: u64, frames: u32) {
        *self.minute(band, minute) = Minute { minute, airtime_us, frames };
    }

    fn used(&self, band: &str, now: Timestamp) -> (u64, u32) {
        let since = now.minute() - HOUR_MINUTES;
        self.bands
            .iter()
            .filter(|(name, _)| name == band)
            .flat_map(|(_, minutes)| minutes)
            .filter(|m| m.minute >= since)
            .fold((0, 0), |(us, n), m| (us + m.airtime_us, n + m.frames))
    }

    /// Whether one more frame stays within the sub-band's hourly allowance.
    pub(crate) fn allows(&self, band: &SubBand, at: Timestamp, airtime_us: u64) -> bool {
        self.used(band.name, at).0 + airtime_us <= band.hourly_allowance_us()
    }

    /// Use of every sub-band that saw any in the last hour.
    pub(crate) fn report(&self, plan: &'static Plan, now: Timestamp) -> Vec<BandUse> {
        plan.sub_bands
            .iter()
            .map(|sub_band| {
                let (airtime_us, frames) = self.used(sub_band.name, now);
                BandUse { sub_band, airtime_us, frames }
            })
            .filter(|band| band.frames > 0)
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lorawan::region::Region;
    use proptest::prelude::*;

    const MINUTE_US: i64 = 60_000_000;

    #[test]
    fn an_hour_later_the_account_is_empty() {
        let band = Region::Eu868.plan().sub_band(868_100_000).unwrap();
        let mut ledger = Ledger::default();
        ledger.book(band.name, Timestamp(0), 36_000_000);
        assert!(!ledger.allows(band, Timestamp(MINUTE_US * 59), 1));
        assert!(!ledger.allows(band, Timestamp(MINUTE_US * 60), 1), "the first minute may have been its last second");
        assert!(ledger.allows(band, Timestamp(MINUTE_US * 61), 36_000_000));
        ledger.refund(band.name, Timestamp(10), 1_000_000);
        assert!(ledger.allows(band, Timestamp(MINUTE_US), 1_000_000));
        assert!(!ledger.allows(band, Timestamp(MINUTE_US), 1_000_001));
    }

    proptest! {
        #[test]
        fn never_less_than_what_was_sent_in_the_hour(
            sent in proptest::collection::vec((0i64..3 * 60 * MINUTE_US, 1u64..2_000_000), 1..80),
        ) {
            let mut sent = sent;
            sent.sort_unstable();
            let mut ledger = Ledger::default();
            for (at, us) in &sent {
                ledger.book("M", Timestamp(*at), *us);
            }
            let now = sent[sent.len() - 1].0;
            let exact: u64 = sent.iter().filter(|(at, _)| now - at < 60 * MINUTE_US).map(|(_, us)| us).sum();
            let with_a_minute: u64 = sent.iter().filter(|(at, _)| now - at < 61 * MINUTE_US).map(|(_, us)| us).sum();
            let used = ledger.used("M", Timestamp(now)).0;
            prop_assert!(exact <= used && used <= with_a_minute);
        }
    }
}

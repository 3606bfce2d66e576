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
const DAY_HOURS: i64 = 24;
/// Of an hour's allowance, in percent: a transmitter that has used this much is reported.
pub const NEAR_PERCENT: u8 = 80;

/// The transmitter.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Transmitter {
    /// What a gateway sends.
    Gateway(Eui64),
    /// What an end device sends.
    Device(Eui64),
    /// What gateways send to an end device.
    Towards(Eui64),
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
    /// When [`NEAR_PERCENT`] of the hour's allowance were used up, to the minute; nothing while less is used.
    pub near_since: Option<Timestamp>,
}

/// Airtime and number of frames in a period.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Used {
    /// Airtime.
    pub airtime_us: u64,
    /// Frames.
    pub frames: u32,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Minute {
    pub(crate) minute: i64,
    pub(crate) airtime_us: u64,
    pub(crate) frames: u32,
}

#[derive(Debug)]
pub(crate) struct Band {
    name: &'static str,
    pub(crate) minutes: VecDeque<Minute>,
}

/// The last hour by sub-band and minute, and the last day by hour.
#[derive(Debug, Default)]
pub(crate) struct Ledger {
    pub(crate) bands: Vec<Band>,
    pub(crate) hours: VecDeque<(i64, Used)>,
}

impl Ledger {
    fn minute(&mut self, name: &'static str, minute: i64) -> &mut Minute {
        let at = match self.bands.iter().position(|band| band.name == name) {
            Some(at) => at,
            None => {
                self.bands.push(Band { name, minutes: VecDeque::new() });
                self.bands.len() - 1
            }
        };
        let minutes = &mut self.bands[at].minutes;
        while minutes.front().is_some_and(|oldest| oldest.minute < minute - HOUR_MINUTES) {
            minutes.pop_front();
        }
        let at = minutes.partition_point(|m| m.minute < minute);
        if minutes.get(at).is_none_or(|m| m.minute != minute) {
            minutes.insert(at, Minute { minute, airtime_us: 0, frames: 0 });
        }
        &mut minutes[at]
    }

    fn hour(&mut self, hour: i64) -> &mut Used {
        while self.hours.front().is_some_and(|(oldest, _)| *oldest < hour - DAY_HOURS) {
            self.hours.pop_front();
        }
        let at = self.hours.partition_point(|(known, _)| *known < hour);
        if self.hours.get(at).is_none_or(|(known, _)| *known != hour) {
            self.hours.insert(at, (hour, Used::default()));
        }
        &mut self.hours[at].1
    }

    /// Books a frame and gives the minute's new total.
    pub(crate) fn book(&mut self, band: &'static str, at: Timestamp, airtime_us: u64) -> Minute {
        let hour = self.hour(at.hour());
        hour.airtime_us += airtime_us;
        hour.frames += 1;
        let entry = self.minute(band, at.minute());
        entry.airtime_us += airtime_us;
        entry.frames += 1;
        *entry
    }

    /// Takes a frame back that was booked but not sent.
    pub(crate) fn refund(&mut self, band: &'static str, at: Timestamp, airtime_us: u64) -> Minute {
        let hour = self.hour(at.hour());
        hour.airtime_us = hour.airtime_us.saturating_sub(airtime_us);
        hour.frames = hour.frames.saturating_sub(1);
        let entry = self.minute(band, at.minute());
        entry.airtime_us = entry.airtime_us.saturating_sub(airtime_us);
        entry.frames = entry.frames.saturating_sub(1);
        *entry
    }

    /// Puts back a minute of the last hour, or an earlier one of the last day.
    pub(crate) fn restore(&mut self, band: &'static str, now: Timestamp, minute: i64, used: Used) {
        let hour = self.hour(minute.div_euclid(HOUR_MINUTES));
        hour.airtime_us += used.airtime_us;
        hour.frames += used.frames;
        if minute >= now.minute() - HOUR_MINUTES {
            *self.minute(band, minute) = Minute { minute, airtime_us: used.airtime_us, frames: used.frames };
        }
    }

    fn counting(&self, band: &str, now: Timestamp) -> impl Iterator<Item = &Minute> {
        let since = now.minute() - HOUR_MINUTES;
        let minutes = self.bands.iter().find(|known| known.name == band).map(|known| &known.minutes);
        minutes.into_iter().flatten().filter(move |m| m.minute >= since)
    }

    /// Use of a sub-band in the last hour.
    pub(crate) fn used(&self, band: &str, now: Timestamp) -> Used {
        self.counting(band, now).fold(Used::default(), |sum, m| Used {
            airtime_us: sum.airtime_us + m.airtime_us,
            frames: sum.frames + m.frames,
        })
    }

    /// Use of all sub-bands in the last 24 hours, and in the hour before that begins to count less.
    pub(crate) fn day(&self, now: Timestamp) -> Used {
        let since = now.hour() - DAY_HOURS;
        self.hours.iter().filter(|(hour, _)| *hour > since).fold(Used::default(), |sum, (_, used)| Used {
            airtime_us: sum.airtime_us + used.airtime_us,
            frames: sum.frames + used.frames,
        })
    }

    /// When the oldest hour that counts today no longer does.
    pub(crate) fn day_eases_at(&self, now: Timestamp) -> Timestamp {
        let since = now.hour() - DAY_HOURS;
        let oldest = self.hours.iter().find(|(hour, used)| *hour > since && used.frames > 0).map(|(hour, _)| *hour);
        Timestamp((oldest.unwrap_or(now.hour()) + DAY_HOURS) * 3_600_000_000)
    }

    /// Whether one more frame stays within the sub-band's hourly allowance.
    pub(crate) fn allows(&self, band: &SubBand, at: Timestamp, airtime_us: u64) -> bool {
        self.used(band.name, at).airtime_us + airtime_us <= band.hourly_allowance_us()
    }

    /// Airtime left in the sub-band's hourly allowance.
    pub(crate) fn left_us(&self, band: &SubBand, at: Timestamp) -> u64 {
        band.hourly_allowance_us().saturating_sub(self.used(band.name, at).airtime_us)
    }

    /// From when on one more frame is allowed; `None` if it alone is more than an hour's allowance.
    pub(crate) fn allowed_from(&self, band: &SubBand, at: Timestamp, airtime_us: u64) -> Option<Timestamp> {
        let allowance_us = band.hourly_allowance_us();
        if airtime_us > allowance_us {
            return None;
        }
        let mut used_us = self.used(band.name, at).airtime_us;
        let mut from = at;
        for minute in self.counting(band.name, at) {
            if used_us + airtime_us <= allowance_us {
                break;
            }
            used_us = used_us.saturating_sub(minute.airtime_us);
            from = Timestamp((minute.minute + HOUR_MINUTES + 1) * 60_000_000);
        }
        Some(from)
    }

    /// The minutes of the last hour, by sub-band.
    pub(crate) fn last_hour(&self, now: Timestamp) -> impl Iterator<Item = (&'static str, Minute)> {
        let since = now.minute() - HOUR_MINUTES;
        let all = self.bands.iter().flat_map(|band| band.minutes.iter().map(|minute| (band.name, *minute)));
        all.filter(move |(_, minute)| minute.minute >= since)
    }

    /// The minute in which the sub-band's use came near its allowance, of what counts now.
    fn near_since(&self, band: &SubBand, now: Timestamp) -> Option<Timestamp> {
        let near_us = band.hourly_allowance_us() * u64::from(NEAR_PERCENT) / 100;
        let mut used_us = 0;
        self.counting(band.name, now)
            .find(|minute| {
                used_us += minute.airtime_us;
                used_us >= near_us
            })
            .map(|minute| Timestamp(minute.minute * 60_000_000))
    }

    /// Use of every sub-band that saw any in the last hour.
    pub(crate) fn report(&self, plan: &'static Plan, now: Timestamp) -> Vec<BandUse> {
        plan.sub_bands
            .iter()
            .map(|sub_band| {
                let Used { airtime_us, frames } = self.used(sub_band.name, now);
                BandUse { sub_band, airtime_us, frames, near_since: self.near_since(sub_band, now) }
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

    #[test]
    fn it_says_since_when_little_is_left() {
        let plan = Region::Eu868.plan();
        let band = plan.sub_band(868_100_000).unwrap();
        let near_since =
            |ledger: &Ledger, minute: i64| ledger.report(plan, Timestamp(minute * MINUTE_US))[0].near_since;
        let mut ledger = Ledger::default();
        ledger.book(band.name, Timestamp(3 * MINUTE_US), 20_000_000);
        assert_eq!(near_since(&ledger, 4), None);
        ledger.book(band.name, Timestamp(7 * MINUTE_US), 8_800_000);
        ledger.book(band.name, Timestamp(9 * MINUTE_US), 90_000_000);
        assert_eq!(near_since(&ledger, 10), Some(Timestamp(7 * MINUTE_US)), "80 % of 36 s");
        assert_eq!(near_since(&ledger, 65), Some(Timestamp(9 * MINUTE_US)), "minute 3 counts no more");
    }

    #[test]
    fn it_says_until_when_a_frame_must_wait() {
        let band = Region::Eu868.plan().sub_band(868_100_000).unwrap();
        let mut ledger = Ledger::default();
        ledger.book(band.name, Timestamp(5 * MINUTE_US), 20_000_000);
        ledger.book(band.name, Timestamp(9 * MINUTE_US), 15_000_000);
        let from = |us| ledger.allowed_from(band, Timestamp(10 * MINUTE_US), us);
        assert_eq!(from(1_000_000), Some(Timestamp(10 * MINUTE_US)), "it fits at once");
        assert_eq!(from(2_000_000), Some(Timestamp(66 * MINUTE_US)), "once minute 5 lies outside the hour");
        assert_eq!(from(22_000_000), Some(Timestamp(70 * MINUTE_US)));
        assert_eq!(from(36_000_001), None, "never");
        assert!(ledger.allows(band, from(2_000_000).unwrap(), 2_000_000));
    }

    #[test]
    fn a_day_is_kept_by_the_hour() {
        let hour_us = 60 * MINUTE_US;
        let mut ledger = Ledger::default();
        for hour in 0..30 {
            ledger.book("M", Timestamp(hour * hour_us + 5), 1000);
        }
        let now = Timestamp(29 * hour_us + 10);
        assert_eq!(ledger.day(now), Used { airtime_us: 24_000, frames: 24 });
        assert_eq!(ledger.day_eases_at(now), Timestamp(30 * hour_us), "hour 6 counts until hour 30 begins");
        let mut restored = Ledger::default();
        for hour in 0..30 {
            restored.restore("M", now, hour * 60, Used { airtime_us: 1000, frames: 1 });
        }
        assert_eq!(
            (restored.day(now), restored.used("M", now).frames),
            (ledger.day(now), ledger.used("M", now).frames)
        );
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
            let used = ledger.used("M", Timestamp(now)).airtime_us;
            prop_assert!(exact <= used && used <= with_a_minute);
        }
    }
}

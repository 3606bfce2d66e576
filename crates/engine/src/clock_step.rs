//! The clock was set: what the engine waits for moves with it.
//!
//! All that counts for windows, waits and accounts is how long ago something was, so after a step every such time is
//! moved by the same amount. What is fixed to the calendar stays: ends that people gave, and beacons.

use crate::downlink::transmit::airtime_change;
use crate::ledger::{Ledger, Transmitter};
use crate::step::Step;
use crate::time::{Timers, Timestamp, shift};
use crate::{Engine, Timer};

impl Engine {
    /// Collections that an earlier engine has processed are closed without effects.
    pub(crate) fn frames_are_new(&mut self, step: &mut Step<'_>) {
        self.close_collections(step, self.processed_until);
        self.processed_until = Timestamp(i64::MIN);
    }

    /// Moves everything by what the clock was moved by. Gateways' accounts are made durable as they now stand.
    pub(crate) fn clock_stepped(&mut self, step: &mut Step<'_>, by_us: i64) {
        self.processed_until = Timestamp(i64::MIN);
        shift(&mut self.keys_tried_at, by_us);
        for (at, _) in self.collecting.iter_mut().chain(&mut self.forgetting) {
            *at = at.plus_us(by_us);
        }
        self.collector.shift(by_us);
        let timers = std::mem::take(&mut self.timers);
        for (at, timer) in timers.into_sorted() {
            match timer {
                Timer::Expired(..) => self.timers.set(at, timer),
                Timer::Beacon(..) => {}
                Timer::ReportOverdue(_) | Timer::AckOverdue(..) | Timer::LookAtOutbox(_) | Timer::LookAtGroup(_) => {
                    self.timers.set(at.plus_us(by_us), timer);
                }
            }
        }
        self.in_flight.values_mut().for_each(|flight| flight.shift(by_us));
        for device in self.devices.values_mut() {
            device.shift(by_us);
        }
        self.groups.values_mut().for_each(|group| group.shift(by_us));
        for (eui, gateway) in &mut self.gateways {
            gateway.shift(by_us);
            for (band, minute) in gateway.ledger.last_hour(step.now) {
                step.persist(airtime_change(Transmitter::Gateway(*eui), band, minute));
            }
        }
        let gateways: Vec<_> = self.gateways.keys().copied().collect();
        gateways.into_iter().for_each(|eui| self.plan_beacon(step.now, eui));
    }
}

impl<T: Ord> Timers<T> {
    /// All timers, the earliest first.
    fn into_sorted(self) -> Vec<(Timestamp, T)> {
        let mut timers = self.heap.into_vec();
        // The heap has them in reverse.
        timers.sort_unstable_by(|a, b| b.cmp(a));
        timers.into_iter().map(|std::cmp::Reverse((at, _, timer))| (at, timer)).collect()
    }
}

impl Ledger {
    /// Moves the account. A minute that falls into two counts as the later one, so that none is forgotten too soon.
    pub(crate) fn shift(&mut self, by_us: i64) {
        let moved =
            |index: i64, unit_us: i64| index + by_us.div_euclid(unit_us) + i64::from(by_us.rem_euclid(unit_us) > 0);
        for minute in self.bands.iter_mut().flat_map(|band| &mut band.minutes) {
            minute.minute = moved(minute.minute, 60_000_000);
        }
        for (hour, _) in &mut self.hours {
            *hour = moved(*hour, 3_600_000_000);
        }
    }
}

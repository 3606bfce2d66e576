//! Corrects the reception times of the journal's frames to the clock as it is now.
//!
//! The clock may have been wrong when a frame was written: ahead for some seconds before the network's time arrived,
//! say. Frames of this run of the machine also carry a clock that is never set, by which their time is corrected.
//! Whatever is left, frames stand in the order in which they came, and none was heard in the future.

use engine::Timestamp;

use crate::ingest::journal::record::Record;

/// Both clocks at one moment.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clocks {
    pub now: Timestamp,
    pub since_boot_us: i64,
}

/// The normal difference of the two clocks: one is slewed, the other is not.
const AGREE_US: i64 = 2_000_000;

/// Corrects times; returns the largest correction. `this_boot` tells which frames were written since the
/// machine was started last.
pub(super) fn rebase(records: &mut [Record], this_boot: impl Fn(usize) -> bool, clocks: Clocks) -> i64 {
    let mut worst_us = 0;
    let mut latest = clocks.now;
    for (at, record) in records.iter_mut().enumerate().rev() {
        let written = record.frame.reception.heard_at;
        let mut heard = written;
        if let Some(since_boot_us) = record.since_boot_us.filter(|_| this_boot(at)) {
            let corrected = clocks.now.plus_us(since_boot_us - clocks.since_boot_us);
            if corrected.since(written).abs() > AGREE_US {
                heard = corrected;
            }
        }
        heard = heard.min(latest);
        latest = heard;
        record.moved_us = heard.since(written);
        worst_us = if record.moved_us.abs() > i64::abs(worst_us) { -record.moved_us } else { worst_us };
        record.frame.reception.heard_at = heard;
    }
    worst_us
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ingest::journal::tests::frame;

    fn record(position: u64, heard_at: i64, since_boot_us: i64) -> Record {
        Record {
            position: Some(position),
            since_boot_us: Some(since_boot_us),
            frame: frame(heard_at, vec![]),
            moved_us: 0,
        }
    }

    const S: i64 = 1_000_000;

    #[test]
    fn a_clock_that_was_ahead_is_corrected_by_the_one_that_is_never_set() {
        let hour = 3600 * S;
        let mut records =
            [record(0, hour + 100 * S, 10 * S), record(1, hour + 101 * S, 11 * S), record(2, 102 * S, 12 * S)];
        let clocks = Clocks { now: Timestamp(110 * S), since_boot_us: 20 * S };
        assert_eq!(rebase(&mut records, |_| true, clocks), hour);
        let times: Vec<i64> = records.iter().map(|r| r.frame.reception.heard_at.0 / S).collect();
        assert_eq!(times, [100, 101, 102]);
    }

    #[test]
    fn without_it_nothing_is_in_the_future_and_the_order_stays() {
        let mut records = [record(0, 900 * S, 1), record(1, 901 * S, 2), record(2, 102 * S, 3)];
        let clocks = Clocks { now: Timestamp(110 * S), since_boot_us: 0 };
        assert_eq!(rebase(&mut records, |_| false, clocks), 799 * S);
        let times: Vec<i64> = records.iter().map(|r| r.frame.reception.heard_at.0 / S).collect();
        assert_eq!(times, [102, 102, 102]);
    }

    proptest! {
        #[test]
        fn whatever_the_clocks_said_times_are_in_order_and_past(
            times in prop::collection::vec((-1_000_000i64..10_000_000, 0i64..1_000_000), 0..30), now in 0i64..5_000_000, boots: u8,
        ) {
            let mut records: Vec<Record> = times.iter().zip(0..).map(|((at, boot), n)| record(n, *at, *boot)).collect();
            rebase(&mut records, |at| at >= usize::from(boots), Clocks { now: Timestamp(now), since_boot_us: 0 });
            let heard: Vec<Timestamp> = records.iter().map(|r| r.frame.reception.heard_at).collect();
            prop_assert!(heard.is_sorted());
            prop_assert!(heard.iter().all(|at| at.0 <= now));
        }
    }
}

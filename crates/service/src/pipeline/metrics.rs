//! Metrics of the running service: memory, and times from reception to storage.

use std::fmt::Display;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use api::metrics::{Metrics as Report, Slice};

/// Each slice of time is longer than the one before by this.
const GROWTH: f64 = 1.1;
const FIRST_MS: f64 = 1.0;
/// The last slice ends after more than an hour.
const SLICES: usize = 160;
/// An uplink that was stored longer ago says nothing about now.
const LATELY: Duration = Duration::from_secs(2);
/// Uplinks that take so long until they are durable are late.
const LATE: Duration = Duration::from_secs(1);
/// Units of /proc's processor times; 100 on every Linux of today (proc(5), `sysconf(_SC_CLK_TCK)`).
const TICKS_PER_S: f64 = 100.0;
/// Units of /proc's memory sizes.
const PAGE_BYTES: u64 = 4096;

/// The measurements.
pub struct Metrics {
    started: Instant,
    collect_ms: u16,
    uplinks: AtomicU64,
    decoded: AtomicU64,
    until_stored: [AtomicU64; SLICES],
    /// How long the last uplink took until it was durable, and when that was, in milliseconds since the start.
    last_took_ms: AtomicU64,
    last_at_ms: AtomicU64,
}

impl Metrics {
    pub fn new(collect_ms: u16) -> Self {
        let until_stored = std::array::from_fn(|_| AtomicU64::new(0));
        let (uplinks, decoded) = (AtomicU64::new(0), AtomicU64::new(0));
        let (last_took_ms, last_at_ms) = (AtomicU64::new(0), AtomicU64::new(0));
        Self { started: Instant::now(), collect_ms, uplinks, decoded, until_stored, last_took_ms, last_at_ms }
    }

    /// An uplink is durable, this long after it was heard.
    pub fn stored(&self, after_us: i64) {
        self.uplinks.fetch_add(1, Ordering::Relaxed);
        let ms = after_us.max(0) as f64 / 1000.0;
        let slice = ((ms / FIRST_MS).max(1.0).ln() / GROWTH.ln()).ceil() as usize;
        self.until_stored[slice.min(SLICES - 1)].fetch_add(1, Ordering::Relaxed);
        self.last_took_ms.store(ms as u64, Ordering::Relaxed);
        self.last_at_ms.store(self.now_ms(), Ordering::Relaxed);
    }

    /// Whether uplinks are durable so late that everything else has to wait for them.
    pub(crate) fn is_late(&self) -> bool {
        self.behind() >= LATE
    }

    /// How late uplinks are durable now. When none came lately, they are not late.
    fn behind(&self) -> Duration {
        let since_ms = self.now_ms().saturating_sub(self.last_at_ms.load(Ordering::Relaxed));
        let lately = since_ms <= LATELY.as_millis() as u64;
        Duration::from_millis(if lately { self.last_took_ms.load(Ordering::Relaxed) } else { 0 })
    }

    fn now_ms(&self) -> u64 {
        self.started.elapsed().as_millis() as u64
    }

    /// Counts uplinks that are durable with their readings.
    pub fn decoded(&self, uplinks: usize) {
        self.decoded.fetch_add(uplinks as u64, Ordering::Relaxed);
    }

    pub fn report(&self) -> Report {
        let slice = |(i, count): (usize, &AtomicU64)| Slice {
            up_to_ms: (FIRST_MS * GROWTH.powi(i as i32) * 10.0).round() / 10.0,
            count: count.load(Ordering::Relaxed),
        };
        Report {
            up_s: self.started.elapsed().as_secs_f64(),
            cpu_s: cpu_s(),
            resident_bytes: resident_bytes(),
            collect_ms: self.collect_ms,
            uplinks_stored: self.uplinks.load(Ordering::Relaxed),
            uplinks_decoded: self.decoded.load(Ordering::Relaxed),
            until_stored: self.until_stored.iter().enumerate().map(slice).filter(|slice| slice.count > 0).collect(),
        }
    }
}

/// The system's report on a process.
pub(crate) struct ProcessStat {
    /// It has ended, and its parent has not asked for it yet.
    pub zombie: bool,
    /// User and system time since its start, in seconds.
    pub cpu_s: f64,
    /// When it was started, in ticks since the machine's start.
    pub started: u64,
}

/// Fields 3, 14, 15 and 22 of proc(5)'s `/proc/PID/stat`; the name before them may hold spaces. `process` is a number,
/// or `self`.
pub(crate) fn process_stat(process: impl Display) -> Option<ProcessStat> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    let fields: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    let ticks = |number: usize| fields.get(number - 3)?.parse::<u64>().ok();
    Some(ProcessStat {
        zombie: *fields.first()? == "Z",
        cpu_s: (ticks(14)? + ticks(15)?) as f64 / TICKS_PER_S,
        started: ticks(22)?,
    })
}

fn cpu_s() -> Option<f64> {
    Some(process_stat("self")?.cpu_s)
}

fn resident_bytes() -> Option<u64> {
    let statm = std::fs::read_to_string("/proc/self/statm").ok()?;
    Some(statm.split_whitespace().nth(1)?.parse::<u64>().ok()? * PAGE_BYTES)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_fall_into_the_slice_that_holds_them() {
        let metrics = Metrics::new(200);
        for us in [0, 900, 1_050, 250_000, i64::MAX] {
            metrics.stored(us);
        }
        let report = metrics.report();
        assert_eq!(report.uplinks_stored, 5);
        assert_eq!(report.until_stored.iter().map(|slice| slice.count).collect::<Vec<_>>(), [2, 1, 1, 1]);
        metrics.stored(3_500_000);
        assert_eq!(metrics.behind(), Duration::from_millis(3_500));
        let quarter = report.until_stored[2].up_to_ms;
        assert!((250.0..250.0 * GROWTH).contains(&quarter), "{quarter}");
    }

    #[test]
    #[cfg(target_os = "linux")]
    fn the_system_tells_what_the_process_takes() {
        assert!(cpu_s().is_some_and(|s| s >= 0.0) && resident_bytes().is_some_and(|bytes| bytes > 1 << 20));
    }
}

//! The world's clock: the runtime's instants as microseconds since 1970, which devices count in.

use std::sync::LazyLock;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use tokio::time::Instant;

/// One moment, by both. Read once, so that the two never drift apart.
static START: LazyLock<(Instant, i64)> = LazyLock::new(|| {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    (Instant::now(), i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
});

/// An instant in microseconds since 1970.
pub fn us(at: Instant) -> i64 {
    let (start, start_us) = *START;
    let apart = |a: Instant, b: Instant| i64::try_from((a - b).as_micros()).unwrap_or(i64::MAX);
    if at >= start { start_us + apart(at, start) } else { start_us - apart(start, at) }
}

/// The instant of a time in microseconds since 1970.
pub fn instant(us: i64) -> Instant {
    let (start, start_us) = *START;
    let apart = Duration::from_micros(us.abs_diff(start_us));
    if us >= start_us { start + apart } else { start.checked_sub(apart).unwrap_or(start) }
}

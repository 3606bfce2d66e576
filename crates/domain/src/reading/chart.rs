//! Charts: which span and step, how values are summed up, where gaps are drawn.

use api::problem::{Problem, bad_field};
use api::reading::chart::{ChartPoint, Freshness, WantedChart};
use chrono::{DateTime, TimeDelta, Utc};

/// Lines that one chart can have.
pub const MOST_LINES: usize = 24;

/// The longest time that a chart can be of.
const LONGEST: TimeDelta = TimeDelta::days(366 * 20);

/// Usual intervals without a value after which the value is overdue.
const OVERDUE: f64 = 3.0;

/// From this ratio to its device's interval on, a reading counts as irregular.
const SELDOM: f64 = 2.5;

/// Usual intervals without a value that make a gap.
const GAP: f64 = 2.5;

/// From how old it is and how often it comes.
pub fn freshness(age: TimeDelta, interval_s: Option<f64>, device_s: Option<f64>) -> Freshness {
    let age_s = age.num_milliseconds() as f64 / 1000.0;
    let Some(interval_s) = interval_s else { return Freshness::Fresh };
    match device_s {
        _ if age_s > interval_s * OVERDUE => Freshness::Overdue,
        Some(device_s) if interval_s > device_s * SELDOM => Freshness::NowAndThen,
        _ => Freshness::Fresh,
    }
}

/// From, until and points, checked.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check(wanted: &WantedChart, now: DateTime<Utc>) -> Result<(DateTime<Utc>, DateTime<Utc>, u32), Problem> {
    if wanted.lines.is_empty() || wanted.lines.len() > MOST_LINES {
        let given = format!("{} of them", wanted.lines.len());
        return Err(bad_field("lines", &given, format!("1 to {MOST_LINES} are allowed")));
    }
    let until = wanted.until.unwrap_or(now);
    let (from, until) = span(wanted.from, until)?;
    match wanted.points.unwrap_or(400) {
        points @ 10..=2000 => Ok((from, until, points)),
        other => Err(bad_field("points", &other.to_string(), "10 to 2000 are allowed")),
    }
}

/// A time span, checked.
///
/// # Errors
/// If it ends before it begins, or is too long.
pub fn span(from: DateTime<Utc>, until: DateTime<Utc>) -> Result<(DateTime<Utc>, DateTime<Utc>), Problem> {
    if from >= until {
        return Err(bad_field("from", &from.to_rfc3339(), format!("a time before {} is wanted", until.to_rfc3339())));
    }
    if until - from > LONGEST {
        return Err(bad_field("from", &from.to_rfc3339(), "at most 20 years are allowed"));
    }
    Ok((from, until))
}

const fn gap(at_ms: i64) -> ChartPoint {
    ChartPoint { at_ms, value: None, least: None, most: None, word: None }
}

/// Values of a period, summed up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bucket {
    /// Milliseconds since 1970; when it begins.
    pub at_ms: i64,
    /// How many values.
    pub count: u64,
    /// The lowest.
    pub least: f64,
    /// All added up.
    pub sum: f64,
    /// The highest.
    pub most: f64,
}

const MINUTE_MS: i64 = 60_000;

/// The possible lengths of a point's period, in minutes.
const STEPS_MIN: [i64; 16] = [1, 2, 5, 10, 15, 30, 60, 120, 180, 360, 720, 1440, 2880, 10_080, 20_160, 43_200];

/// The length of a point's period that gives about `points` points.
pub fn step_ms(span_ms: i64, points: u32) -> i64 {
    let wanted = span_ms / i64::from(points.max(1));
    let step = STEPS_MIN.iter().map(|minutes| minutes * MINUTE_MS).find(|step| *step >= wanted);
    step.unwrap_or(STEPS_MIN[STEPS_MIN.len() - 1] * MINUTE_MS)
}

/// Merges neighbours to one for each step. They are in the order of time.
pub fn merged(buckets: impl IntoIterator<Item = Bucket>, step_ms: i64) -> Vec<Bucket> {
    let mut out: Vec<Bucket> = Vec::new();
    for bucket in buckets {
        let at_ms = bucket.at_ms.div_euclid(step_ms) * step_ms;
        match out.last_mut().filter(|last| last.at_ms == at_ms) {
            Some(last) => {
                last.count += bucket.count;
                last.sum += bucket.sum;
                last.least = last.least.min(bucket.least);
                last.most = last.most.max(bucket.most);
            }
            None => out.push(Bucket { at_ms, ..bucket }),
        }
    }
    out
}

/// Points of buckets, with gaps. `interval_s` is how often values come.
pub fn points_of(buckets: &[Bucket], step_ms: i64, interval_s: Option<f64>) -> Vec<ChartPoint> {
    let usual_ms = interval_s.map_or(0.0, |s| s * 1000.0 * GAP);
    // Where every step has values, one without is a gap.
    let longest = (step_ms as f64 * 1.5).max(usual_ms);
    let points = buckets.iter().map(|bucket| ChartPoint {
        at_ms: bucket.at_ms,
        value: Some(bucket.sum / bucket.count.max(1) as f64),
        least: Some(bucket.least),
        most: Some(bucket.most),
        word: None,
    });
    with_gaps(points, longest)
}

/// Puts a point without a value where the next is further away than that.
pub fn with_gaps(points: impl IntoIterator<Item = ChartPoint>, longest_ms: f64) -> Vec<ChartPoint> {
    let mut out: Vec<ChartPoint> = Vec::new();
    for point in points {
        if let Some(last) = out.last().map(|last| last.at_ms)
            && (point.at_ms - last) as f64 > longest_ms
        {
            out.push(gap(last + (point.at_ms - last) / 2));
        }
        out.push(point);
    }
    out
}

/// How far apart points may be without a gap: by the time that usually lies between two of them.
pub fn longest_ms(points: &[ChartPoint]) -> f64 {
    let mut between: Vec<i64> = points.windows(2).map(|pair| pair[1].at_ms - pair[0].at_ms).collect();
    if between.is_empty() {
        return f64::INFINITY;
    }
    let middle = between.len() / 2;
    *between.select_nth_unstable(middle).1 as f64 * GAP
}

/// Leaves out texts that are the same as the one before.
pub fn changes(points: impl IntoIterator<Item = ChartPoint>) -> Vec<ChartPoint> {
    let mut out: Vec<ChartPoint> = Vec::new();
    for point in points {
        if out.last().is_none_or(|last| last.word != point.word) {
            out.push(point);
        }
    }
    out
}

#[cfg(test)]
#[path = "chart_tests.rs"]
mod tests;

//! Charts, hourly and daily summaries, retention, and readings that look wrong.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use api::diagnosis::plausibility::ModelDoubt;
use api::reading::chart::ChartPoint;
use chrono::{DateTime, Months, TimeDelta, Utc};
use domain::diagnosis::plausibility::{Seen, doubt};
use domain::reading::chart::{Bucket, changes, longest_ms, merged, points_of, step_ms, with_gaps};
use store::{EstateId, HOUR_MS, JudgedSeries, Point, SeriesId, Span, Store, StoreError};
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::pipeline::directory::Directory;

/// How often summaries are brought up to date.
const EVERY: Duration = Duration::from_secs(60);
/// How long after its end an hour is summed up; what comes later is listed and summed up again.
const SETTLED: TimeDelta = TimeDelta::minutes(2);
/// How often old values are removed.
const PRUNE_EVERY: Duration = Duration::from_secs(6 * 3600);
/// A clock that has not been set for this time is believed; until then nothing is removed that a wrong clock would
/// remove.
const CALM: Duration = Duration::from_secs(3600);
/// At the start the clock is believed if it goes on from the newest data.
const GOES_ON: TimeDelta = TimeDelta::days(1);
/// If nothing has been stored for this time, a wrong clock is more likely than a silent network.
const FAR_BEYOND: TimeDelta = TimeDelta::days(45);
/// Texts that a chart can have.
const MOST_WORDS: u32 = 5000;

/// Readings that look wrong, by estate; computed every hour.
#[derive(Default)]
pub struct Doubts(Mutex<HashMap<EstateId, Vec<ModelDoubt>>>);

impl Doubts {
    pub fn of(&self, estate_id: EstateId) -> Vec<ModelDoubt> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&estate_id).cloned().unwrap_or_default()
    }

    /// Looks at the last day's values of all devices.
    pub async fn look(&self, store: &Store, directory: &Directory, now: DateTime<Utc>) -> Result<(), StoreError> {
        let series = store.judged_series(None).await?;
        let ids: Vec<SeriesId> = series.iter().map(|series| series.id).collect();
        let hour = (now - TimeDelta::days(1)).timestamp_millis().div_euclid(HOUR_MS);
        let seen = store.since_hour(&ids, hour).await?;
        let mut found: HashMap<EstateId, Vec<ModelDoubt>> = HashMap::new();
        for (estate, doubt) in doubts_in(directory, series, &seen) {
            found.entry(estate).or_default().push(doubt);
        }
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = found;
        Ok(())
    }
}

/// What looks wrong with one model's readings, by every value of the last day.
pub(crate) async fn doubts_of(
    store: &Store,
    directory: &Directory,
    estate_id: EstateId,
    model: &str,
) -> Result<Vec<ModelDoubt>, StoreError> {
    let series = store.judged_series(Some((estate_id, model))).await?;
    let ids: Vec<SeriesId> = series.iter().map(|series| series.id).collect();
    let seen = store.since(&ids, (Utc::now() - TimeDelta::days(1)).timestamp_millis()).await?;
    Ok(doubts_in(directory, series, &seen).into_iter().map(|(_, doubt)| doubt).collect())
}

/// One doubt a reading of a model, with one of the devices that show it.
fn doubts_in(
    directory: &Directory,
    series: Vec<JudgedSeries>,
    seen: &HashMap<SeriesId, Bucket>,
) -> Vec<(EstateId, ModelDoubt)> {
    let mut found: BTreeMap<(EstateId, String, String), ModelDoubt> = BTreeMap::new();
    for one in series {
        let Some(summary) = seen.get(&one.id) else { continue };
        let rule = directory.rule(one.estate_id, &one.device, &one.name).unwrap_or_default();
        let Some(doubt) = doubt(&one.name, one.unit.as_deref(), (rule.min, rule.max), seen_of(summary)) else {
            continue;
        };
        let entry = found.entry((one.estate_id, one.model.clone(), one.name)).or_insert_with(|| ModelDoubt {
            model: one.model,
            doubt,
            device: one.device,
            devices: 0,
        });
        entry.devices += 1;
    }
    found.into_iter().map(|((estate, ..), doubt)| (estate, doubt)).collect()
}

/// The input of doubts.
pub(crate) fn seen_of(summary: &Bucket) -> Seen {
    Seen { least: summary.least, most: summary.most, count: summary.count }
}

/// Why no old history may be removed now: the clock may be wrong, and removed history is lost. `newest_at_start` is the
/// time of the newest message when the service was started, `newest` of the newest one now.
pub(crate) fn keep_all(
    now: DateTime<Utc>,
    calm: Duration,
    newest_at_start: Option<DateTime<Utc>>,
    newest: Option<DateTime<Utc>>,
) -> Option<String> {
    let known = newest_at_start.is_none_or(|newest| (now - newest).abs() < GOES_ON);
    if calm < CALM && !known {
        return Some(
            "the clock has been set or was read first within the last hour, and does not go on from the newest data"
                .into(),
        );
    }
    let newest = newest.filter(|newest| now - *newest > FAR_BEYOND)?;
    Some(format!("it is {} days since the newest data, so the clock may be wrong", (now - newest).num_days()))
}

/// Keeps summaries, partitions and doubts up to date until the service stops.
pub(crate) async fn keep(
    store: Store,
    (directory, doubts): (Arc<Directory>, Arc<Doubts>),
    survey_kept_for: TimeDelta,
    stopping: CancellationToken,
) {
    let mut often = tokio::time::interval(EVERY);
    let mut looked: Option<i64> = None;
    let mut pruned: Option<Instant> = None;
    let mut newest_at_start: Option<Option<DateTime<Utc>>> = None;
    loop {
        tokio::select! {
            _ = often.tick() => {}
            () = stopping.cancelled() => return,
        }
        let now = Utc::now();
        let hour = (now - SETTLED).timestamp_millis().div_euclid(HOUR_MS);
        let work = async {
            let until = u32::try_from(hour).unwrap_or(0);
            if store.summed_until_hour().await? != Some(until) {
                store.sum_up(until).await?;
            }
            while !stopping.is_cancelled() && store.sum_up_late(until).await? {}
            if looked != Some(hour) {
                doubts.look(&store, &directory, now).await?;
                looked = Some(hour);
            }
            if pruned.is_none_or(|at| at.elapsed() > PRUNE_EVERY) {
                let last_month = now.checked_sub_months(Months::new(1)).unwrap_or(now);
                store.arrange_months(last_month, now).await?;
                let newest = store.newest_message().await?;
                let at_start = *newest_at_start.get_or_insert(newest);
                match keep_all(now, clock::calm_for(), at_start, newest) {
                    None => {
                        store.prune(now).await?;
                        while store.prune_observations(now - survey_kept_for).await? > 0 {}
                    }
                    Some(why) => {
                        tracing::warn!("nothing old is taken out of the history for now: {why}");
                        return Ok(());
                    }
                }
                pruned = Some(Instant::now());
            }
            Ok::<_, StoreError>(())
        };
        // A stop does not wait: whatever is cut off here is a transaction, or is done again.
        let done = tokio::select! {
            done = work => done,
            () = stopping.cancelled() => return,
        };
        if let Err(error) = done {
            tracing::error!("the history could not be looked after: {error}");
        }
    }
}

/// A line of a chart: its points, and the time that each covers if it is not a single value.
pub(crate) struct Line {
    pub points: Vec<ChartPoint>,
    pub step_ms: Option<i64>,
    pub cut: bool,
}

/// Reads a line: single values if there are few enough, else means over equal times.
pub(crate) async fn line(
    store: &Store,
    series: SeriesId,
    (from_ms, until_ms): (i64, i64),
    points: u32,
    interval_s: Option<f64>,
) -> Result<Line, StoreError> {
    let step = step_ms(until_ms - from_ms, points);
    let few = points.saturating_mul(2);
    // If hourly summaries are fine enough, they also tell how many values there are.
    if step >= HOUR_MS {
        let summaries = by_hours(store, series, (from_ms, until_ms), step).await?;
        let count: u64 = summaries.iter().map(|bucket| bucket.count).sum();
        if count > u64::from(few) {
            let merged = merged(summaries, step);
            return Ok(Line { points: points_of(&merged, step, interval_s), step_ms: Some(step), cut: false });
        }
    }
    let values = store.points(series, from_ms, until_ms, few.max(MOST_WORDS) + 1).await?;
    if values.iter().any(|point| point.word.is_some()) {
        let cut = values.len() > MOST_WORDS as usize;
        let points = changes(values.into_iter().take(MOST_WORDS as usize).map(told));
        return Ok(Line { points, step_ms: None, cut });
    }
    if values.len() <= few as usize {
        let points: Vec<ChartPoint> = values.into_iter().map(told).collect();
        let longest = longest_ms(&points);
        return Ok(Line { points: with_gaps(points, longest), step_ms: None, cut: false });
    }
    let stepped = store.stepped(series, from_ms, until_ms, step).await?;
    Ok(Line { points: points_of(&stepped, step, interval_s), step_ms: Some(step), cut: false })
}

/// Summaries of a time, and values where there are none yet.
async fn by_hours(
    store: &Store,
    series: SeriesId,
    (from_ms, until_ms): (i64, i64),
    step: i64,
) -> Result<Vec<Bucket>, StoreError> {
    let span = if step >= Span::Day.ms() { Span::Day } else { Span::Hour };
    let summed = store.summed_until_hour().await?.map_or(0, |hour| i64::from(hour) * HOUR_MS).min(until_ms);
    // Days are summed up when they are whole.
    let summed = summed.div_euclid(span.ms()) * span.ms();
    let mut buckets: Vec<Bucket> = Vec::new();
    if summed > from_ms {
        buckets.extend(store.summaries(series, span, from_ms, summed).await?);
    }
    buckets.extend(store.stepped(series, summed.max(from_ms), until_ms, HOUR_MS).await?);
    Ok(buckets)
}

fn told(point: Point) -> ChartPoint {
    ChartPoint { at_ms: point.at_ms, value: point.value, least: None, most: None, word: point.word }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_that_may_be_wrong_takes_nothing_out() {
        let now = DateTime::from_timestamp(1_790_000_000, 0).unwrap();
        let ago = |days| Some(now - TimeDelta::days(days));
        let hour = Duration::from_secs(3700);
        let why = |calm, at_start, newest| keep_all(now, calm, at_start, newest);
        assert_eq!(why(Duration::ZERO, None, None), None, "there is nothing yet");
        assert_eq!(why(Duration::ZERO, ago(0), ago(0)), None, "it goes on from the newest data");
        assert!(why(Duration::from_secs(15), ago(60), ago(0)).is_some(), "sixty days ahead for fifteen seconds");
        assert!(why(Duration::from_secs(15), ago(-60), ago(0)).is_some(), "or behind");
        assert_eq!(why(hour, ago(20), ago(0)), None, "it was away for twenty days, and nobody has set the clock since");
        assert!(why(hour, ago(60), ago(60)).is_some_and(|why| why.contains("60 days")), "nothing is heard");
    }
}

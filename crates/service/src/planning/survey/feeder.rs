//! Feeds the survey: turns uplinks into observations once they are committed, and stores these in groups.
//!
//! It follows the live stream. What it has missed there, while uplinks were stored late or the service was not running, it
//! reads from the history of messages, from the last one that it had stored. An observation has the id of its message, so
//! a message that is read twice is stored once.

use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::{TimeDelta, Utc};
use domain::coverage::survey::{Evidence, Thinner, evidence};
use store::{HeardRow, ObservationRow, Store, StoreError, WrittenMessage, first_name_at, moment_of_name};
use tokio::sync::broadcast::error::RecvError;
use tokio_util::sync::CancellationToken;
use ulid::Ulid;

use crate::ingest::network::Network;
use crate::pipeline::live::Live;
use crate::pipeline::metrics::Metrics;
use crate::planning::survey::surveys::Surveys;

/// Observations that are stored together at most, and how long one waits for others.
const GROUP: usize = 2_000;
const EVERY: Duration = Duration::from_secs(2);
/// Messages of one page when something was missed, and the shortest pause after a page. Each pause is twice as long as its page
/// took, so that frames go first.
const PAGE: u32 = 1_000;
const PAUSE: Duration = Duration::from_millis(20);
const PAUSES_FOR_WORK: u32 = 2;
/// When so many frames wait for the engine, or uplinks are stored late, the survey waits as well: the database is theirs.
const BUSY: usize = 500;
/// How often it looks whether it still has to wait.
const WHILE_BUSY: Duration = Duration::from_secs(1);
/// Observations that are held in memory meanwhile. Further ones are read from the history later.
const MOST_WAITING: usize = 20_000;
/// Before the database is asked again.
const RETRY: Duration = Duration::from_secs(5);
/// At the start the last messages are read again: some of them may have been decoded late.
const AGAIN: TimeDelta = TimeDelta::minutes(10);

/// Feeds the survey.
pub(crate) struct Feeder {
    pub store: Store,
    pub live: Arc<Live>,
    pub surveys: Arc<Surveys>,
    pub network: Network,
    pub metrics: Arc<Metrics>,
    /// How long observations are kept.
    pub kept_for: TimeDelta,
    pub stopping: CancellationToken,
}

/// Observations that are not stored yet.
#[derive(Default)]
struct Group {
    rows: Vec<ObservationRow>,
    /// The last message that they are of.
    mark: Option<String>,
    thinner: Thinner,
}

impl Group {
    fn take(&mut self, written: &WrittenMessage) {
        let Some(seen) = evidence(&written.message) else { return };
        let id = &written.message.id;
        if let Some(stands_for) = self.thinner.keep(&seen)
            && let Some(row) = row(written, seen, stands_for)
        {
            self.rows.push(row);
        }
        if self.mark.as_ref().is_none_or(|mark| mark < id) {
            self.mark = Some(id.clone());
        }
    }
}

fn row(written: &WrittenMessage, seen: Evidence, (uplinks, lost): (u16, u16)) -> Option<ObservationRow> {
    let message = Ulid::from_string(&written.message.id).ok()?;
    let at_ms = written.message.time.timestamp_millis().unsigned_abs();
    let heard = seen.heard.into_iter().map(|(gateway, rssi_dbm, snr_db)| HeardRow { gateway, rssi_dbm, snr_db });
    Some(ObservationRow {
        estate_id: written.estate_id,
        id: Ulid::from_parts(at_ms, message.random()),
        dev_eui: seen.dev_eui,
        import_id: None,
        told_place: seen.told_place,
        data_rate: seen.data_rate,
        needed_snr_db: seen.needed_snr_db as f32,
        power_dbm: seen.power_dbm.map(|dbm| dbm as f32),
        uplinks,
        lost,
        heard: heard.collect(),
    })
}

impl Feeder {
    /// Works until the service stops.
    pub(crate) async fn run(self) {
        let mut listener = self.live.listen_within();
        let mut group = Group::default();
        let mut tick = tokio::time::interval(EVERY);
        let mut from = Some(AGAIN);
        loop {
            if let Some(again) = from {
                let caught_up = tokio::select! {
                    done = self.catch_up(&mut group, again) => done,
                    () = self.stopping.cancelled() => return,
                };
                match caught_up {
                    Ok(()) => from = None,
                    Err(why) => {
                        tracing::warn!("the survey waits for the database: {why}");
                        tokio::select! {
                            () = tokio::time::sleep(RETRY) => {}
                            () = self.stopping.cancelled() => return,
                        }
                    }
                }
                continue;
            }
            let store = tokio::select! {
                heard = listener.recv() => match heard {
                    // They are read from the history later: until then the processor is for frames.
                    Ok(_) if self.metrics.is_late() || group.rows.len() >= MOST_WAITING => {
                        group = Group::default();
                        from = Some(TimeDelta::zero());
                        false
                    }
                    Ok(written) => {
                        let rows = group.rows.len();
                        group.take(&written);
                        let one_more = group.rows.len() > rows;
                        one_more && group.rows.len().is_multiple_of(GROUP) && !self.is_busy()
                    }
                    Err(RecvError::Lagged(_)) => {
                        from = Some(TimeDelta::zero());
                        false
                    }
                    Err(RecvError::Closed) => return,
                },
                _ = tick.tick() => !self.is_busy(),
                () = self.stopping.cancelled() => {
                    if let Err(why) = self.store(&mut group).await {
                        tracing::debug!("the last observations are taken in at the next start: {why}");
                    }
                    return;
                }
            };
            if store && let Err(why) = self.store(&mut group).await {
                tracing::debug!("observations are read again from the history: {why}");
                from = Some(TimeDelta::zero());
            }
        }
    }

    /// Whether frames wait: they go first, and the database is theirs.
    fn is_busy(&self) -> bool {
        self.metrics.is_late() || self.network.backlog().0 >= BUSY
    }

    async fn until_there_is_room(&self) {
        while self.is_busy() {
            tokio::time::sleep(WHILE_BUSY).await;
        }
    }

    /// Stores what was gathered. What cannot be stored is dropped: it is read again from the history.
    async fn store(&self, group: &mut Group) -> Result<(), StoreError> {
        let (rows, mark) = (std::mem::take(&mut group.rows), group.mark.take());
        if mark.is_none() {
            return Ok(());
        }
        self.store.add_observations(&rows, mark.as_deref()).await?;
        self.surveys.extend(&rows).await;
        Ok(())
    }

    /// Reads what was missed from the history of messages.
    async fn catch_up(&self, group: &mut Group, again: TimeDelta) -> Result<(), StoreError> {
        self.until_there_is_room().await;
        self.store(group).await?;
        let oldest = first_name_at(Utc::now() - self.kept_for);
        let mut after = match self.store.survey_mark().await? {
            Some(mark) if again.is_zero() => mark,
            Some(mark) => moment_of_name(&mark).map_or(mark, |at| first_name_at(at - again)),
            None => oldest.clone(),
        };
        after = after.max(oldest);
        loop {
            let begun = Instant::now();
            let page = self.store.uplinks_after(&after, PAGE).await?;
            page.iter().for_each(|written| group.take(written));
            let whole = page.len() < PAGE as usize;
            if let Some(last) = page.into_iter().last() {
                after = last.message.id;
            }
            self.store(group).await?;
            if whole {
                self.surveys.news.notify_one();
                return Ok(());
            }
            tokio::time::sleep(PAUSE.max(begun.elapsed() * PAUSES_FOR_WORK)).await;
            self.until_there_is_room().await;
        }
    }
}

#[cfg(test)]
mod tests {
    use api::message::Message;
    use serde_json::json;

    use super::*;

    fn written(id: &str, minute: u32, counter: u32, kind: &str) -> WrittenMessage {
        let message: Message = serde_json::from_value(json!({
            "type": kind, "id": id, "time": format!("2026-05-04T09:{minute:02}:00Z"), "estate": "tarnsey", "fleet": "tide",
            "device": { "eui": "02b0090000000001", "name": "tide" },
            "frame": { "counter": counter, "port": 2, "confirmed": false, "payload": "01" },
            "radio": { "region": "EU868", "data_rate": 3, "spreading_factor": 9, "bandwidth_khz": 125,
                "frequency_mhz": 868.1, "airtime_ms": 100.0, "power_dbm": 12.0 },
            "readings": {}, "warnings": [],
            "heard_by": [{ "gateway": "02a1f00000000001", "name": "g", "rssi_dbm": -101.0, "snr_db": 2.5 }],
            "code": "silent", "wants_attention": false, "why": "", "evidence": [], "next_step": null
        }))
        .unwrap();
        WrittenMessage { estate_id: 7, message, json: String::new() }
    }

    const FIRST: &str = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C";
    const SECOND: &str = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9D";
    const THIRD: &str = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9E";

    #[test]
    fn a_group_names_rows_by_their_messages_and_marks_the_last() {
        let mut group = Group::default();
        group.take(&written(FIRST, 0, 10, "uplink"));
        group.take(&written(THIRD, 11, 13, "uplink"));
        // One that was decoded late comes after one that is younger.
        group.take(&written(SECOND, 2, 11, "uplink"));
        assert_eq!(group.mark.as_deref(), Some(THIRD));
        assert_eq!(group.rows.len(), 3);
        let (first, second) = (&group.rows[0], &group.rows[1]);
        assert_eq!((first.estate_id, first.uplinks, first.lost, first.power_dbm), (7, 1, 0, Some(12.0)));
        assert_eq!((second.uplinks, second.lost), (1, 2), "two of the counter are missing");
        let message = Ulid::from_string(FIRST).unwrap();
        assert_eq!(first.id.random(), message.random());
        assert_eq!(first.id.timestamp_ms(), 1_777_885_200_000, "its own time, not that of its name");
        assert_eq!(first.heard.len(), 1);
    }

    #[test]
    fn what_is_no_uplink_is_passed_over_and_one_read_twice_has_one_name() {
        let mut group = Group::default();
        group.take(&written(FIRST, 0, 10, "notice"));
        assert!(group.rows.is_empty() && group.mark.is_none());
        group.take(&written(FIRST, 0, 10, "uplink"));
        let mut again = Group::default();
        again.take(&written(FIRST, 0, 10, "uplink"));
        assert_eq!(group.rows, again.rows);
    }

    #[test]
    fn of_a_device_that_stands_still_few_are_kept() {
        let mut group = Group::default();
        for minute in 0..60 {
            let id = Ulid::from_parts(1_777_885_200_000 + u64::from(minute), 1).to_string();
            group.take(&written(&id, minute, minute, "uplink"));
        }
        assert_eq!(group.rows.len(), 6);
        assert_eq!(group.rows.iter().map(|row| u32::from(row.uplinks)).sum::<u32>(), 51, "nine more wait for the next");
    }
}

//! How an outlet reads on: as far as it has room, and less while uplinks are stored late.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::{Duration, Instant};

use domain::outlet::Choice;
use lorawan::Eui64;
use store::{StoreError, WrittenMessage};
use tokio::sync::Semaphore;

use crate::outlets::task::{DATABASE_RETRY, Task, Work};
use crate::outlets::window::{Item, MOST};
use crate::pipeline::metrics::Metrics;
use crate::pipeline::recent::Told;

/// Messages that all outlets together have read and not delivered, without those that wait for a retry. It is small, so that
/// outlets soon pause once uplinks are stored late. Each outlet may have `LEAST`.
const TOGETHER: usize = 4_000;
const LEAST: usize = 200;
/// While uplinks are stored late, they go first: all outlets together read so many messages, and then pause.
const STEP_WHILE_LATE: usize = 500;
const PAUSE_WHILE_LATE: Duration = Duration::from_secs(1);
/// Outlets that read from the database at the same time.
const READ_AT_ONCE: usize = 2;
/// How often devices with the outlet's tag are looked up.
const TAG_EVERY: Duration = Duration::from_secs(10);

/// What outlets share, so that many take no more of the machine than a few. Each running outlet holds one reference to it.
pub(in crate::outlets) struct Ration {
    metrics: Arc<Metrics>,
    reads: Semaphore,
}

impl Ration {
    pub(in crate::outlets) fn new(metrics: Arc<Metrics>) -> Arc<Self> {
        Arc::new(Self { metrics, reads: Semaphore::new(READ_AT_ONCE) })
    }

    fn outlets(self: &Arc<Self>) -> usize {
        Arc::strong_count(self).saturating_sub(1)
    }

    /// How many messages one outlet may have read and not delivered.
    fn most(self: &Arc<Self>) -> usize {
        share(TOGETHER, self.outlets()).clamp(LEAST, MOST)
    }

    /// How many messages one outlet reads before it pauses; `None` while uplinks are stored in time.
    fn step(self: &Arc<Self>) -> Option<usize> {
        self.metrics.is_late().then(|| share(STEP_WHILE_LATE, self.outlets()))
    }
}

/// The share of one outlet of so many.
fn share(of: usize, outlets: usize) -> usize {
    (of / outlets.max(1)).max(1)
}

impl Task {
    fn takes(&self, tagged: &HashSet<Eui64>, written: &WrittenMessage) -> bool {
        let choice = Choice::of(&self.row.settings, &self.row.former_fleets);
        choice.takes(&written.message, |eui| tagged.contains(&eui))
    }

    /// How many messages it may read now: a full window is read on once half of it is done, so that pages are large.
    pub(super) fn may_read(&self, work: &Work) -> usize {
        let (most, moving) = (self.ration.most(), work.window.moving());
        let has_room = work.window.room() > MOST / 2 && moving <= most / 2;
        if !has_room || work.read_at > Instant::now() { 0 } else { work.window.room().min(most - moving) }
    }

    /// Reads on as far as there is room.
    pub(super) async fn read(&self, work: &mut Work) {
        if self.may_read(work) == 0 {
            return;
        }
        if let Err(why) = self.read_tagged(work).await {
            return self.database_is_away(work, &why);
        }
        while work.reader.is_behind() {
            let room = self.may_read(work);
            if room == 0 {
                return;
            }
            let step = self.ration.step();
            match self.read_once(work, room.min(step.unwrap_or(MOST))).await {
                Ok(found) => {
                    found.into_iter().for_each(|(told, written)| work.window.put(Item::new(told, written)));
                    work.window.pass(work.reader.position());
                    if step.is_some() {
                        work.read_at = Instant::now() + PAUSE_WHILE_LATE;
                    }
                }
                Err(why) => return self.database_is_away(work, &why),
            }
        }
    }

    async fn read_once(&self, work: &mut Work, most: usize) -> Result<Vec<Told>, StoreError> {
        let Work { reader, tagged, .. } = work;
        let wanted = |written: &WrittenMessage| self.takes(tagged, written);
        if let Some(found) = reader.read_recent(most, wanted) {
            return Ok(found);
        }
        // It is never closed.
        let _turn = self.ration.reads.acquire().await.ok();
        reader.read_stored(most, wanted).await
    }

    async fn read_tagged(&self, work: &mut Work) -> Result<(), StoreError> {
        let Some(tag) = &self.row.settings.tag else { return Ok(()) };
        if work.tagged_at.is_none_or(|at| at.elapsed() >= TAG_EVERY) {
            work.tagged = self.store.devices_with_tag(self.row.estate_id, tag).await?.into_iter().collect();
            work.tagged_at = Some(Instant::now());
        }
        Ok(())
    }

    fn database_is_away(&self, work: &mut Work, why: &StoreError) {
        tracing::debug!("outlet {} waits for the database: {why}", self.row.settings.slug);
        work.read_at = Instant::now() + DATABASE_RETRY;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_outlets_together_read_no_more_than_one() {
        assert_eq!(share(STEP_WHILE_LATE, 1), STEP_WHILE_LATE);
        for outlets in 2..=STEP_WHILE_LATE {
            let together = share(STEP_WHILE_LATE, outlets) * outlets;
            assert!(together <= STEP_WHILE_LATE && together > STEP_WHILE_LATE / 2, "{outlets}: {together}");
        }
        assert_eq!(share(STEP_WHILE_LATE, usize::MAX), 1, "none stands still");
    }
}

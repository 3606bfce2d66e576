//! How an outlet reads on: as far as it has room, and less while uplinks are stored late.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::{Duration, Instant};

use domain::outlet::Choice;
use lorawan::Eui64;
use store::{StoreError, WrittenMessage};

use crate::outlets::task::{DATABASE_RETRY, Task, Work};
use crate::outlets::window::{Item, MOST};
use crate::pipeline::metrics::Metrics;

/// While uplinks are stored late, the database and the processor are theirs: all outlets together read on by so many
/// messages, and then pause.
const STEP_WHILE_LATE: usize = 1_000;
const PAUSE_WHILE_LATE: Duration = Duration::from_secs(2);
/// How often devices with the outlet's tag are looked up.
const TAG_EVERY: Duration = Duration::from_secs(10);

/// What outlets share while uplinks are stored late. Each outlet at work holds one reference to it.
pub(in crate::outlets) struct Ration {
    metrics: Arc<Metrics>,
}

impl Ration {
    pub(in crate::outlets) fn new(metrics: Arc<Metrics>) -> Arc<Self> {
        Arc::new(Self { metrics })
    }

    /// How many messages one outlet reads before it pauses; `None` while uplinks are stored in time.
    fn step(self: &Arc<Self>) -> Option<usize> {
        self.metrics.is_late().then(|| share(Arc::strong_count(self).saturating_sub(1)))
    }
}

/// The share of one outlet of so many.
fn share(outlets: usize) -> usize {
    (STEP_WHILE_LATE / outlets.max(1)).max(1)
}

impl Task {
    fn takes(&self, tagged: &HashSet<Eui64>, written: &WrittenMessage) -> bool {
        let choice = Choice::of(&self.row.settings, &self.row.former_fleets);
        choice.takes(&written.message, |eui| tagged.contains(&eui))
    }

    /// Reads on as far as there is room.
    pub(super) async fn read(&self, work: &mut Work) {
        if work.read_at > Instant::now() {
            return;
        }
        if let Err(why) = self.read_tagged(work).await {
            return self.database_is_away(work, &why);
        }
        // A full window is read on once half of it is done, so that pages are large.
        while work.reader.is_behind() && work.window.room() > MOST / 2 {
            let step = self.ration.step();
            let Work { reader, window, tagged, .. } = work;
            let most = window.room().min(step.unwrap_or(MOST));
            match reader.read(most, |written| self.takes(tagged, written)).await {
                Ok(found) => {
                    found.into_iter().for_each(|(told, written)| window.put(Item::new(told, written)));
                    window.pass(reader.position());
                    if step.is_some() {
                        work.read_at = Instant::now() + PAUSE_WHILE_LATE;
                        return;
                    }
                }
                Err(why) => return self.database_is_away(work, &why),
            }
        }
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
        assert_eq!(share(1), STEP_WHILE_LATE);
        for outlets in 2..=STEP_WHILE_LATE {
            let together = share(outlets) * outlets;
            assert!(together <= STEP_WHILE_LATE && together > STEP_WHILE_LATE / 2, "{outlets}: {together}");
        }
        assert_eq!(share(usize::MAX), 1, "none stands still");
    }
}

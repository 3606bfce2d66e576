//! The surveys that are looked at, and the changes of signal that were found in them.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use coverage::survey::changes::{Change, changes};
use store::{EstateId, ObservationRow, Store, StoreError};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

use crate::planning::survey::opened::OpenSurvey;

/// Surveys in memory, at most.
const MOST: usize = 3;
/// How long devices are believed to be as they were.
const FRESH: Duration = Duration::from_secs(10);
/// How often changes of signal are looked for.
const EVERY: Duration = Duration::from_secs(3600);

/// A survey, and when its devices were last seen to be the same.
type Held = (EstateId, Instant, Arc<OpenSurvey>);

/// Surveys in memory.
pub struct Surveys {
    store: Store,
    opened: Mutex<VecDeque<Held>>,
    /// One survey is opened at a time: a map asks for many tiles at once.
    opening: tokio::sync::Mutex<()>,
    changes: Mutex<HashMap<EstateId, Vec<Change>>>,
    /// Told when the survey has taken in what it had missed.
    pub news: Notify,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Surveys {
    pub(crate) fn new(store: Store) -> Self {
        Self {
            store,
            opened: Mutex::default(),
            opening: tokio::sync::Mutex::default(),
            changes: Mutex::default(),
            news: Notify::new(),
        }
    }

    /// An estate's survey.
    ///
    /// # Errors
    /// If the database does not answer.
    pub(crate) async fn open(&self, estate: EstateId) -> Result<Arc<OpenSurvey>, StoreError> {
        if let Some(fresh) = self.held(estate, FRESH) {
            return Ok(fresh);
        }
        let _turn = self.opening.lock().await;
        // Another may have opened it meanwhile.
        if let Some(fresh) = self.held(estate, FRESH) {
            return Ok(fresh);
        }
        let devices = self.store.surveyed_devices(estate).await?;
        let unchanged = self.held(estate, Duration::MAX).filter(|held| held.devices == devices);
        let opened = match unchanged {
            Some(held) => held,
            None => {
                self.forget(estate);
                Arc::new(OpenSurvey::read(&self.store, estate, devices).await?)
            }
        };
        let mut all = lock(&self.opened);
        all.retain(|(held, ..)| *held != estate);
        all.push_front((estate, Instant::now(), Arc::clone(&opened)));
        all.truncate(MOST);
        Ok(opened)
    }

    fn held(&self, estate: EstateId, fresh: Duration) -> Option<Arc<OpenSurvey>> {
        let all = lock(&self.opened);
        let found = all.iter().find(|(held, seen, _)| *held == estate && seen.elapsed() < fresh);
        found.map(|(.., opened)| Arc::clone(opened))
    }

    /// Closes an estate's survey: something of it has changed.
    pub(crate) fn forget(&self, estate: EstateId) {
        lock(&self.opened).retain(|(held, ..)| *held != estate);
    }

    /// Takes in what was observed and is stored, where it is looked at.
    pub(crate) async fn extend(&self, rows: &[ObservationRow]) {
        // A survey that is being read has these rows, or gets them now.
        let _turn = self.opening.lock().await;
        let opened: Vec<(EstateId, Arc<OpenSurvey>)> =
            lock(&self.opened).iter().map(|(estate, _, opened)| (*estate, Arc::clone(opened))).collect();
        for (estate, opened) in opened {
            opened.extend(rows.iter().filter(|row| row.estate_id == estate));
        }
    }

    /// The changes of signal that were last found in an estate, the oldest first.
    pub(crate) fn changes(&self, estate: EstateId) -> Vec<Change> {
        lock(&self.changes).get(&estate).cloned().unwrap_or_default()
    }

    /// Looks for changes of signal in an estate.
    ///
    /// # Errors
    /// If the database does not answer.
    pub(crate) async fn look(&self, estate: EstateId) -> Result<(), StoreError> {
        let opened = self.open(estate).await?;
        if let Ok(found) = tokio::task::spawn_blocking(move || changes(&opened.record())).await {
            lock(&self.changes).insert(estate, found);
        }
        Ok(())
    }

    /// Looks for changes of signal until the service stops.
    pub(crate) async fn watch(self: Arc<Self>, stopping: CancellationToken) {
        let mut often = tokio::time::interval_at(tokio::time::Instant::now() + EVERY, EVERY);
        loop {
            tokio::select! {
                _ = often.tick() => {}
                () = self.news.notified() => {}
                () = stopping.cancelled() => return,
            }
            let looked = async {
                for estate in self.store.surveyed_estates().await? {
                    self.look(estate).await?;
                }
                Ok::<_, StoreError>(())
            };
            tokio::select! {
                done = looked => if let Err(why) = done {
                    tracing::warn!("changes of signal were not looked for: {why}");
                },
                () = stopping.cancelled() => return,
            }
        }
    }
}

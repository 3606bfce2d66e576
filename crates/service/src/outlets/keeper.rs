//! All outlets: begins and ends their tasks, and tells how they stand.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use anyhow::Result;
use api::outlet::{CommandTaken, Delivery, Outlet, OutletState, OutletStatus};
use chrono::{DateTime, Utc};
use domain::outlet::Choice;
use store::{EstateId, MOST_COUNTED, OutletId, OutletRow, Store, StoreError, WrittenMessage};
use tokio::runtime::{Builder, Handle, Runtime};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::downlinks::Downlinks;
use crate::outlets::news::{OutletNews, SharedNews, locked as news_of};
use crate::outlets::reader::Reader;
use crate::outlets::sending::{Allowed, Parts, Sender};
use crate::outlets::task::{Extra, MOST_EXTRA, Ration, Task};
use crate::pipeline::directory::Directory;
use crate::pipeline::metrics::Metrics;
use crate::pipeline::recent::Recent;

/// Before outlets are read once more, if the database did not answer at the start.
const RETRY: Duration = Duration::from_secs(5);

/// Threads that deliver.
const THREADS: usize = 2;

/// What outlets work on: threads of their own, so that shaping and sending keep none of those busy that take frames.
///
/// # Errors
/// If no thread can be started.
pub(crate) fn runtime() -> std::io::Result<Runtime> {
    Builder::new_multi_thread().worker_threads(THREADS).thread_name("outlets").enable_all().build()
}

/// All outlets.
pub(crate) struct Outlets {
    store: Store,
    recent: Arc<Recent>,
    ration: Arc<Ration>,
    allowed: Allowed,
    directory: Arc<Directory>,
    /// What commands that come back go through; known once the network runs.
    downlinks: OnceLock<Downlinks>,
    running: Mutex<HashMap<OutletId, Running>>,
    /// One outlet is begun or ended at a time.
    turn: tokio::sync::Mutex<()>,
    /// Where outlets work.
    runtime: Handle,
    stopping: CancellationToken,
}

struct Running {
    row: OutletRow,
    news: SharedNews,
    extra: mpsc::Sender<Extra>,
    stop: CancellationToken,
    /// What it sends by, and the task that does; nothing if it is paused or cannot send.
    sender: Option<Arc<Sender>>,
    task: Option<JoinHandle<()>>,
}

/// An outlet that is in trouble, for the watch page.
#[derive(Debug, Clone)]
pub(crate) struct Troubled {
    pub slug: String,
    pub state: OutletState,
    pub since: DateTime<Utc>,
    pub why: String,
    pub waiting: u64,
    /// When the oldest message that waits happened.
    pub oldest: Option<DateTime<Utc>>,
}

impl Outlets {
    pub(crate) fn new(
        store: Store,
        (recent, directory, metrics): (Arc<Recent>, Arc<Directory>, Arc<Metrics>),
        allowed: Allowed,
        (runtime, stopping): (Handle, CancellationToken),
    ) -> Self {
        let (running, turn) = (Mutex::default(), tokio::sync::Mutex::default());
        let downlinks = OnceLock::new();
        let ration = Ration::new(metrics);
        Self { store, recent, ration, allowed, directory, downlinks, running, turn, runtime, stopping }
    }

    /// Says what commands that come back go through.
    pub(crate) fn commands_by(&self, downlinks: Downlinks) {
        // It is said once, at the start.
        let _ = self.downlinks.set(downlinks);
    }

    fn locked(&self) -> MutexGuard<'_, HashMap<OutletId, Running>> {
        self.running.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins all outlets, and ends them when the service stops.
    pub(crate) async fn run(self: Arc<Self>) {
        loop {
            match self.store.all_outlets().await {
                Ok(all) => {
                    for (id, row) in all {
                        match row {
                            Ok(row) => self.begin(row).await,
                            Err(why) => tracing::error!("outlet {id} cannot be read, and delivers nothing: {why}"),
                        }
                    }
                    break;
                }
                Err(why) => tracing::warn!("outlets wait for the database: {why}"),
            }
            tokio::select! {
                () = tokio::time::sleep(RETRY) => {}
                () = self.stopping.cancelled() => return,
            }
        }
        self.stopping.cancelled().await;
        let ids: Vec<OutletId> = self.locked().keys().copied().collect();
        for id in ids {
            self.end(id).await;
        }
    }

    /// A sender for an outlet. `downlinks` are what commands go through, for one that takes them.
    async fn sender(&self, row: &OutletRow, news: &SharedNews, downlinks: Option<Downlinks>) -> Result<Sender> {
        let (allowed, stopping) = (self.allowed.clone(), self.stopping.clone());
        let estate = self.directory.estate_slug(row.estate_id);
        let parts = Parts { allowed, downlinks, news: Arc::clone(news), stopping };
        let row = row.clone();
        // The system's certificates are read from the disk. What a sender begins belongs to the outlets' threads as well.
        self.runtime.spawn_blocking(move || Sender::new(&row, &estate, parts)).await?
    }

    /// Whether an outlet could send.
    ///
    /// # Errors
    /// What of the settings cannot be used: the field, as the error's text; and why, as its cause.
    pub(crate) async fn check(&self, row: &OutletRow) -> Result<()> {
        self.sender(row, &SharedNews::new(Mutex::new(OutletNews::new(0))), None).await.map(drop)
    }

    /// Begins an outlet.
    pub(crate) async fn begin(&self, row: OutletRow) {
        let _turn = self.turn.lock().await;
        self.begin_now(row).await;
    }

    /// Stops an outlet, changes its record, and starts it again. Requests that are under way are waited for, within limits.
    pub(crate) async fn change<T>(
        &self,
        row: &OutletRow,
        change: impl Future<Output = Result<T, StoreError>>,
    ) -> Result<T, StoreError> {
        let _turn = self.turn.lock().await;
        self.end_now(row.id).await;
        let done = change.await;
        match self.store.outlet_by_id(row.id).await {
            Ok(Some(row)) => self.begin_now(row).await,
            Ok(None) => {}
            Err(why) => {
                tracing::warn!("outlet {} goes on as it was when it was last read: {why}", row.settings.slug);
                self.begin_now(row.clone()).await;
            }
        }
        done
    }

    async fn begin_now(&self, row: OutletRow) {
        let mut told = OutletNews::new(row.progress.position);
        told.waiting = row.progress.undone.len() as u64;
        let paused = row.paused.as_ref().map(|paused| paused.why.clone());
        if let Some(why) = &paused {
            told.becomes(OutletState::Paused, Some(why.clone()));
        }
        let news: SharedNews = Arc::new(Mutex::new(told));
        // One that is paused has no connection either.
        let sender = match paused {
            Some(_) => None,
            None => Some(self.sender(&row, &news, self.downlinks.get().cloned()).await),
        };
        if let Some(Err(why)) = &sender {
            news_of(&news).becomes(OutletState::Failing, Some(format!("{why:#}")));
        }
        let sender = sender.and_then(Result::ok).map(Arc::new);
        let (extra, extra_taken) = mpsc::channel(MOST_EXTRA);
        let stop = self.stopping.child_token();
        let task = sender.clone().map(|sender| {
            let task = Task {
                row: row.clone(),
                sender,
                store: self.store.clone(),
                recent: Arc::clone(&self.recent),
                ration: Arc::clone(&self.ration),
                news: Arc::clone(&news),
                extra: extra_taken,
                stopping: stop.clone(),
            };
            self.runtime.spawn(task.run())
        });
        self.locked().insert(row.id, Running { row, news, extra, stop, sender, task });
    }

    /// Ends an outlet, once what was under way is done.
    pub(crate) async fn end(&self, id: OutletId) {
        let _turn = self.turn.lock().await;
        self.end_now(id).await;
    }

    async fn end_now(&self, id: OutletId) {
        let Some(running) = self.locked().remove(&id) else { return };
        running.stop.cancel();
        if let Some(task) = running.task
            && let Err(why) = task.await
        {
            tracing::error!("outlet {} ended early: {why}", running.row.settings.slug);
        }
    }

    /// Ends all outlets of an estate that is removed.
    pub(crate) async fn end_all_of(&self, estate: EstateId) {
        let of = |running: &&Running| running.row.estate_id == estate;
        let ids: Vec<OutletId> = self.locked().values().filter(of).map(|running| running.row.id).collect();
        for id in ids {
            self.end(id).await;
        }
    }

    /// The outlet as it is shown.
    pub(crate) async fn shown(&self, row: &OutletRow, revision: String) -> Result<Outlet, StoreError> {
        let dead_letters = self.store.count_dead_letters(row.id).await?;
        let (mut status, read_until) = self.status(row);
        status.dead_letters = dead_letters;
        let until = self.recent.until();
        let beyond = self.store.count_told(row.estate_id, (read_until, until)).await?;
        if status.oldest_waiting.is_none() && beyond > 0 {
            let first = self.store.told(row.estate_id, (read_until, until), 1).await?;
            status.oldest_waiting = first.first().map(|first| first.written.message.time);
        }
        status.backlog = (status.backlog + beyond).min(MOST_COUNTED);
        Ok(Outlet {
            revision,
            settings: row.settings.clone(),
            secrets_set: row.secrets.names(),
            status,
            added_at: row.added_at,
        })
    }

    /// How an outlet stands, as far as it is known without the database, and up to where it has read.
    fn status(&self, row: &OutletRow) -> (OutletStatus, u64) {
        let running = self.locked();
        let Some(running) = running.get(&row.id) else {
            let mut news = OutletNews::new(row.progress.position);
            news.waiting = row.progress.undone.len() as u64;
            news.becomes(OutletState::Failing, Some("it has not begun yet".into()));
            return status_of(&mut news);
        };
        status_of(&mut news_of(&running.news))
    }

    /// Its last deliveries, newest first.
    pub(crate) fn deliveries(&self, id: OutletId) -> Vec<Delivery> {
        self.locked().get(&id).map(|running| news_of(&running.news).deliveries()).unwrap_or_default()
    }

    /// The folder of an outlet that writes files.
    pub(crate) fn folder_of(&self, row: &OutletRow) -> PathBuf {
        self.allowed.folder_of(&self.directory.estate_slug(row.estate_id), &row.settings.slug)
    }

    /// The commands that came back to it last, newest first.
    pub(crate) fn commands(&self, id: OutletId) -> Vec<CommandTaken> {
        self.locked().get(&id).map(|running| news_of(&running.news).commands_taken()).unwrap_or_default()
    }

    /// Sends one message now, beside what waits, and tells what came of it.
    ///
    /// # Errors
    /// If the settings cannot be used.
    pub(crate) async fn try_out(&self, row: &OutletRow, written: &WrittenMessage) -> Result<Delivery> {
        // By the one that runs, if it does: a broker has one connection of a name, and a file one writer.
        let running = self.locked().get(&row.id).and_then(|running| running.sender.clone());
        let sender = match running {
            Some(sender) => sender,
            None => Arc::new(self.sender(row, &SharedNews::new(Mutex::new(OutletNews::new(0))), None).await?),
        };
        Ok(sender.send(&[written]).await.1)
    }

    /// Hands a rehearsal to the outlets that take such a message; their short names. It is sent once.
    pub(crate) fn rehearse(&self, written: &Arc<WrittenMessage>, has_tag: impl Fn(&str) -> bool) -> Vec<String> {
        let running = self.locked();
        let takes = |running: &&Running| {
            let OutletRow { estate_id, settings, former_fleets, .. } = &running.row;
            let tagged = |_| settings.tag.as_deref().is_some_and(&has_tag);
            *estate_id == written.estate_id
                && running.task.is_some()
                && Choice::of(settings, former_fleets).takes(&written.message, tagged)
        };
        let taken = running.values().filter(takes).filter(|running| {
            let rehearsal = Extra::Rehearsal(Arc::clone(written));
            running.extra.try_send(rehearsal).is_ok()
        });
        let mut names: Vec<String> = taken.map(|running| running.row.settings.slug.clone()).collect();
        names.sort();
        names
    }

    /// Has dead letters tried again; how many.
    pub(crate) fn replay(&self, id: OutletId, letters: &[u64]) -> u64 {
        let running = self.locked();
        let Some(running) = running.get(&id).filter(|running| running.task.is_some()) else { return 0 };
        letters.iter().filter(|letter| running.extra.try_send(Extra::Letter(**letter)).is_ok()).count() as u64
    }

    /// The number up to which all messages are durable.
    pub(crate) fn until(&self) -> u64 {
        self.recent.until()
    }

    /// Reads an estate's messages on from a number.
    pub(crate) fn reader(&self, estate: EstateId, position: u64) -> Reader {
        Reader::after(self.store.clone(), Arc::clone(&self.recent), estate, position)
    }

    /// So many dead letters of an outlet were removed.
    pub(crate) fn letters_removed(&self, id: OutletId, count: u64) {
        if let Some(running) = self.locked().get(&id) {
            let mut news = news_of(&running.news);
            news.dead_letters = news.dead_letters.saturating_sub(count);
        }
    }

    /// An estate's outlets that do not deliver as they should.
    pub(crate) fn troubled(&self, estate: EstateId) -> Vec<Troubled> {
        let running = self.locked();
        let mut all: Vec<Troubled> = running
            .values()
            .filter(|running| running.row.estate_id == estate)
            .filter_map(|running| {
                let news = news_of(&running.news);
                let (slug, why) = (running.row.settings.slug.clone(), news.why.clone().unwrap_or_default());
                let (state, since, waiting, oldest) = (news.state, news.since, news.waiting, news.oldest);
                (state != OutletState::Delivering).then_some(Troubled { slug, state, since, why, waiting, oldest })
            })
            .collect();
        all.sort_by(|a, b| a.slug.cmp(&b.slug));
        all
    }
}

/// How an outlet stands, and up to where it has read.
fn status_of(news: &mut OutletNews) -> (OutletStatus, u64) {
    let status = OutletStatus {
        state: news.state,
        since: news.since,
        why: news.why.clone(),
        next_try: news.next_try,
        delivered: news.delivered,
        backlog: news.waiting,
        oldest_waiting: news.oldest,
        dead_letters: 0,
        last_delivered: news.last_delivered,
        a_minute: news.a_minute(Instant::now()),
        commands: news.commands.clone(),
    };
    (status, news.read_until)
}

//! Computes forecasts as jobs: one at a time, on all cores, in turns between estates.

use std::collections::{HashMap, HashSet, VecDeque};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use anyhow::{Context as _, Result};
use api::coverage::forecast::{Forecast, ForecastState};
use api::problem::Problem;
use chrono::Utc;
use coverage::area::AreaError;
use coverage::geo::Place;
use coverage::terrain::grid::Grid;
use rayon::{ThreadPool, ThreadPoolBuilder};
use store::{DeviceQuery, DeviceRow, EstateId, ForecastRow, Store, StoreError};
use tokio::sync::Notify;
use tokio::task::{JoinError, spawn_blocking};
use tokio_util::sync::CancellationToken;

use crate::ground::Ground;
use crate::ground::grounds::Grounds;
use crate::planning::losses::Losses;
use crate::planning::opened::{OpenForecast, Plan};
use crate::planning::sites::Placed;

/// How often forecasts are looked for when no notice of one comes.
const LOOK_EVERY: Duration = Duration::from_secs(30);
/// How often files that nobody names are deleted.
const PRUNE_EVERY: Duration = Duration::from_secs(3600);
/// Memory of all open forecasts together, in bytes; the latest stays open in any case.
const IN_MEMORY: usize = 400_000_000;
/// Devices that the figures count, at most.
const MOST_DEVICES: u32 = 20_000;
/// Threads of forecasts yield to all other threads (`nice`).
const NICENESS: i32 = 10;

/// A forecast that is being computed.
#[derive(Default)]
struct Running {
    percent: AtomicU8,
    stopped: AtomicBool,
}

/// What is computed, the ground that it is computed from, and its progress.
#[derive(Clone)]
struct Work {
    plan: Arc<Plan>,
    ground: Arc<Ground>,
    running: Arc<Running>,
}

/// Computes forecasts, and keeps those open that are looked at.
pub struct Forecaster {
    grounds: Arc<Grounds>,
    losses: Losses,
    pool: ThreadPool,
    running: Mutex<Option<(String, Arc<Running>)>>,
    opened: Mutex<VecDeque<(String, u32, Arc<OpenForecast>)>>,
    /// One forecast is opened at a time: a map asks for many tiles at once.
    opening: tokio::sync::Mutex<()>,
    /// When an estate had its last turn.
    turns: Mutex<HashMap<EstateId, u64>>,
    /// Told when there is a new forecast.
    pub news: Notify,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Forecaster {
    /// Computes from the ground of each estate, and keeps losses in the data folder.
    ///
    /// # Errors
    /// Threads cannot be started.
    pub(crate) fn new(grounds: Arc<Grounds>, data: &Path) -> Result<Self> {
        let yielding = |_: usize| {
            let me = rustix::thread::gettid();
            if let Err(why) = rustix::process::setpriority_process(Some(me), NICENESS) {
                tracing::debug!("threads of forecasts do not yield to others: {why}");
            }
        };
        let pool = ThreadPoolBuilder::new().start_handler(yielding).thread_name(|n| format!("forecast-{n}")).build();
        Ok(Self {
            grounds,
            losses: Losses::new(data),
            pool: pool.context("starting threads for forecasts")?,
            running: Mutex::default(),
            opened: Mutex::default(),
            opening: tokio::sync::Mutex::default(),
            turns: Mutex::default(),
            news: Notify::new(),
        })
    }

    /// Computes something on all cores, beside the threads that serve. Blocks.
    pub(crate) fn on_all_cores<T: Send>(&self, what: impl FnOnce() -> T + Send) -> T {
        self.pool.install(what)
    }

    /// A forecast with its present progress; `ground` is that of its estate.
    pub(crate) fn with_progress(&self, row: ForecastRow, ground: &Ground) -> Forecast {
        let mut forecast = row.forecast;
        forecast.ground_changed = !forecast.ground.is_empty() && forecast.ground != ground.fingerprint();
        if let Some((id, running)) = &*lock(&self.running)
            && *id == forecast.id
            && !forecast.state.has_ended()
        {
            forecast.percent = running.percent.load(Ordering::Relaxed);
        }
        forecast
    }

    /// Closes the forecasts of an estate, whose ground has changed.
    pub(crate) fn close_all(&self, rows: &[ForecastRow]) {
        lock(&self.opened).retain(|(held, ..)| rows.iter().all(|row| row.forecast.id != *held));
    }

    /// Stops a forecast if it is being computed.
    pub(crate) fn stop(&self, id: &str) {
        if let Some((running, state)) = &*lock(&self.running)
            && running == id
        {
            state.stopped.store(true, Ordering::Relaxed);
        }
    }

    /// Closes a forecast.
    pub(crate) fn close(&self, id: &str) {
        lock(&self.opened).retain(|(held, ..)| held != id);
    }

    /// A forecast in memory, of the sites that are done, on this ground. Safe to cancel.
    ///
    /// # Errors
    /// No site is done, or a file is gone.
    pub(crate) async fn open(
        self: &Arc<Self>,
        row: &ForecastRow,
        ground: &Arc<Ground>,
    ) -> Result<Arc<OpenForecast>, Problem> {
        let (id, done) = (row.forecast.id.clone(), row.forecast.sites_done);
        let held = |all: &VecDeque<(String, u32, Arc<OpenForecast>)>| {
            let found = all.iter().find(|(held, sites, _)| *held == id && *sites == done);
            found.map(|(.., opened)| Arc::clone(opened))
        };
        if let Some(found) = held(&lock(&self.opened)) {
            return Ok(found);
        }
        let _turn = self.opening.lock().await;
        // Another may have opened it meanwhile.
        if let Some(found) = held(&lock(&self.opened)) {
            return Ok(found);
        }
        let (me, row, ground) = (Arc::clone(self), row.clone(), Arc::clone(ground));
        let opened = spawn_blocking(move || me.pool.install(|| OpenForecast::read(&ground, &me.losses, &row)));
        let failed = |why: JoinError| {
            Problem::new(500, "internal", "Something went wrong in the service").detail(why.to_string())
        };
        let opened = Arc::new(opened.await.map_err(failed)??);
        self.keep_open(&id, done, &opened);
        Ok(opened)
    }

    fn keep_open(&self, id: &str, done: u32, opened: &Arc<OpenForecast>) {
        let mut all = lock(&self.opened);
        all.retain(|(held, ..)| held != id);
        all.push_front((id.to_owned(), done, Arc::clone(opened)));
        let mut bytes = 0;
        all.retain(|(held, _, opened)| {
            bytes += opened.bytes();
            held == id || bytes <= IN_MEMORY
        });
    }

    /// Works until the service stops. A forecast that was not whole goes on with the next site.
    pub(crate) async fn run(self: Arc<Self>, store: Store, stopping: CancellationToken) {
        let mut prune = tokio::time::interval(PRUNE_EVERY);
        loop {
            let worked = tokio::select! {
                worked = self.work(&store) => worked,
                () = stopping.cancelled() => {
                    if let Some((_, running)) = &*lock(&self.running) {
                        running.stopped.store(true, Ordering::Relaxed);
                    }
                    return;
                }
            };
            match worked {
                Ok(true) => continue,
                Ok(false) => {}
                Err(why) => tracing::warn!("forecasts have to wait: {why}"),
            }
            tokio::select! {
                () = self.news.notified() => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
                _ = prune.tick() => self.prune(&store).await,
                () = stopping.cancelled() => return,
            }
        }
    }

    async fn prune(&self, store: &Store) {
        let pruned = async {
            let named: HashSet<String> = store.losses_in_use().await?.into_iter().collect();
            let losses = self.losses.clone();
            spawn_blocking(move || losses.prune(&named, SystemTime::now())).await?
        };
        if let Err(why) = pruned.await {
            tracing::warn!("unused files of losses were not deleted: {why:#}");
        }
        if let Err(why) = self.grounds.prune().await {
            tracing::warn!("unused files of the ground were not deleted: {why:#}");
        }
    }

    /// Works on one forecast; whether there was one.
    async fn work(self: &Arc<Self>, store: &Store) -> Result<bool, StoreError> {
        let open = store.open_forecasts().await?;
        let Some(mut row) = next(&mut lock(&self.turns), open) else { return Ok(false) };
        let running = Arc::new(Running::default());
        *lock(&self.running) = Some((row.forecast.id.clone(), Arc::clone(&running)));
        let ended = self.compute(store, &mut row, &running).await;
        *lock(&self.running) = None;
        match ended? {
            Ended::Whole => row.forecast.state = ForecastState::Done,
            Ended::Stopped => {
                // What is in memory has coarse sites among those that are done.
                self.close(&row.forecast.id);
                return Ok(true);
            }
            Ended::Failed(why) => {
                row.forecast.state = ForecastState::Failed;
                row.forecast.coarse = false;
                row.forecast.note = why;
            }
        }
        row.forecast.ended_at = Some(Utc::now());
        row.forecast.percent = if row.forecast.state == ForecastState::Done { 100 } else { row.forecast.percent };
        store.note_forecast(&row.forecast, &row.losses).await?;
        Ok(true)
    }

    async fn compute(
        self: &Arc<Self>,
        store: &Store,
        row: &mut ForecastRow,
        running: &Arc<Running>,
    ) -> Result<Ended, StoreError> {
        let plan = match Plan::of(&row.forecast) {
            Ok(plan) => Arc::new(plan),
            Err(problem) => return Ok(Ended::Failed(problem.to_string())),
        };
        let ground = self.grounds.of(row.estate_id).await?;
        let work = Work { plan, ground, running: Arc::clone(running) };
        row.forecast.ground = work.ground.fingerprint().to_owned();
        row.forecast.state = ForecastState::Running;
        (row.forecast.sites_done, row.forecast.sites_reused) = (0, 0);
        row.losses.clear();
        let mut grids = self.first_look(store, row, &work).await?;
        let mut opened = None;
        for (n, site) in work.plan.sites.iter().enumerate() {
            if !store.note_forecast(&row.forecast, &row.losses).await? {
                return Ok(Ended::Stopped);
            }
            let of = work.clone();
            let made = self.run_blocking(move |me| me.one_site(&of, n)).await;
            let (grid, file, reused) = match made {
                Ok(made) => made,
                Err(Ended::Failed(why)) => return Ok(Ended::Failed(format!("{}: {why}", site.name))),
                Err(ended) => return Ok(ended),
            };
            match grids.get_mut(n) {
                Some(coarse) => *coarse = Arc::new(grid),
                None => grids.push(Arc::new(grid)),
            }
            row.losses.push(file);
            row.forecast.sites_done += 1;
            row.forecast.sites_reused += u32::from(reused);
            // The map shows the sites so far after each one that was computed. Losses that were kept come at once.
            if n + 1 < work.plan.sites.len() && reused {
                continue;
            }
            let (Work { plan, ground, .. }, so_far) = (work.clone(), grids.clone());
            let made = self.run_blocking(move |me| {
                let made = me.pool.install(|| OpenForecast::of(ground, plan, so_far));
                made.map(Arc::new).map_err(|problem| Ended::Failed(problem.to_string()))
            });
            match made.await {
                Ok(made) => {
                    self.keep_open(&row.forecast.id, row.forecast.sites_done, &made);
                    opened = Some(made);
                }
                Err(ended) => return Ok(ended),
            }
        }
        row.forecast.coarse = false;
        let Some(opened) = opened else { return Ok(Ended::Failed("it has no sites".into())) };
        self.sum_up(store, row, opened).await
    }

    /// A first look at all sites in larger cells, which is there in a moment; none if all losses are known already.
    async fn first_look(
        self: &Arc<Self>,
        store: &Store,
        row: &mut ForecastRow,
        work: &Work,
    ) -> Result<Vec<Arc<Grid>>, StoreError> {
        let Work { plan, ground, running } = work.clone();
        let made = self.run_blocking(move |me| {
            if plan.sites.iter().all(|site| me.losses.has(&plan.key(&ground, site))) {
                return Ok(None);
            }
            let coarse = |site: &Placed| {
                let goes_on = |_: usize, _: usize| !running.stopped.load(Ordering::Relaxed);
                let made = me.pool.install(|| plan.coarse_key(&ground, site).computed(&ground, &goes_on));
                made.map(Arc::new).map_err(|why| Ended::Failed(format!("{}: {why}", site.name)))
            };
            let grids: Vec<Arc<Grid>> = plan.sites.iter().map(coarse).collect::<Result<_, _>>()?;
            let so_far = grids.clone();
            let opened = me.pool.install(|| OpenForecast::of(ground, plan, so_far));
            opened.map(|opened| Some((grids, Arc::new(opened)))).map_err(|why| Ended::Failed(why.to_string()))
        });
        // What fails here fails again below, where it is told.
        let Ok(Some((grids, opened))) = made.await else { return Ok(Vec::new()) };
        self.keep_open(&row.forecast.id, 0, &opened);
        row.forecast.coarse = true;
        store.note_forecast(&row.forecast, &row.losses).await?;
        Ok(grids)
    }

    /// The figures of a forecast that is whole.
    async fn sum_up(
        self: &Arc<Self>,
        store: &Store,
        row: &mut ForecastRow,
        opened: Arc<OpenForecast>,
    ) -> Result<Ended, StoreError> {
        let places = places(store, row.estate_id).await?;
        let made = self.run_blocking(move |_| Ok(opened.figures(&places)));
        match made.await {
            Ok(made) => row.forecast.figures = Some(made),
            Err(ended) => return Ok(ended),
        }
        Ok(Ended::Whole)
    }

    /// Does something that takes a while, away from the threads that serve.
    async fn run_blocking<T: Send + 'static>(
        self: &Arc<Self>,
        what: impl FnOnce(&Self) -> Result<T, Ended> + Send + 'static,
    ) -> Result<T, Ended> {
        let me = Arc::clone(self);
        spawn_blocking(move || what(&me)).await.unwrap_or_else(|why| Err(Ended::Failed(why.to_string())))
    }

    /// The losses of one site, the name of their file, and whether they were there already. Blocks.
    fn one_site(&self, work: &Work, n: usize) -> Result<(Grid, String, bool), Ended> {
        let Work { plan, ground, running } = work;
        let key = plan.key(ground, &plan.sites[n]);
        let sites = plan.sites.len();
        let progressed = |share: f64| {
            let percent = (n as f64 + share) / sites as f64 * 100.0;
            running.percent.store(percent as u8, Ordering::Relaxed);
        };
        if let Some(kept) = self.losses.load(&key) {
            progressed(1.0);
            return Ok((kept, key.file_name(), true));
        }
        let progress = |done: usize, of: usize| {
            progressed(done as f64 / of.max(1) as f64);
            !running.stopped.load(Ordering::Relaxed)
        };
        let grid = self.pool.install(|| key.computed(ground, &progress)).map_err(|why| match why {
            AreaError::Stopped => Ended::Stopped,
            why => Ended::Failed(why.to_string()),
        })?;
        let unsaved =
            |why: anyhow::Error| Ended::Failed(format!("its losses cannot be saved in the data folder: {why:#}"));
        self.losses.save(&key, &grid).map_err(unsaved)?;
        Ok((grid, key.file_name(), false))
    }
}

/// The forecast whose turn it is: of the estate that has waited longest, the oldest.
fn next(turns: &mut HashMap<EstateId, u64>, open: Vec<ForecastRow>) -> Option<ForecastRow> {
    let turn = |row: &ForecastRow| turns.get(&row.estate_id).copied().unwrap_or_default();
    let next = open.into_iter().min_by(|a, b| (turn(a), &a.forecast.id).cmp(&(turn(b), &b.forecast.id)))?;
    let latest = turns.values().max().copied().unwrap_or_default();
    turns.insert(next.estate_id, latest + 1);
    Some(next)
}

/// The places of an estate's devices, as far as they are known.
///
/// # Errors
/// The database cannot be read.
pub(crate) async fn places(store: &Store, estate: EstateId) -> Result<Vec<Place>, StoreError> {
    let devices = store.devices(estate, &DeviceQuery::default(), MOST_DEVICES).await?;
    let place = |device: &DeviceRow| device.place.and_then(|at| Place::new(at.latitude_deg, at.longitude_deg));
    Ok(devices.iter().filter_map(place).collect())
}

/// How a forecast ended.
enum Ended {
    Whole,
    /// Somebody stopped or removed it, or the service stops.
    Stopped,
    Failed(String),
}

#[cfg(test)]
mod tests {
    use api::coverage::forecast::NewForecast;
    use api::coverage::site::ReceiverRadio;

    use super::*;

    fn row(estate_id: EstateId, id: &str) -> ForecastRow {
        let usual = (Vec::new(), ReceiverRadio::default());
        let forecast = Forecast::waiting(id.into(), NewForecast::default(), usual, "Mara".into(), Utc::now());
        ForecastRow { estate_id, forecast, losses: Vec::new() }
    }

    #[test]
    fn estates_take_turns() {
        let mut turns = HashMap::new();
        let all = || vec![row(1, "a"), row(1, "b"), row(1, "c"), row(2, "d")];
        let mut order = Vec::new();
        let mut open = all();
        while let Some(next) = next(&mut turns, open.clone()) {
            open.retain(|one| one.forecast.id != next.forecast.id);
            order.push(next.forecast.id);
        }
        assert_eq!(order, ["a", "d", "b", "c"]);
    }
}

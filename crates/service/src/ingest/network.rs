//! Running the engine: one task that owns it, feeds it and calls it at its deadlines.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use engine::{
    Change, Command, Config, DeviceAttention, DeviceStatus, Effect, Engine, FrameHeard, GatewayStatus, GroupStatus,
    Input, OutboxId, OutboxState, Place, Timestamp, TransmissionId, TxFailure,
};
use lorawan::{DevAddr, Eui64};
use tokio::sync::mpsc::error::TrySendError;
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use store::Mark;

use crate::clock;
use crate::clock::Moment;
use crate::ingest::journal;
use crate::ingest::journal::{Journal, Record};
use crate::pipeline::mailbox::{EngineOutput, Mailbox};

/// Frames waiting for the engine, while it waits for the database: two minutes of 3,000 frames a second, and
/// at most 100 MB. Frames beyond are shed and counted by their listener.
const FRAMES: usize = 400_000;
/// Questions and commands waiting for it.
const ASKS: usize = 16_384;
/// Taken from either at once.
const AT_ONCE: usize = 512;
/// How long a link is held back because its frames cannot be journalled, or the engine is too far behind.
const HELD_BACK: Duration = Duration::from_secs(10);
/// How long the journal may keep frames that nothing followed from, such as other networks' downlinks.
const MARK_EVERY_US: i64 = 1_000_000;

/// Devices that the engine is asked about at a time.
const ASKED_AT_ONCE: usize = 2_000;

enum Ask {
    Report(TransmissionId, Result<(), TxFailure>),
    Command(Command),
    Cancel(Eui64, OutboxId, oneshot::Sender<bool>),
    Arrange(Eui64, OutboxId, Place, oneshot::Sender<bool>),
    Line(Eui64, oneshot::Sender<Vec<OutboxId>>),
    Device(Eui64, oneshot::Sender<Option<DeviceStatus>>),
    DevicesAt(DevAddr, oneshot::Sender<Vec<Eui64>>),
    Group(Eui64, oneshot::Sender<Option<GroupStatus>>),
    Gateways(Vec<Eui64>, oneshot::Sender<Vec<Option<GatewayStatus>>>),
    Attention(Vec<Eui64>, oneshot::Sender<Vec<DeviceAttention>>),
    Stop,
}

/// The result of handing in frames. Only journalled frames may be acknowledged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// They are in the journal and on their way.
    Journalled,
    /// They are on their way, but would not survive a kill: the journal cannot be written.
    Unwritten,
    /// The engine is so far behind that they had to be shed.
    Shed,
}

/// A frame on its way to the engine.
struct Heard {
    frame: FrameHeard,
    /// Its position in the journal.
    position: u64,
    /// By how much the clock had been set when it was heard.
    stepped_us: i64,
}

/// The handle of the engine's task.
#[derive(Clone)]
pub struct Network {
    asks: mpsc::Sender<Ask>,
    frames: mpsc::Sender<Heard>,
    journal: Arc<Mutex<Journal>>,
    health: Arc<JournalHealth>,
    looks_back_us: i64,
}

/// What an engine starts with.
pub(crate) struct Start {
    pub config: Config,
    /// Its state, as commands that put it back.
    pub restored: Vec<Command>,
    pub journal: Journal,
    pub before: Before,
}

/// Frames that the engine before this one received, and frames that it did not.
#[derive(Debug, Default)]
pub(crate) struct Before {
    /// How far it had come.
    pub mark: Option<Mark>,
    /// Frames that it was handed, as far as the journal still has them.
    pub handed: Vec<FrameHeard>,
    /// Frames that no engine was handed, with their positions; those of an older journal have none.
    pub new: Vec<(Option<u64>, FrameHeard)>,
}

impl Before {
    /// Parts the journal's frames at how far the engine had come. Their times may have been corrected since, and the
    /// mark's is with them.
    pub(crate) fn part(records: Vec<Record>, mark: Option<(Option<u64>, Timestamp)>, looks_back_us: i64) -> Self {
        let Some((position, until)) = mark else {
            return Self { new: positioned(records), ..Self::default() };
        };
        let was_handed = |record: &Record| match (record.position, position) {
            (Some(at), Some(next)) => at < next,
            // Before positions were noted there was a time alone.
            (Some(_), None) => false,
            (None, _) => record.frame.reception.heard_at <= until,
        };
        let (handed, new): (Vec<_>, Vec<_>) = records.into_iter().partition(was_handed);
        // The clock may have been wrong then. What the times of the last frames were corrected by, the mark's is too.
        let moved_us = handed.last().map_or(0, |record| record.moved_us);
        let until = until.plus_us(moved_us).min(clock::now());
        let handed = handed.into_iter().map(|record| record.frame);
        let handed = handed.filter(|frame| frame.reception.heard_at.plus_us(looks_back_us) > until).collect();
        let mark = Mark { position: position.unwrap_or(0), processed_until: until };
        Self { mark: Some(mark), handed, new: positioned(new) }
    }
}

fn positioned(records: Vec<Record>) -> Vec<(Option<u64>, FrameHeard)> {
    records.into_iter().map(|record| (record.position, record.frame)).collect()
}

/// Whether frames become durable.
#[derive(Default)]
pub struct JournalHealth {
    /// Why the journal cannot be written, and since when.
    failing: Mutex<Option<(Instant, String)>>,
}

impl JournalHealth {
    fn lock(&self) -> MutexGuard<'_, Option<(Instant, String)>> {
        self.failing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn note(&self, written: &std::io::Result<()>) {
        let mut failing = self.lock();
        match (written, failing.as_mut()) {
            (Ok(()), None) => {}
            (Ok(()), Some((since, _))) => {
                tracing::warn!("the journal can be written again, after {:.1} s", since.elapsed().as_secs_f64());
                *failing = None;
            }
            (Err(error), Some((_, why))) => *why = error.to_string(),
            (Err(error), None) => {
                tracing::error!("the journal cannot be written, so nothing is acknowledged: {error}");
                *failing = Some((Instant::now(), error.to_string()));
            }
        }
    }

    /// For how many seconds the journal has not been writable, and why.
    pub fn failing(&self) -> Option<(f64, String)> {
        self.lock().as_ref().map(|(since, why)| (since.elapsed().as_secs_f64(), why.clone()))
    }
}

/// Puts an engine's state back and sets it going.
pub(crate) fn start(start: Start, handover: Arc<Mailbox<EngineOutput>>) -> (Network, JoinHandle<()>) {
    let looks_back_us = start.config.looks_back_us();
    let Before { mark, handed, new } = start.before;
    // What the engine before this one has not finished is processed in its own time.
    let Moment { at: now, stepped_us } = clock::moment();
    let first = handed.first().map(|frame| frame.reception.heard_at).into_iter().chain(mark.map(|m| m.processed_until));
    let time = first.chain(new.first().map(|(_, frame)| frame.reception.heard_at)).min().unwrap_or(now).min(now);
    let mut running = Running {
        engine: Engine::new(start.config),
        time,
        stepped_us,
        position: mark.map_or(0, |mark| mark.position),
        marked: time,
        effects: Vec::new(),
        handover,
        room: true,
    };
    let until = mark.map(|mark| Command::ProcessedUntil(mark.processed_until));
    for command in until.into_iter().chain(start.restored) {
        running.handle(Input::Command(command));
    }
    for frame in handed {
        running.hear(frame);
    }
    running.handle(Input::Command(Command::FramesAreNew));
    let next_position = start.journal.next_position();
    let (asks, asked) = mpsc::channel(ASKS);
    let (frames, heard) = mpsc::channel(FRAMES);
    let journal = Arc::new(Mutex::new(start.journal));
    let task = tokio::spawn(running.run((new, next_position), asked, heard));
    (Network { asks, frames, journal, health: Arc::default(), looks_back_us }, task)
}

struct Running {
    engine: Engine,
    time: Timestamp,
    /// By how much the clock had been set at that time.
    stepped_us: i64,
    /// Frames of the journal before this position have been handed to the engine.
    position: u64,
    effects: Vec<Effect>,
    /// The last time that was handed over.
    marked: Timestamp,
    handover: Arc<Mailbox<EngineOutput>>,
    /// Whether it takes more.
    room: bool,
}

impl Running {
    fn handle(&mut self, input: Input) {
        self.engine.handle(self.time, input, &mut self.effects);
    }

    /// Advances to a time; if the clock was set in between, all deadlines of the engine move with it.
    fn go_to(&mut self, Moment { at, stepped_us }: Moment) {
        let by_us = stepped_us - self.stepped_us;
        if by_us != 0 {
            self.stepped_us = stepped_us;
            self.time = self.time.plus_us(by_us);
            self.marked = self.marked.plus_us(by_us);
            self.handle(Input::Command(Command::ClockStepped { by_us }));
        }
        self.time = self.time.max(at);
    }

    /// A frame is taken at the time when it was heard, however late that is: its copies, waiting behind it,
    /// still find it.
    fn hear(&mut self, frame: FrameHeard) {
        self.time = self.time.max(frame.reception.heard_at);
        self.handle(Input::FrameHeard(frame));
    }

    /// Hands over what is to be done. Even if nothing is, the journal is told now and then how far this is.
    fn hand_over(&mut self) {
        if !self.effects.is_empty() || self.time.since(self.marked) >= MARK_EVERY_US {
            self.marked = self.time;
            let mark = Mark { position: self.position, processed_until: self.time };
            let output = EngineOutput { effects: std::mem::take(&mut self.effects), mark };
            self.room = self.handover.put(output);
        }
    }

    async fn run(
        mut self,
        (new, next_position): (Vec<(Option<u64>, FrameHeard)>, u64),
        mut asked: mpsc::Receiver<Ask>,
        mut heard: mpsc::Receiver<Heard>,
    ) {
        for (position, frame) in new {
            self.hear(frame);
            self.position = position.map_or(self.position, |position| position + 1);
            self.hand_over();
            if !self.room {
                self.handover.room().await;
                self.room = true;
            }
        }
        self.position = self.position.max(next_position);
        let (mut asks, mut frames) = (Vec::with_capacity(AT_ONCE), Vec::with_capacity(AT_ONCE));
        loop {
            let deadline = self.engine.next_deadline().map(|at| {
                let us = u64::try_from(at.since(clock::now())).unwrap_or(0);
                Instant::now() + Duration::from_micros(us)
            });
            let handover = Arc::clone(&self.handover);
            tokio::select! {
                // A gateway that was registered first is known first.
                biased;
                taken = asked.recv_many(&mut asks, AT_ONCE) => if taken == 0 { break },
                () = handover.room(), if !self.room => self.room = true,
                _ = heard.recv_many(&mut frames, AT_ONCE), if self.room => {}
                () = at(deadline), if self.room => {}
            }
            for Heard { frame, position, stepped_us } in frames.drain(..) {
                self.go_to(Moment { at: frame.reception.heard_at, stepped_us });
                self.hear(frame);
                self.position = position + 1;
            }
            let mut stop = false;
            for ask in asks.drain(..) {
                stop |= matches!(ask, Ask::Stop);
                self.answer(ask);
            }
            // As long as frames wait, the engine is at the time of the last one it has seen.
            if heard.is_empty() && self.room {
                self.go_to(clock::moment());
                self.handle(Input::Tick);
            }
            self.hand_over();
            if stop {
                break;
            }
        }
        self.handover.close();
    }

    fn answer(&mut self, ask: Ask) {
        let time = self.time;
        match ask {
            Ask::Report(transmission, result) => self.handle(Input::TxReport { transmission, result }),
            Ask::Command(command) => self.handle(Input::Command(command)),
            Ask::Cancel(dev_eui, id, answer) => {
                let state = self.outbox_command(Command::Cancel { dev_eui, id }, id);
                let _ = answer.send(state == Some(OutboxState::Cancelled));
            }
            Ask::Arrange(dev_eui, id, to, answer) => {
                let state = self.outbox_command(Command::Arrange { dev_eui, id, to }, id);
                let _ = answer.send(state.is_some());
            }
            Ask::Line(eui, answer) => {
                let _ = answer.send(self.engine.outbox_line(eui));
            }
            Ask::Device(dev_eui, answer) => {
                let _ = answer.send(self.engine.device_status(dev_eui, time));
            }
            Ask::DevicesAt(dev_addr, answer) => {
                let _ = answer.send(self.engine.devices_at(dev_addr).to_vec());
            }
            Ask::Group(eui, answer) => {
                let _ = answer.send(self.engine.group_status(eui));
            }
            Ask::Gateways(euis, answer) => {
                let _ = answer.send(euis.iter().map(|eui| self.engine.gateway_status(*eui, time)).collect());
            }
            Ask::Attention(devices, answer) => {
                let _ = answer.send(self.engine.attention(&devices, time));
            }
            Ask::Stop => {}
        }
    }

    /// Carries out a command about a downlink; returns its immediate result, if there is one.
    fn outbox_command(&mut self, command: Command, id: OutboxId) -> Option<OutboxState> {
        let before = self.effects.len();
        self.handle(Input::Command(command));
        self.effects[before..].iter().find_map(|effect| match effect {
            Effect::Persist(Change::Outbox { id: of, state, .. }) if *of == id => Some(state.clone()),
            _ => None,
        })
    }
}

async fn at(deadline: Option<Instant>) {
    match deadline {
        Some(at) => tokio::time::sleep_until(at).await,
        None => std::future::pending().await,
    }
}

impl Network {
    fn journal(&self) -> MutexGuard<'_, Journal> {
        self.journal.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Hands in frames that a gateway has just heard: all of them or none. Once it is journalled, a kill loses none.
    ///
    /// What cannot be journalled goes on to the engine all the same if its link brings nothing again (`once`): an
    /// answer without durability is better than none. Other links are to hold it back until it can be.
    pub fn hear(&self, mut frames: Vec<FrameHeard>, once: bool) -> Taken {
        // Under one lock, so that the journal, the engine's queue and time are in the same order.
        let mut journal = self.journal();
        let permits = match self.frames.try_reserve_many(frames.len()) {
            Ok(permits) => Some(permits),
            // The engine has stopped: the next start finds them in the journal.
            Err(TrySendError::Closed(())) => None,
            Err(TrySendError::Full(())) => return Taken::Shed,
        };
        let Moment { at, stepped_us } = clock::moment();
        frames.iter_mut().for_each(|frame| frame.reception.heard_at = at);
        let (first, written) = journal.append(&frames, clock::since_boot_us());
        self.health.note(&written);
        let taken = if written.is_ok() { Taken::Journalled } else { Taken::Unwritten };
        if taken == Taken::Journalled || once {
            for ((permit, frame), position) in permits.into_iter().flatten().zip(frames).zip(first..) {
                permit.send(Heard { frame, position, stepped_us });
            }
        }
        taken
    }

    /// Hands in frames that come again if they are not taken. Waits until they can be journalled. `false` if that
    /// takes too long: then the link is to be broken, so that the sender keeps it.
    pub async fn hear_safely(&self, frames: &[FrameHeard]) -> bool {
        let end = Instant::now() + HELD_BACK;
        loop {
            if self.hear(frames.to_vec(), false) == Taken::Journalled {
                return true;
            }
            if Instant::now() >= end {
                return false;
            }
            tokio::time::sleep(HELD_BACK / 50).await;
        }
    }

    /// Whether frames become durable.
    pub fn journal_health(&self) -> &JournalHealth {
        &self.health
    }

    /// Everything that was due until then is durable, so the journal need not keep it.
    pub fn durable(&self, mark: Mark) {
        self.journal().done(mark, self.looks_back_us);
    }

    /// Frames waiting for the engine, and bytes in the journal.
    pub fn backlog(&self) -> (usize, u64) {
        (self.frames.max_capacity() - self.frames.capacity(), self.journal().bytes())
    }

    /// Syncs the journal to disk at short intervals until the service stops.
    pub async fn sync_journal(self, stopping: CancellationToken) {
        let mut often = tokio::time::interval(journal::SYNC_EVERY);
        loop {
            tokio::select! {
                _ = often.tick() => {}
                () = stopping.cancelled() => return,
            }
            let Some(file) = self.journal().unsynced() else { continue };
            if let Ok(Err(error)) = tokio::task::spawn_blocking(move || file.sync_data()).await {
                tracing::warn!("the journal cannot be made safe from power cuts: {error}");
            }
        }
    }

    /// Syncs what was written to disk now, as far as that works.
    pub fn sync_now(&self) {
        if let Some(file) = self.journal().unsynced() {
            let _ = file.sync_data();
        }
    }

    /// Reports on a transmission; `false` if the engine is too far behind to take it.
    pub fn try_report(&self, transmission: TransmissionId, result: Result<(), TxFailure>) -> bool {
        self.asks.try_send(Ask::Report(transmission, result)).is_ok()
    }

    pub async fn command(&self, command: Command) {
        let _ = self.asks.send(Ask::Command(command)).await;
    }

    /// Removes a downlink from the outbox, if it still waits there.
    pub async fn cancel(&self, dev_eui: Eui64, id: OutboxId) -> bool {
        self.ask(|answer| Ask::Cancel(dev_eui, id, answer)).await.unwrap_or(false)
    }

    /// Moves a waiting downlink to another place in its queue; returns whether it and the one after it are waiting.
    pub async fn arrange(&self, dev_eui: Eui64, id: OutboxId, to: Place) -> bool {
        self.ask(|answer| Ask::Arrange(dev_eui, id, to, answer)).await.unwrap_or(false)
    }

    /// The downlinks that wait for a device or a group, in the order in which they go.
    pub async fn outbox_line(&self, eui: Eui64) -> Vec<OutboxId> {
        self.ask(|answer| Ask::Line(eui, answer)).await.unwrap_or_default()
    }

    pub async fn device(&self, dev_eui: Eui64) -> Option<DeviceStatus> {
        self.ask(|answer| Ask::Device(dev_eui, answer)).await.flatten()
    }

    /// The devices with a session at an address.
    pub async fn devices_at(&self, dev_addr: DevAddr) -> Vec<Eui64> {
        self.ask(|answer| Ask::DevicesAt(dev_addr, answer)).await.unwrap_or_default()
    }

    pub async fn group(&self, group: Eui64) -> Option<GroupStatus> {
        self.ask(|answer| Ask::Group(group, answer)).await.flatten()
    }

    pub async fn gateways(&self, euis: Vec<Eui64>) -> Vec<Option<GatewayStatus>> {
        self.ask(|answer| Ask::Gateways(euis, answer)).await.unwrap_or_default()
    }

    /// Of these devices, those with concerns. The engine is asked about some at a time, so that frames
    /// do not wait for long.
    pub async fn attention(&self, devices: &[Eui64]) -> Vec<DeviceAttention> {
        let mut found = Vec::new();
        for some in devices.chunks(ASKED_AT_ONCE) {
            found.extend(self.ask(|answer| Ask::Attention(some.to_vec(), answer)).await.unwrap_or_default());
        }
        found
    }

    pub async fn stop(&self) {
        let _ = self.asks.send(Ask::Stop).await;
    }

    async fn ask<T>(&self, question: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Option<T> {
        let (sender, receiver) = oneshot::channel();
        self.asks.send(question(sender)).await.ok()?;
        receiver.await.ok()
    }
}

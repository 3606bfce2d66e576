//! Running the engine: one task that owns it, feeds it and calls it at its deadlines.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use engine::{
    Change, Command, Config, DeviceStatus, Effect, Engine, FrameHeard, GatewayStatus, GroupStatus, Input, OutboxId,
    OutboxState, Place, Timestamp, TransmissionId, TxFailure,
};
use lorawan::{DevAddr, Eui64};
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::handover::{Handover, Outcome};
use crate::journal::{self, Journal};

/// Frames waiting for the engine, while it waits for the database: two minutes of 3,000 frames a second, and
/// at most 100 MB. Frames beyond are shed and counted by their listener.
const FRAMES: usize = 400_000;
/// Questions and commands waiting for it.
const ASKS: usize = 16_384;
/// Taken from either at once.
const AT_ONCE: usize = 512;
/// How long the journal may keep frames that nothing followed from, such as other networks' downlinks.
const MARK_EVERY_US: i64 = 1_000_000;

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
    Stop,
}

/// What became of frames handed in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// They stand in the journal and are on their way.
    Journalled,
    /// They are on their way, but would not survive a kill: the journal cannot be written.
    Unwritten,
    /// The engine is so far behind that they had to be shed.
    Shed,
}

/// The way to the engine.
#[derive(Clone)]
pub struct Network {
    asks: mpsc::Sender<Ask>,
    frames: mpsc::Sender<FrameHeard>,
    journal: Arc<Mutex<Journal>>,
    looks_back_us: i64,
}

/// What an engine starts with.
pub struct Start {
    pub config: Config,
    /// Its state, as commands that put it back.
    pub restored: Vec<Command>,
    /// How far the engine before it had come.
    pub processed_until: Option<Timestamp>,
    pub journal: Journal,
    /// What stood in the journal.
    pub heard_before: Vec<FrameHeard>,
}

/// Puts an engine's state back and sets it going.
pub fn start(start: Start, handover: Arc<Handover<Outcome>>) -> (Network, JoinHandle<()>) {
    let looks_back_us = start.config.looks_back_us();
    // What the engine before this one has not finished is processed in its own time, and nothing before that.
    let until = start.processed_until.unwrap_or_default();
    let needed = |frame: &FrameHeard| frame.reception.heard_at.plus_us(looks_back_us) > until;
    let heard_before: Vec<FrameHeard> = start.heard_before.into_iter().filter(needed).collect();
    let mut time = clock::now();
    if let Some(first) = heard_before.first() {
        time = time.min(first.reception.heard_at.max(until));
    }
    let mut running =
        Running { engine: Engine::new(start.config), time, marked: time, effects: Vec::new(), handover, room: true };
    let until = start.processed_until.map(Command::ProcessedUntil);
    for command in until.into_iter().chain(start.restored) {
        running.handle(Input::Command(command));
    }
    let (asks, asked) = mpsc::channel(ASKS);
    let (frames, heard) = mpsc::channel(FRAMES);
    let journal = Arc::new(Mutex::new(start.journal));
    let task = tokio::spawn(running.run(heard_before, asked, heard));
    (Network { asks, frames, journal, looks_back_us }, task)
}

struct Running {
    engine: Engine,
    time: Timestamp,
    effects: Vec<Effect>,
    /// The last time that was handed over.
    marked: Timestamp,
    handover: Arc<Handover<Outcome>>,
    /// Whether it takes more.
    room: bool,
}

impl Running {
    fn handle(&mut self, input: Input) {
        self.engine.handle(self.time, input, &mut self.effects);
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
            let outcome = Outcome { effects: std::mem::take(&mut self.effects), processed_until: self.time };
            self.room = self.handover.put(outcome);
        }
    }

    async fn run(
        mut self,
        heard_before: Vec<FrameHeard>,
        mut asked: mpsc::Receiver<Ask>,
        mut heard: mpsc::Receiver<FrameHeard>,
    ) {
        for frame in heard_before {
            self.hear(frame);
            self.hand_over();
            if !self.room {
                self.handover.room().await;
                self.room = true;
            }
        }
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
            frames.drain(..).for_each(|frame| self.hear(frame));
            let mut stop = false;
            for ask in asks.drain(..) {
                stop |= matches!(ask, Ask::Stop);
                self.answer(ask);
            }
            // As long as frames wait, the engine is at the time of the last one it has seen.
            if heard.is_empty() && self.room {
                self.time = self.time.max(clock::now());
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
            Ask::Stop => {}
        }
    }

    /// Carries out a command about a downlink; gives what becomes of it at once, if anything does.
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

    /// Hands in what a gateway has heard just now: all of it or nothing. Once this returns, a kill loses none.
    pub fn hear(&self, mut frames: Vec<FrameHeard>) -> Taken {
        // Under one lock, so that the journal, the engine's queue and time are in the same order.
        let mut journal = self.journal();
        let Ok(permits) = self.frames.try_reserve_many(frames.len()) else { return Taken::Shed };
        let now = clock::now();
        frames.iter_mut().for_each(|frame| frame.reception.heard_at = now);
        let written = journal.append(&frames);
        permits.zip(frames).for_each(|(permit, frame)| permit.send(frame));
        match written {
            Ok(()) => Taken::Journalled,
            Err(error) => {
                tracing::warn!("the journal cannot be written: {error}");
                Taken::Unwritten
            }
        }
    }

    /// Everything that was due until then is durable, so the journal need not keep it.
    pub fn durable(&self, processed_until: Timestamp) {
        self.journal().done(processed_until.plus_us(-self.looks_back_us));
    }

    /// Frames waiting for the engine, and bytes in the journal.
    pub fn backlog(&self) -> (usize, u64) {
        (self.frames.max_capacity() - self.frames.capacity(), self.journal().bytes())
    }

    /// Keeps the journal safe from power cuts, to within a moment, until the service stops.
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

    /// Tells what became of a transmission; `false` if the engine is too far behind to take it.
    pub fn try_report(&self, transmission: TransmissionId, result: Result<(), TxFailure>) -> bool {
        self.asks.try_send(Ask::Report(transmission, result)).is_ok()
    }

    pub async fn command(&self, command: Command) {
        let _ = self.asks.send(Ask::Command(command)).await;
    }

    /// Takes a downlink out of the outbox, if it still waits there.
    pub async fn cancel(&self, dev_eui: Eui64, id: OutboxId) -> bool {
        self.ask(|answer| Ask::Cancel(dev_eui, id, answer)).await.unwrap_or(false)
    }

    /// Puts a waiting downlink elsewhere in its line; says whether it and the one it is to go before wait.
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

    pub async fn stop(&self) {
        let _ = self.asks.send(Ask::Stop).await;
    }

    async fn ask<T>(&self, question: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Option<T> {
        let (sender, receiver) = oneshot::channel();
        self.asks.send(question(sender)).await.ok()?;
        receiver.await.ok()
    }
}

//! Running the engine: one task that owns it, feeds it and calls it at its deadlines.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use engine::{
    Change, Command, DeviceStatus, Effect, Engine, GatewayStatus, GroupStatus, Input, OutboxId, OutboxState, Timestamp,
    TransmissionId, TxFailure,
};
use lorawan::{DevAddr, Eui64};
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;
use tokio::time::Instant;

use crate::committer::Work;

/// Inputs waiting for the engine; frames beyond are shed and counted by their listener.
const QUEUE: usize = 16_384;
/// Inputs taken at once.
const AT_ONCE: usize = 512;

enum Ask {
    Input(Input),
    Cancel(Eui64, OutboxId, oneshot::Sender<bool>),
    Device(Eui64, oneshot::Sender<Option<DeviceStatus>>),
    DevicesAt(DevAddr, oneshot::Sender<Vec<Eui64>>),
    Group(Eui64, oneshot::Sender<Option<GroupStatus>>),
    Gateways(Vec<Eui64>, oneshot::Sender<Vec<Option<GatewayStatus>>>),
    Stop,
}

/// The way to the engine.
#[derive(Clone)]
pub struct Network(mpsc::Sender<Ask>);

/// The time by the system's clock.
pub fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}

/// Puts an engine's state back and sets it going.
pub fn start(mut engine: Engine, restored: Vec<Command>, to_commit: mpsc::Sender<Work>) -> (Network, JoinHandle<()>) {
    let mut effects = Vec::new();
    for command in restored {
        engine.handle(now(), Input::Command(command), &mut effects);
    }
    let (sender, receiver) = mpsc::channel(QUEUE);
    (Network(sender), tokio::spawn(run(engine, effects, receiver, to_commit)))
}

async fn run(mut engine: Engine, restored: Vec<Effect>, mut asked: mpsc::Receiver<Ask>, to_commit: mpsc::Sender<Work>) {
    // What follows from the restart itself: downlinks that were under way wait again.
    if !restored.is_empty() && to_commit.send(Work::Effects(restored)).await.is_err() {
        return;
    }
    let mut time = now();
    let mut batch = Vec::with_capacity(AT_ONCE);
    loop {
        let mut effects = Vec::new();
        let sleep = engine.next_deadline().map(|at| {
            let us = u64::try_from(at.since(now())).unwrap_or(0);
            Instant::now() + Duration::from_micros(us)
        });
        tokio::select! {
            taken = asked.recv_many(&mut batch, AT_ONCE) => if taken == 0 { return },
            () = at(sleep) => {}
        }
        // The engine's time must not run backwards, whatever is done to the system's clock.
        time = time.max(now());
        for ask in batch.drain(..) {
            match ask {
                Ask::Input(input) => engine.handle(time, input, &mut effects),
                Ask::Cancel(dev_eui, id, answer) => {
                    let before = effects.len();
                    engine.handle(time, Input::Command(Command::Cancel { dev_eui, id }), &mut effects);
                    let cancelled = |e: &Effect| matches!(e, Effect::Persist(Change::Outbox { id: done, state: OutboxState::Cancelled, .. }) if *done == id);
                    let _ = answer.send(effects[before..].iter().any(cancelled));
                }
                Ask::Device(dev_eui, answer) => {
                    let _ = answer.send(engine.device_status(dev_eui, time));
                }
                Ask::DevicesAt(dev_addr, answer) => {
                    let _ = answer.send(engine.devices_at(dev_addr).to_vec());
                }
                Ask::Group(eui, answer) => {
                    let _ = answer.send(engine.group_status(eui));
                }
                Ask::Gateways(euis, answer) => {
                    let _ = answer.send(euis.iter().map(|eui| engine.gateway_status(*eui, time)).collect());
                }
                Ask::Stop => return,
            }
        }
        engine.handle(time, Input::Tick, &mut effects);
        if !effects.is_empty() && to_commit.send(Work::Effects(effects)).await.is_err() {
            return;
        }
    }
}

async fn at(deadline: Option<Instant>) {
    match deadline {
        Some(at) => tokio::time::sleep_until(at).await,
        None => std::future::pending().await,
    }
}

impl Network {
    /// Hands in a frame; `false` if the engine is so far behind that it has to be shed.
    pub fn try_frame(&self, frame: engine::FrameHeard) -> bool {
        self.0.try_send(Ask::Input(Input::FrameHeard(frame))).is_ok()
    }

    /// Tells what became of a transmission; `false` if the engine is too far behind to take it.
    pub fn try_report(&self, transmission: TransmissionId, result: Result<(), TxFailure>) -> bool {
        self.0.try_send(Ask::Input(Input::TxReport { transmission, result })).is_ok()
    }

    pub async fn command(&self, command: Command) {
        let _ = self.0.send(Ask::Input(Input::Command(command))).await;
    }

    /// Takes a downlink out of the outbox, if it still waits there.
    pub async fn cancel(&self, dev_eui: Eui64, id: OutboxId) -> bool {
        self.ask(|answer| Ask::Cancel(dev_eui, id, answer)).await.unwrap_or(false)
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
        let _ = self.0.send(Ask::Stop).await;
    }

    async fn ask<T>(&self, question: impl FnOnce(oneshot::Sender<T>) -> Ask) -> Option<T> {
        let (sender, receiver) = oneshot::channel();
        self.0.send(question(sender)).await.ok()?;
        receiver.await.ok()
    }
}

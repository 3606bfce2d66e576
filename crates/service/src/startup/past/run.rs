//! Runs the engine and a simulation together on a virtual clock, one event after another.

use std::collections::HashSet;
use std::sync::Arc;

use chrono::DateTime;
use engine::{Command, Config, Effect, Engine, FrameHeard, Input, Reception, Timestamp, Transmission, TxFailure, When};
use lorawan::{Eui64, NetId};
use simulator::gateway::Sending;
use simulator::simulation::{News, SavedWorld, Simulation};
use store::Mark;
use tokio::sync::mpsc;

use crate::gateways::registry::GatewayRegistry;
use crate::gateways::transport::packet;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::ingest::stats::IngestStats;
use crate::ingest::strangers::Strangers;
use crate::pipeline::batch::{FinishedBatch, PastBatch};
use crate::pipeline::directory::Directory;
use crate::pipeline::ids::Ids;
use crate::pipeline::message::MessageBuilder;

/// Messages and changes of one transaction.
const ROWS: usize = 6_000;
/// Older airtime is not used: the law counts an hour, a fleet's limits and the pages a day.
const ACCOUNTS_US: i64 = 25 * 3_600_000_000;

/// Simulation, engine and names.
pub(super) struct Past {
    pub simulation: Simulation,
    pub directory: Arc<Directory>,
    pub presence: GatewayRegistry,
    pub quarantined: QuarantinedFrames,
    /// The engine's state as it is stored.
    pub restored: Vec<Command>,
    pub net_id: NetId,
    pub seed: u64,
    /// Gateways that know GPS time.
    pub beacons: HashSet<Eui64>,
}

/// The engine at a moment of the past.
struct Run {
    engine: Engine,
    now: Timestamp,
    effects: Vec<Effect>,
}

impl Run {
    fn handle(&mut self, input: Input) {
        self.engine.handle(self.now, input, &mut self.effects);
    }

    /// Brings what is to be sent to the gateways, which say at once whether they send it.
    fn transmit(&mut self, simulation: &mut Simulation) {
        let mut at = 0;
        // A report may lead to another transmission, which is added behind.
        while at < self.effects.len() {
            let Effect::Transmit(transmission) = &self.effects[at] else {
                at += 1;
                continue;
            };
            let (id, result) = (transmission.id, self.sent(simulation, transmission));
            self.effects.remove(at);
            self.handle(Input::TxReport { transmission: id, result });
        }
    }

    fn sent(&self, simulation: &mut Simulation, transmission: &Transmission) -> Result<(), TxFailure> {
        let at_us = match transmission.when {
            When::AtOnce => self.now.0,
            When::Clock(_) | When::Gps(_) => transmission.at.0,
        };
        if !simulation.is_there(transmission.gateway, at_us) {
            return Err(TxFailure::Unreachable);
        }
        simulation.send(Sending { gateway: transmission.gateway, at_us, packet: packet(transmission) });
        Ok(())
    }
}

impl Past {
    /// Runs from the first time to the second; gives the simulation's state then. Blocks.
    pub(super) fn live(
        mut self,
        (begin_us, until_us): (i64, i64),
        batches: &mpsc::Sender<FinishedBatch>,
    ) -> SavedWorld {
        let config = Config { net_id: self.net_id, seed: self.seed, ..Config::default() };
        let mut run = Run { engine: Engine::new(config), now: Timestamp(begin_us), effects: Vec::new() };
        for command in std::mem::take(&mut self.restored) {
            run.handle(Input::Command(command));
        }
        run.handle(Input::Command(Command::FramesAreNew));
        let (mut ids, mut batch) = (Ids::seeded(self.seed), PastBatch::default());
        let (strangers, ingest) = (Strangers::default(), IngestStats::default());
        while let Some(at_us) = self.next_at(&run).filter(|at_us| *at_us < until_us) {
            self.step(&mut run, at_us);
            let mut effects = std::mem::take(&mut run.effects);
            effects.retain(|effect| !is_old_account(effect, until_us));
            if !effects.is_empty() {
                let mark = Mark { position: 0, processed_until: run.now };
                let mut builder = MessageBuilder {
                    directory: &self.directory,
                    presence: &self.presence,
                    strangers: &strangers,
                    ids: &mut ids,
                    now: DateTime::from_timestamp_micros(at_us).unwrap_or_default(),
                };
                batch.add(effects, mark, &mut builder, (&ingest, &self.quarantined));
            }
            if batch.rows() >= ROWS {
                let finished = std::mem::take(&mut batch).finish(&self.directory);
                if batches.blocking_send(finished).is_err() {
                    // Writing has failed, and the caller reports it.
                    break;
                }
            }
        }
        let _ = batches.blocking_send(batch.finish(&self.directory));
        self.simulation.saved()
    }

    /// When something is due next, in the air or in the network.
    fn next_at(&self, run: &Run) -> Option<i64> {
        let engine = run.engine.next_deadline().map(|at| at.0);
        engine.into_iter().chain(self.simulation.next_at()).min()
    }

    fn step(&mut self, run: &mut Run, at_us: i64) {
        run.now = run.now.max(Timestamp(at_us));
        for news in self.simulation.advance(at_us) {
            if let News::Heard { gateway, emission, end_us, arrival, .. } = news
                && self.presence.known(gateway).is_some()
            {
                run.handle(Input::FrameHeard(FrameHeard {
                    phy_payload: emission.phy_payload,
                    reception: Reception {
                        gateway,
                        heard_at: run.now,
                        clock_us: end_us as u32,
                        has_gps: self.beacons.contains(&gateway),
                        frequency_hz: emission.frequency_hz,
                        modulation: emission.modulation,
                        rssi_dbm: arrival.rssi_dbm.round() as f32,
                        snr_db: Some((arrival.snr_db * 4.0).round() as f32 / 4.0),
                    },
                }));
            }
        }
        run.handle(Input::Tick);
        run.transmit(&mut self.simulation);
    }
}

fn is_old_account(effect: &Effect, until_us: i64) -> bool {
    let Effect::Persist(engine::Change::Airtime { minute, .. }) = effect else { return false };
    *minute < Timestamp(until_us - ACCOUNTS_US).minute()
}

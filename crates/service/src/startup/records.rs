//! Starts the tasks that turn frames into records: the engine, the batcher, the committer and the decoders.

use std::sync::Arc;

use anyhow::Result;
use engine::Config;
use store::{Lease, Writer, WrittenMessage};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::decoding::decoder;
use crate::gateways::transport::Links;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::ingest::network;
use crate::ingest::network::Network;
use crate::pipeline::ahead::AheadReader;
use crate::pipeline::batch::{Batcher, PendingBatch};
use crate::pipeline::commit::Committer;
use crate::pipeline::ids::Ids;
use crate::pipeline::mailbox::Mailbox;
use crate::pipeline::refused_rows::RefusedRows;
use crate::startup;
use crate::startup::config::Options;
use crate::startup::high_water::HighWater;
use crate::startup::shared::Shared;

/// Uplinks waiting for a decoder. More than these stay marked in the database, and are decoded later.
const DECODE_QUEUE: usize = 8192;
/// Uplinks with readings waiting for the database.
const DECODED_QUEUE: usize = 8192;

/// The running engine and the batcher of its effects.
pub(crate) struct EngineTasks {
    pub network: Network,
    pub engine: JoinHandle<()>,
    pub batcher: JoinHandle<()>,
    ready: Arc<Mailbox<PendingBatch>>,
    /// Uplinks that were left undecoded.
    left: Vec<WrittenMessage>,
}

impl EngineTasks {
    /// Puts the engine's state back as it is stored, and hands it what the journal has beyond that.
    pub(crate) async fn start(options: &Options, shared: &Shared) -> Result<Self> {
        let config = Config {
            net_id: options.net_id,
            collection_window_us: i64::from(options.collect_ms) * 1000,
            seed: rand::random(),
        };
        let untold = shared.store.take_back_untold().await?;
        if untold > 0 {
            tracing::info!("{untold} messages were written without their state before a kill; they will come again");
        }
        let left = decoder::left_behind(&shared.store, &shared.directory).await;
        let mark = shared.store.mark().await?;
        let looks_back_us = config.looks_back_us();
        let (journal, before) = startup::journal::open(&options.data, mark, looks_back_us, &shared.condition)?;
        let mut restored = shared.store.engine_state(clock::now()).await?;
        restored.extend(startup::damage::told(&shared.store, &shared.condition).await?);
        let outputs = Arc::new(Mailbox::default());
        let ready = Arc::new(Mailbox::default());
        let start = network::Start { config, restored, journal, before };
        let (network, engine) = network::start(start, Arc::clone(&outputs));
        let batcher = Batcher {
            directory: Arc::clone(&shared.directory),
            presence: Arc::clone(&shared.presence),
            strangers: Arc::clone(&shared.strangers),
            ingest: Arc::clone(&shared.ingest),
            quarantined: QuarantinedFrames::beside(&options.data.join("journal")),
            ids: Ids::default(),
            reader: AheadReader::start(Arc::clone(&shared.directory)),
        };
        let batcher = tokio::spawn(batcher.run(outputs, Arc::clone(&ready)));
        tokio::spawn(network.clone().sync_journal(shared.stopping.clone()));
        Ok(Self { network, engine, batcher, ready, left })
    }
}

/// The committer and the decoders.
pub(crate) struct RecordTasks {
    pub committer: JoinHandle<Result<()>>,
    pub decoder: JoinHandle<()>,
    /// Ends the wait for a database that is away.
    pub give_up: CancellationToken,
}

impl RecordTasks {
    pub(crate) fn start(
        options: &Options,
        shared: &Shared,
        engine: &mut EngineTasks,
        links: Arc<Links>,
        (lease, high_water): (Lease, HighWater),
    ) -> Self {
        let (to_decode, decode_queue) = mpsc::channel(DECODE_QUEUE);
        let (decoded, decoded_queue) = mpsc::channel(DECODED_QUEUE);
        let (store, directory) = (shared.store.clone(), Arc::clone(&shared.directory));
        let queue = (std::mem::take(&mut engine.left), decode_queue);
        let decoder = decoder::run(store, directory, queue, decoded, shared.stopping.clone());
        let give_up = CancellationToken::new();
        let committer = Committer {
            writer: Writer::new(shared.store.clone(), lease),
            links,
            network: engine.network.clone(),
            live: Arc::clone(&shared.live),
            recent: Arc::clone(&shared.recent),
            to_decode,
            outstanding: Arc::clone(&shared.directory.outstanding),
            metrics: Arc::clone(&shared.metrics),
            condition: Arc::clone(&shared.condition),
            refused_rows: RefusedRows::in_folder(&options.data),
            high_water,
            give_up: give_up.clone(),
        };
        Self {
            committer: tokio::spawn(committer.run(Arc::clone(&engine.ready), decoded_queue)),
            decoder: tokio::spawn(decoder),
            give_up,
        }
    }
}

//! Rounds: one downlink for each of many devices. When a device's turn comes, its downlink is put into its outbox; from
//! there on it is one like any other.

use std::sync::Arc;
use std::time::Duration;

use chrono::Utc;
use engine::{Command, OutboxId, Wait};
use store::{DueDownlink, Store, StoreError};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use ulid::Ulid;

use crate::clock;
use crate::ingest::network::Network;
use crate::pipeline::directory::Directory;

/// How often turns are looked at while a round is running.
const EVERY: Duration = Duration::from_millis(500);
/// How often rounds are looked for while none is running, when no notice of one comes.
const LOOK_EVERY: Duration = Duration::from_secs(30);
/// Downlinks of one round put into outboxes at a time.
const AT_ONCE: u32 = 50;

/// The one who puts downlinks of rounds into outboxes.
pub(crate) struct Rounds {
    pub store: Store,
    pub network: Network,
    pub directory: Arc<Directory>,
    /// Told when there is a new round.
    pub news: Arc<Notify>,
    pub stopping: CancellationToken,
}

impl Rounds {
    /// Works until the service stops. Rounds go on where they were after a restart.
    pub(crate) async fn run(self) {
        loop {
            let pause = match self.turn().await {
                Ok(true) => EVERY,
                Ok(false) => LOOK_EVERY,
                Err(error) => {
                    tracing::warn!("rounds have to wait: {error}");
                    EVERY * 4
                }
            };
            tokio::select! {
                () = self.news.notified() => {}
                () = tokio::time::sleep(pause) => {}
                () = self.stopping.cancelled() => return,
            }
        }
    }

    /// Puts what is due into outboxes, and ends rounds that are done; whether one is still running.
    async fn turn(&self) -> Result<bool, StoreError> {
        for due in self.store.due_downlinks(Utc::now(), AT_ONCE).await? {
            // One device's trouble is its own.
            if let Err(error) = self.send(&due).await {
                if !error.is_refusal() {
                    return Err(error);
                }
                tracing::warn!("a round's downlink to {} was refused: {error}", due.dev_eui);
                let why = "the database refused it";
                self.store.settle_round_device(&due.round, due.dev_eui, Err(why)).await?;
            }
        }
        self.store.end_rounds(Utc::now()).await?;
        self.store.a_round_runs().await
    }

    /// Puts one downlink into its device's outbox.
    async fn send(&self, due: &DueDownlink) -> Result<(), StoreError> {
        let (round, dev_eui) = (due.round.as_str(), due.dev_eui);
        let known = self.directory.device(dev_eui).filter(|device| device.estate_id == due.estate_id);
        if known.is_none() {
            return self.store.settle_round_device(round, dev_eui, Err("it was removed before its turn")).await;
        }
        let id = Ulid::generate();
        // Noted first: after a kill between the two a device is left out and told, and never sent it twice.
        self.store.settle_round_device(round, dev_eui, Ok(id)).await?;
        let now = clock::now();
        let downlink = &due.wanted;
        let wait = self.network.device(dev_eui).await.map_or(Wait::NextUplink, |status| status.first_wait());
        let item = engine::OutboxItem {
            confirmed: downlink.confirmed,
            max_attempts: downlink.max_attempts.and_then(|n| u8::try_from(n).ok()),
            expires_at: downlink.expires_in_s.map(|s| now.plus_us((s * 1e6) as i64)),
            reference: downlink.reference.clone(),
            ..engine::OutboxItem::waiting(OutboxId(id.0), (due.port, due.payload.clone()), wait, now)
        };
        self.store.add_outbox_item(dev_eui, &item).await?;
        self.network.command(Command::Enqueue { dev_eui, item }).await;
        Ok(())
    }
}

//! Publishes and records what happens to gateways.

use std::sync::Arc;
use std::time::Duration;

use api::message::Body;
use chrono::Utc;
use store::{Store, WrittenMessage};
use tokio_util::sync::CancellationToken;
use ulid::Ulid;

use crate::gateways::registry::GatewayRegistry;
use crate::pipeline::directory::Directory;
use crate::pipeline::live::Live;
use crate::pipeline::message::new_message;

/// How often changes are looked for.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Looks between two writes of when gateways were last heard.
const NOTE_EVERY: u32 = 5;

/// Publishes changes of gateways and stores when they were last heard, until the service stops.
pub(crate) async fn run(
    presence: Arc<GatewayRegistry>,
    store: Store,
    live: Arc<Live>,
    directory: Arc<Directory>,
    stopping: CancellationToken,
) {
    let mut ticks = tokio::time::interval(LOOK_EVERY);
    let mut count = 0u32;
    loop {
        let stop = tokio::select! {
            _ = ticks.tick() => false,
            () = stopping.cancelled() => true,
        };
        publish(&presence, &live, &directory);
        count += 1;
        if count.is_multiple_of(NOTE_EVERY) || stop {
            let heard = presence.unstored();
            if !heard.is_empty()
                && let Err(error) = store.note_heard(&heard).await
            {
                tracing::warn!("when gateways were last heard could not be written: {error}");
            }
        }
        if stop {
            return;
        }
    }
}

fn publish(presence: &GatewayRegistry, live: &Live, directory: &Directory) {
    for (estate, news) in presence.news(Utc::now()) {
        // An unregistered gateway belongs to no estate yet. Where there are several, it is none of their business: who may see it
        // finds it when they look.
        let of_all = || Some(directory.estates()).filter(|all| all.len() == 1).unwrap_or_default();
        for id in estate.map_or_else(of_all, |id| vec![id]) {
            let (name, slug) = (Ulid::generate(), directory.estate_slug(id));
            match WrittenMessage::new(id, new_message(name, Utc::now(), slug, Body::Gateway(news.clone()))) {
                Ok(written) => live.publish(Arc::new(written)),
                Err(error) => tracing::error!("news of a gateway cannot be written down: {error}"),
            }
        }
    }
}

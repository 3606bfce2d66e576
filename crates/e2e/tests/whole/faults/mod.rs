//! What must hold while things break: nothing acknowledged is lost, nothing is used twice, and one bad thing stops only
//! itself.

mod clocks;
mod data;
mod decoders;
mod instances;
mod journal;
mod outages;
mod starts;

use api::message::{Body, Message};
use e2e::service::Service;
use e2e::wait::until;
use lorawan::Eui64;

/// The uplink counters of a device that are in the history, sorted.
async fn stored(service: &Service, device: Eui64) -> Vec<u32> {
    let page: api::Page<Message> = service.get(&format!("traffic?device={device}&type=uplink&limit=200")).await;
    let counter = |message: &Message| match &message.body {
        Body::Uplink(uplink) => uplink.frame.counter,
        other => panic!("{other:?}"),
    };
    let mut counters: Vec<u32> = page.items.iter().map(counter).collect();
    counters.sort_unstable();
    counters
}

/// Waits until these are there, each once.
async fn until_stored(service: &Service, device: Eui64, counters: impl IntoIterator<Item = u32>) {
    let wanted: Vec<u32> = counters.into_iter().collect();
    let mut seen = Vec::new();
    until(&format!("uplinks {wanted:?} of {device}"), async || {
        let now = stored(service, device).await;
        if now != seen {
            // Shown if the test fails.
            eprintln!("stored of {device}: {now:?}");
            seen.clone_from(&now);
        }
        (now == wanted).then_some(())
    })
    .await;
}

/// What health says, with its status.
async fn health(service: &Service) -> (u16, api::health::Health) {
    let answer = reqwest::get(format!("{}/api/v1/health", service.http)).await.unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap())
}

/// What the watch page says needs attention, in words.
async fn concerns(service: &Service) -> String {
    let watch: api::watch::Watch = service.get("watch").await;
    watch.concerns.iter().map(|c| format!("{} {}\n", c.name.as_deref().unwrap_or("service"), c.what)).collect()
}

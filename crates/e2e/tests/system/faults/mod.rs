//! What must hold while things break: nothing acknowledged is lost, nothing is used twice, and one bad thing stops only
//! itself.

mod account;
mod clocks;
mod data;
mod decoders;
mod instances;
mod journal;
mod outages;
mod starts;

use e2e::service::Service;
use e2e::wait::until;
use lorawan::Eui64;

/// The uplink counters of a device that are in the history, sorted. Asked of the database itself: the service may have
/// trouble.
fn stored(service: &Service, device: Eui64) -> Vec<u32> {
    let hex = hex::encode(device.to_bytes());
    let counters = service.query(&format!(
        "SELECT JSON_VALUE(body, '$.frame.counter') FROM messages WHERE kind = 'uplink' AND dev_eui = x'{hex}'"
    ));
    let mut counters: Vec<u32> = counters.lines().map(|counter| counter.trim().parse().unwrap()).collect();
    counters.sort_unstable();
    counters
}

/// Waits until these are there, each once.
async fn until_stored(service: &Service, device: Eui64, counters: impl IntoIterator<Item = u32>) {
    let wanted: Vec<u32> = counters.into_iter().collect();
    let mut seen = Vec::new();
    until(&format!("uplinks {wanted:?} of {device}"), async || {
        let now = stored(service, device);
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
    let watch: api::diagnosis::watch::Watch = service.get("watch").await;
    watch.concerns.iter().map(|c| format!("{} {}\n", c.name.as_deref().unwrap_or("service"), c.what)).collect()
}

//! Outlets: messages are delivered to other systems.

mod broker;
mod certificates;
mod commands;
mod connecting;
mod console;
mod delivering;
mod examples;
mod failing;
mod fetched;
mod files;
mod killed;
mod scripts;
mod settings;
mod table;

use api::message::Message;
use api::outlet::{Outlet, OutletState};
use e2e::service::Service;
use e2e::sink::Sink;
use e2e::wait::until_or_tell;
use reqwest::Method;
use serde_json::{Value, json};

use crate::scenes::Bench;

const DECODER: &str = "function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }";

/// A service that may deliver to this machine, with a device that has joined.
async fn bench() -> Bench {
    let mut bench =
        Bench::with(Service::started_with(&["--outlet-hosts", "127.0.0.1,localhost"]).await, Some(DECODER)).await;
    bench.join().await;
    bench
}

/// An outlet to a sink, with changes of its settings.
async fn outlet(service: &Service, sink: &Sink, change: Value) -> Outlet {
    let mut new = json!({ "slug": "harbour", "to": { "webhook": { "url": sink.url() } } });
    for (field, value) in change.as_object().unwrap() {
        match value.as_object().filter(|_| field == "webhook") {
            Some(inner) => new["to"]["webhook"].as_object_mut().unwrap().extend(inner.clone()),
            None => new[field] = value.clone(),
        }
    }
    service.post("outlets", new).await
}

async fn shown(service: &Service) -> Outlet {
    service.get("outlets/harbour").await
}

/// Waits until the outlet stands like that.
async fn becomes(service: &Service, state: OutletState) -> Outlet {
    let last = std::cell::RefCell::new(None);
    until_or_tell(
        || format!("the outlet to be {state:?}: {:?}", last.borrow()),
        async || {
            let outlet = shown(service).await;
            *last.borrow_mut() = Some(outlet.status.clone());
            Some(outlet).filter(|outlet| outlet.status.state == state)
        },
    )
    .await
}

/// The stored messages of a type, oldest first.
async fn stored(service: &Service, kind: &str) -> Vec<Message> {
    let mut all: Vec<Message> = service.list(&format!("traffic?type={kind}&limit=500")).await;
    all.reverse();
    all
}

async fn refused(service: &Service, body: Value) -> Vec<String> {
    let (status, problem) = service.call(Method::POST, "/estates/tarnsey/outlets", Some(body)).await;
    assert_eq!(status, 422, "{problem}");
    let many: Vec<String> = problem["fields"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|field| field["field"].as_str().unwrap().to_owned())
        .collect();
    if many.is_empty() { vec![problem["field"].as_str().unwrap_or_default().to_owned()] } else { many }
}

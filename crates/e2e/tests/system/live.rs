//! The live stream over HTTP, and the interface's description.

use std::pin::Pin;

use api::message::{Body, Message};
use eventsource_stream::{Event, Eventsource as _};
use futures::{Stream, StreamExt as _};
use reqwest::Method;
use serde_json::Value;

use crate::scenes::{Bench, DEV_EUI};

/// An open stream; it does not hold on to what it was opened with.
type Events = Pin<Box<dyn Stream<Item = Event>>>;

async fn listen(bench: &Bench, query: &str, last: Option<&str>) -> Events {
    let mut request = bench.service.request(Method::GET, &format!("/estates/tarnsey/live{query}"));
    if let Some(id) = last {
        request = request.header("last-event-id", id);
    }
    let answer = request.send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "text/event-stream");
    Box::pin(answer.bytes_stream().eventsource().map(|event| event.unwrap()))
}

async fn next(stream: &mut Events) -> Message {
    let event = tokio::time::timeout(e2e::wait::PATIENCE, stream.next()).await.expect("a message").unwrap();
    let message: Message = serde_json::from_str(&event.data).unwrap();
    assert_eq!(event.id, message.id);
    message
}

#[tokio::test]
async fn messages_come_as_they_happen_and_missed_ones_on_return() {
    let mut bench = Bench::with_decoder("function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }").await;
    let mut stream = listen(&bench, "?type=join,uplink", None).await;
    bench.join().await;
    let join = next(&mut stream).await;
    assert!(matches!(join.body, Body::Join(_)));
    assert_eq!(join.device.as_ref().unwrap().eui, DEV_EUI);
    bench.uplink(&[24], false).await;
    let uplink = next(&mut stream).await;
    let Body::Uplink(body) = &uplink.body else { panic!("{uplink:?}") };
    assert_eq!(body.readings["level"].to_string(), "2.4 m");
    assert_eq!((uplink.estate.as_str(), uplink.fleet.as_deref()), ("tarnsey", Some("bench")));
    drop(stream);

    let mut back = listen(&bench, "?type=join,uplink", Some(&join.id)).await;
    assert_eq!(next(&mut back).await, uplink);
    bench.uplink(&[25], false).await;
    let Body::Uplink(body) = next(&mut back).await.body else { panic!("an uplink") };
    assert_eq!(body.frame.counter, 1);
}

/// The message's fields are the documented ones, under the documented names.
#[tokio::test]
async fn an_uplink_has_the_documented_shape() {
    let mut bench = Bench::with_decoder("function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }").await;
    bench.join().await;
    let mut stream = listen(&bench, "?type=uplink", None).await;
    bench.uplink(&[24], true).await;
    let event = tokio::time::timeout(e2e::wait::PATIENCE, stream.next()).await.unwrap().unwrap();
    let message: Value = serde_json::from_str(&event.data).unwrap();
    assert_eq!(message["type"], "uplink");
    assert_eq!(message["device"], serde_json::json!({ "eui": DEV_EUI, "name": "probe-1", "model": "probe" }));
    assert_eq!(message["frame"], serde_json::json!({ "counter": 0, "port": 2, "confirmed": true, "payload": "18" }));
    assert_eq!(message["readings"]["level"], serde_json::json!({ "value": 2.4, "unit": "m" }));
    let radio = &message["radio"];
    assert_eq!(
        (&radio["region"], &radio["data_rate"], &radio["spreading_factor"]),
        (&"EU868".into(), &5.into(), &7.into())
    );
    assert_eq!(radio["airtime_ms"], 46.336);
    assert_eq!(message["heard_by"][0]["name"], "bench");
    let time = message["time"].as_str().unwrap();
    assert!(time.len() == 24 && time.ends_with('Z'), "{time}");
}

#[tokio::test]
async fn the_interface_describes_itself_offline() {
    let bench = Bench::set_up().await;
    let get = async |path: &str| reqwest::get(format!("{}{path}", bench.service.http)).await.unwrap();
    let document: Value = get("/api/openapi.json").await.json().await.unwrap();
    assert_eq!(document["openapi"].as_str().unwrap().split_at(3).0, "3.1");
    assert!(document["paths"]["/api/v1/estates/{estate}/devices/{eui}/outbox"]["post"].is_object());
    let page = get("/api/browse/").await.text().await.unwrap();
    assert!(page.contains("<html") && !page.contains("https://"), "nothing is fetched from elsewhere");
    let health: api::health::Health = get("/api/v1/health").await.json().await.unwrap();
    assert_eq!(health.status, api::health::PartState::Ok, "{health:?}");
}

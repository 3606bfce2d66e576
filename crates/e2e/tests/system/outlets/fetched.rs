//! Messages for those without a server of their own: fetched, or as a stream.

use std::pin::Pin;
use std::time::{Duration, Instant};

use api::message::Message;
use api::outlet::{NextMessages, ShapeTried};
use eventsource_stream::{Event, Eventsource as _};
use futures::{Stream, StreamExt as _};
use reqwest::Method;
use serde_json::{Value, json};

use crate::scenes::Bench;

type Events = Pin<Box<dyn Stream<Item = Event>>>;

/// A stream, and the place where it begins.
async fn stream(bench: &Bench, query: &str, last: Option<&str>) -> (Events, String) {
    let mut request = bench.service.request(Method::GET, &format!("/estates/tarnsey/messages/stream?{query}"));
    if let Some(id) = last {
        request = request.header("last-event-id", id);
    }
    let answer = request.send().await.unwrap();
    assert_eq!(answer.status(), 200);
    let place = answer.headers()["keen-heron-place"].to_str().unwrap().to_owned();
    (Box::pin(answer.bytes_stream().eventsource().map(|event| event.unwrap())), place)
}

async fn next(events: &mut Events) -> Event {
    tokio::time::timeout(e2e::wait::PATIENCE, events.next()).await.expect("an event").expect("no end")
}

fn level(event: &Event) -> f64 {
    let message: Value = serde_json::from_str(&event.data).unwrap();
    message["readings"]["level"]["value"].as_f64().unwrap()
}

#[tokio::test]
async fn a_stream_goes_on_after_a_gap_and_misses_nothing() {
    let mut bench = Bench::with_decoder(super::DECODER).await;
    bench.join().await;
    let (mut events, place) = stream(&bench, "type=uplink&fleet=bench", None).await;
    bench.uplink(&[1], false).await;
    let first = next(&mut events).await;
    assert_eq!(level(&first), 0.1);
    drop(events);
    for number in 2..=6 {
        bench.uplink(&[number], false).await;
    }
    assert!(bench.service.stop());
    bench.service.start_again();
    let (mut back, begins) = stream(&bench, "type=uplink&fleet=bench", Some(&first.id)).await;
    assert_eq!(begins, first.id);
    for number in 2..=6 {
        assert_eq!(level(&next(&mut back).await), f64::from(number) / 10.0);
    }
    bench.gateway.pull().await;
    bench.uplink(&[7], false).await;
    assert_eq!(level(&next(&mut back).await), 0.7);
    // Who left before a message came goes on from the place that was told.
    let (mut early, _) = stream(&bench, "type=uplink", Some(&place)).await;
    assert_eq!(level(&next(&mut early).await), 0.1);
}

#[tokio::test]
async fn messages_are_fetched_and_waited_for_with_a_token_of_one_fleet() {
    let mut bench = Bench::with_decoder(super::DECODER).await;
    bench.join().await;
    let token = json!({ "name": "tide board", "rights": ["view"], "scope": { "fleet": "bench" } });
    let made: Value = bench.service.post("tokens", token).await;
    let secret = made["secret"].as_str().unwrap();
    let get = async |query: &str| {
        let path = format!("/estates/tarnsey/messages?type=uplink&{query}");
        let (status, body) = bench.service.by(secret, Method::GET, &path, None).await;
        assert_eq!(status, 200, "{body}");
        serde_json::from_value::<NextMessages>(body).unwrap()
    };
    let begun = Instant::now();
    let nothing = get("wait_s=0").await;
    assert!(nothing.items.is_empty() && begun.elapsed() < Duration::from_secs(10));
    // It is there before the message is, and answered with it.
    let waiting = format!("after={}&wait_s=60", nothing.next);
    let path = format!("{}{}/estates/tarnsey/messages?type=uplink&{waiting}", bench.service.http, api::BASE);
    let asked = tokio::spawn(reqwest::Client::new().get(path).bearer_auth(secret).send());
    bench.uplink(&[4], false).await;
    let answer: NextMessages = asked.await.unwrap().unwrap().json().await.unwrap();
    assert_eq!(answer.items.len(), 1);
    let again = format!("{}{}/estates/tarnsey/messages?after={}", bench.service.http, api::BASE, answer.next);
    let nothing: NextMessages =
        reqwest::Client::new().get(again).bearer_auth(secret).send().await.unwrap().json().await.unwrap();
    assert!(nothing.items.is_empty());
}

#[tokio::test]
async fn what_cannot_be_read_is_refused() {
    let bench = Bench::with_decoder(super::DECODER).await;
    for (query, field) in [
        ("after=soon", "after"),
        ("after=18446744073709551615", "after"),
        ("type=weather", "type"),
        ("wait_s=61", "wait_s"),
        ("limit=0", "limit"),
        ("colour=blue", "colour"),
    ] {
        let (status, problem) =
            bench.service.call(Method::GET, &format!("/estates/tarnsey/messages?{query}"), None).await;
        assert_eq!((status.as_u16(), problem["field"].as_str()), (422, Some(field)), "{query}: {problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_prints_what_an_outlet_would_send() {
    let mut bench = Bench::with_decoder(super::DECODER).await;
    bench.service.sign_heron_in();
    bench.join().await;
    for number in 1..=3 {
        bench.uplink(&[number], false).await;
    }
    let printed = bench.service.heron_says(&[
        "tail",
        "--type",
        "uplink",
        "--since",
        "1h",
        "--limit",
        "3",
        "--field",
        "device.name",
        "--field",
        "readings.level.value",
    ]);
    let lines: Vec<Value> = printed.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[2], json!({ "device.name": "probe-1", "readings.level.value": 0.3 }));
    let whole = bench.service.heron_says(&["tail", "--type", "uplink", "--since", "1h", "--limit", "1"]);
    let message: Message = serde_json::from_str(&whole).unwrap();
    assert_eq!(message, super::stored(&bench.service, "uplink").await[0]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_prints_what_a_script_makes_of_each() {
    let mut bench = Bench::with_decoder(super::DECODER).await;
    bench.service.sign_heron_in();
    bench.join().await;
    for level in [10, 30, 15] {
        bench.uplink(&[level], false).await;
    }
    let folder = tempfile::tempdir().unwrap();
    let script = folder.path().join("shape.js");
    let one = "function transform(m) {\n const level = m.readings.level.value;\n if (level > 2) return null;\n return { level };\n}";
    std::fs::write(&script, one).unwrap();
    let path = script.to_str().unwrap();
    let printed =
        bench.service.heron_says(&["tail", "--type", "uplink", "--since", "1h", "--limit", "2", "--script", path]);
    let lines: Vec<Value> = printed.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines, [json!({ "level": 1 }), json!({ "level": 1.5 })], "the second one is left out");

    let (mut stream, _) = stream(&bench, "type=uplink&after=0", None).await;
    let first = next(&mut stream).await;
    let events: Vec<String> = (0..21).map(|number| number.to_string()).collect();
    let refusals = [
        (json!({ "events": events }), "events"),
        (json!({ "events": ["x"] }), "events"),
        (json!({ "events": ["1"], "latest": 3 }), "latest"),
        (json!({ "events": ["1"], "types": ["join"] }), "types"),
    ];
    for (mut trial, field) in refusals {
        trial["shape"] = "message".into();
        let (status, problem) =
            bench.service.call(Method::POST, "/estates/tarnsey/outlets/shape", Some(trial.clone())).await;
        assert_eq!((status.as_u16(), problem["field"].as_str()), (422, Some(field)), "{trial}: {problem}");
    }
    // A number that no message has is left out.
    let gone = json!({ "shape": "message", "events": ["1", first.id] });
    let tried: ShapeTried = bench.service.post("outlets/shape", gone).await;
    assert_eq!(tried.items.len(), 1, "{tried:?}");
    assert!(first.data.contains(&tried.items[0].before.id));
}

//! What arrives, and how.

use api::message::Message;
use api::outlet::{Delivery, OutletState};
use domain::outlet::signature::{SIGNATURE_HEADER, TIME_HEADER, signature};
use e2e::sink::Sink;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};

use super::{bench, outlet, shown, stored};

#[tokio::test]
async fn messages_arrive_as_they_are_stored_and_signed() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    let secret = "a secret of the harbour";
    let made = outlet(
        &bench.service,
        &sink,
        json!({ "types": ["uplink"], "fleet": "bench", "secrets": { "signing": secret, "bearer": "quay-token" },
            "webhook": { "headers": { "X-Harbour": "north" } } }),
    )
    .await;
    assert_eq!(made.secrets_set, ["signing", "bearer"]);
    for level in 1..=3 {
        bench.uplink(&[level], false).await;
    }
    let received = sink.wait_for(3).await;
    let stored = stored(&bench.service, "uplink").await;
    let arrived: Vec<Message> = received.iter().map(|one| serde_json::from_slice(&one.body).unwrap()).collect();
    assert_eq!(arrived, stored);
    let one = &received[0];
    assert_eq!((one.method.as_str(), one.path.as_str()), ("POST", "/in"));
    let header = |name: &str| one.headers[name].to_str().unwrap().to_owned();
    assert_eq!((header("content-type"), header("x-harbour")), ("application/json".into(), "north".into()));
    assert_eq!(header("authorization"), "Bearer quay-token");
    assert_eq!(header("keen-heron-message"), stored[0].id);
    let time: i64 = header(TIME_HEADER).parse().unwrap();
    assert_eq!(header(SIGNATURE_HEADER), signature(secret, time, &one.body));

    let deliveries: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
    assert_eq!(deliveries.len(), 3);
    assert!(deliveries.iter().all(|one| one.delivered && one.answer.as_ref().is_some_and(|a| a.status == 200)));
    assert_eq!(deliveries[0].request.headers["authorization"], "(hidden)");
    let outlet = shown(&bench.service).await;
    assert_eq!((outlet.status.state, outlet.status.delivered), (OutletState::Delivering, 3));
    assert_eq!((outlet.status.backlog, outlet.status.dead_letters), (0, 0));
}

#[tokio::test]
async fn an_uplink_arrives_with_its_readings_however_late_they_are() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    // So slow that it is decoded after it was stored.
    let slow = "function decodeUplink(i) { let n = 0; for (let k = 0; k < 120000; k++) n += k; return {data: {level: i.bytes[0]}} }";
    let model = json!({ "maker": "Benchwright", "name": "Probe", "decoder": slow });
    let _: Value = bench.service.done(Method::PUT, "/estates/tarnsey/models/probe", Some(model)).await;
    for level in 1..=5 {
        bench.uplink(&[level], false).await;
    }
    let received = sink.wait_for(5).await;
    let levels: Vec<f64> =
        received.iter().map(|one| one.json()["readings"]["level"]["value"].as_f64().unwrap()).collect();
    assert_eq!(levels, [1.0, 2.0, 3.0, 4.0, 5.0]);
}

#[tokio::test]
async fn several_go_in_one_request_and_each_shape_is_what_was_asked_for() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    let together = json!({ "most": 3, "within_s": 1.0 });
    outlet(
        &bench.service,
        &sink,
        json!({ "types": ["uplink"], "shape": { "fields": ["id", "readings.level.value"] },
            "webhook": { "together": together, "method": "PUT" } }),
    )
    .await;
    let flat = Sink::start().await;
    let new =
        json!({ "slug": "flat", "types": ["uplink"], "shape": "flat", "to": { "webhook": { "url": flat.url() } } });
    let _: Value = bench.service.post("outlets", new).await;
    for level in 1..=7 {
        bench.uplink(&[level], false).await;
    }
    until("seven messages", async || Some(()).filter(|()| sink.taken().len() == 7)).await;
    let received = sink.received();
    assert!(received.iter().all(|one| one.json().is_array() && one.method == Method::PUT));
    assert!(received.len() < 7 && received.iter().all(|one| one.messages().len() <= 3), "{}", received.len());
    let messages: Vec<Value> = received.iter().flat_map(|one| one.messages()).collect();
    assert_eq!(messages[6]["readings.level.value"], 0.7);
    assert_eq!(messages[6].as_object().unwrap().len(), 2);
    let flat = flat.wait_for(7).await[0].json();
    assert_eq!(flat["device.name"], "probe-1");
    assert_eq!((&flat["type"], &flat["heard_by.0.name"]), (&json!("uplink"), &json!("bench")));
}

#[tokio::test]
async fn only_what_was_chosen_arrives() {
    let (mut bench, all) = (bench().await, Sink::start().await);
    let none = Sink::start().await;
    let service = &bench.service;
    let _: Value = service.post("fleets", json!({ "slug": "empty" })).await;
    outlet(service, &all, json!({ "model": "probe", "tag": "quay" })).await;
    for (slug, choice) in [
        ("other-fleet", json!({ "fleet": "empty" })),
        ("other-type", json!({ "types": ["refused"] })),
        ("other-tag", json!({ "tag": "inland" })),
    ] {
        let mut new = json!({ "slug": slug, "to": { "webhook": { "url": none.url() } } });
        new.as_object_mut().unwrap().extend(choice.as_object().unwrap().clone());
        let _: Value = service.post("outlets", new).await;
    }
    let change = json!({ "tags": ["quay"] });
    let _: Value = service.done(Method::PATCH, "/estates/tarnsey/devices/probe-1", Some(change)).await;
    // The devices with a tag are looked up again when the outlet begins anew.
    let _: Value = service.post("outlets/harbour/resume", json!({})).await;
    bench.uplink(&[7], false).await;
    until("the uplink", async || all.received().iter().find(|one| one.json()["type"] == "uplink").map(drop)).await;
    assert!(none.received().is_empty());
}

#[tokio::test]
async fn what_was_delivered_is_sent_again_from_a_moment_on() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    bench.uplink(&[1], false).await;
    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "since": "2020-01-01T00:00:00Z" })).await;
    sink.wait_for(1).await;
    bench.uplink(&[2], false).await;
    sink.wait_for(2).await;
    let stored = stored(&bench.service, "uplink").await;
    let since = stored[1].time - chrono::TimeDelta::milliseconds(1);
    let sent: Value = bench.service.post("outlets/harbour/send-again", json!({ "since": since })).await;
    assert_eq!(sent["messages"], 1);
    sink.wait_for(3).await;
    assert_eq!(sink.taken(), [&stored[0].id, &stored[1].id, &stored[1].id].map(Clone::clone));
}

#[tokio::test]
async fn a_rehearsal_arrives_marked_as_such_and_a_test_shows_the_answer() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    let tried: Delivery = bench.service.post("outlets/harbour/test", json!({})).await;
    assert!(tried.delivered && tried.answer.is_some_and(|answer| answer.body == "answered 200"));
    let made_up = sink.wait_for(1).await[0].json();
    assert_eq!(made_up["rehearsed"]["by"], "owner");
    bench.uplink(&[9], false).await;
    let stored_id = sink.wait_for(2).await[1].json()["id"].clone();
    let _: Delivery = bench.service.post("outlets/harbour/test", json!({})).await;
    let again = sink.wait_for(3).await[2].json();
    assert_eq!((&again["rehearsed"]["again"], &again["readings"]["level"]["value"]), (&stored_id, &json!(0.9)));
    let rehearsal = json!({ "port": 2, "payload": "2a" });
    let outcome: Value = bench.service.post("devices/probe-1/rehearse", rehearsal).await;
    assert_eq!(outcome["went_to"], json!(["live stream: nobody listens", "outlet harbour"]));
    let arrived = sink.wait_for(4).await[3].json();
    assert_eq!((&arrived["readings"]["level"]["value"], &arrived["rehearsed"]["by"]), (&json!(4.2), &json!("owner")));
    assert_eq!(stored(&bench.service, "uplink").await.len(), 1, "rehearsals are stored nowhere");
}

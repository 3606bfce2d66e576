//! What does not arrive, and what becomes of it.

use std::time::Duration;

use api::diagnosis::watch::{About, Watch};
use api::outlet::{DeadLetter, Delivery, OutletState};
use e2e::sink::{Reply, Sink};
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};

use super::{becomes, bench, outlet, shown, stored};

#[tokio::test]
async fn one_that_is_refused_holds_up_its_device_and_becomes_a_dead_letter() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    sink.answer(|one| Reply::status(if one.json()["readings"]["level"]["value"] == 1.3 { 422 } else { 200 }));
    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "retry_for_s": 2.0 })).await;
    for level in 12..=15 {
        bench.uplink(&[level], false).await;
    }
    let letters = until("a dead letter", async || {
        let all: Vec<DeadLetter> = bench.service.list("outlets/harbour/dead-letters").await;
        Some(all).filter(|all| !all.is_empty())
    });
    let letters = letters.await;
    let stored = stored(&bench.service, "uplink").await;
    assert_eq!(letters.len(), 1);
    let letter = &letters[0];
    assert_eq!(letter.message, stored[1]);
    assert!(letter.tries >= 2 && letter.why == "it answers 422 Unprocessable Entity", "{letter:?}");
    assert_eq!(letter.answer.as_ref().unwrap().body, "answered 422");
    assert!(letter.request.body.contains(&stored[1].id));
    until("the rest", async || Some(()).filter(|()| sink.taken().len() == 3)).await;
    assert_eq!(sink.taken(), [0, 2, 3].map(|n: usize| stored[n].id.clone()), "in order");
    // Tried once more in vain, it stays; then it is taken.
    let path = format!("outlets/harbour/dead-letters/{}", letter.id);
    let _: Value = bench.service.post(&format!("{path}/replay"), json!({})).await;
    until("one more try", async || {
        let again: DeadLetter = bench.service.get(&path).await;
        Some(()).filter(|()| again.tries == letter.tries + 1)
    })
    .await;
    sink.answer(|_| Reply::status(204));
    let replayed: Value = bench.service.post("outlets/harbour/dead-letters/replay", json!({})).await;
    assert_eq!(replayed["letters"], 1);
    until("an empty list", async || Some(()).filter(|()| sink.taken().len() == 4)).await;
    until("no dead letter", async || {
        let all: Vec<DeadLetter> = bench.service.list("outlets/harbour/dead-letters").await;
        Some(()).filter(|()| all.is_empty())
    })
    .await;
    assert_eq!(shown(&bench.service).await.status.dead_letters, 0);
}

#[tokio::test]
async fn while_the_other_side_is_away_messages_wait_and_it_is_told() {
    let (mut bench, mut sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "retry_for_s": 1.0 })).await;
    sink.stop().await;
    for level in 1..=4 {
        bench.uplink(&[level], false).await;
    }
    let outlet = becomes(&bench.service, OutletState::Failing).await;
    assert!(outlet.status.why.as_ref().unwrap().contains("no connection"), "{:?}", outlet.status);
    assert!(outlet.status.next_try.is_some());
    let watch: Watch = bench.service.get("watch").await;
    let concern = watch.concerns.iter().find(|one| one.about == About::Outlet).expect("it is on the watch page");
    assert_eq!(concern.name.as_deref(), Some("harbour"));
    assert!(concern.what.starts_with("Failing: no connection"), "{}", concern.what);
    // This lasts longer than `retry_for_s`: a message without an answer does not become a dead letter.
    until("several tries", async || {
        let all: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
        Some(()).filter(|()| all.len() >= 3)
    })
    .await;
    sink.come_back().await;
    let _: Value = bench.service.post("outlets/harbour/resume", json!({})).await;
    until("all four", async || Some(()).filter(|()| sink.taken().len() == 4)).await;
    let stored: Vec<String> = stored(&bench.service, "uplink").await.into_iter().map(|message| message.id).collect();
    assert_eq!(sink.taken(), stored);
    assert_eq!(becomes(&bench.service, OutletState::Delivering).await.status.dead_letters, 0);
}

#[tokio::test]
async fn a_paused_outlet_keeps_its_place() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    bench.uplink(&[1], false).await;
    sink.wait_for(1).await;
    let paused: api::outlet::Outlet = bench.service.post("outlets/harbour/pause", json!({})).await;
    assert_eq!((paused.status.state, paused.status.why.as_deref()), (OutletState::Paused, Some("owner paused it")));
    for level in 2..=3 {
        bench.uplink(&[level], false).await;
    }
    until("they wait", async || Some(shown(&bench.service).await).filter(|outlet| outlet.status.backlog >= 2)).await;
    assert_eq!(sink.received().len(), 1);
    // Also over a restart.
    assert!(bench.service.stop());
    bench.service.start_again();
    assert_eq!(shown(&bench.service).await.status.state, OutletState::Paused);
    let _: Value = bench.service.post("outlets/harbour/resume", json!({})).await;
    sink.wait_for(3).await;
    let levels: Vec<Value> =
        sink.received().iter().map(|one| one.json()["readings"]["level"]["value"].clone()).collect();
    assert_eq!(levels, [0.1, 0.2, 0.3]);
}

#[tokio::test]
async fn one_that_is_gone_pauses_the_outlet() {
    let (mut bench, sink) = (bench().await, Sink::answering(|_| Reply::status(410)).await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    bench.uplink(&[1], false).await;
    let outlet = becomes(&bench.service, OutletState::Paused).await;
    assert_eq!(outlet.status.why.as_deref(), Some("the other side wants nothing any more: it answers 410 Gone"));
    sink.answer(|_| Reply::status(200));
    let _: Value = bench.service.post("outlets/harbour/resume", json!({})).await;
    until("the message", async || Some(()).filter(|()| sink.taken().len() == 1)).await;
}

#[tokio::test]
async fn whatever_is_answered_the_outlet_goes_on() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    let elsewhere = Sink::start().await;
    let to = elsewhere.url();
    let mut turn = 0;
    sink.answer(move |_| {
        turn += 1;
        match turn {
            1 => Reply::status(500),
            2 => Reply::status(307).header("location", to.clone()),
            3 => Reply::status(503).header("retry-after", "1"),
            4 => Reply::status(200).after(Duration::from_secs(30)),
            5 => Reply::status(301).header("location", "/other"),
            _ => Reply::status(200).endless(),
        }
    });
    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "webhook": { "answer_within_s": 1.0 } })).await;
    bench.uplink(&[1], false).await;
    // Each try is due at once when the outlet is resumed.
    let why = async |tries: usize| {
        sink.wait_for(tries).await;
        let delivery = until("it is told", async || {
            let all: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
            all.into_iter().next()
        });
        let why = delivery.await.why.unwrap_or_default();
        let _: Value = bench.service.post("outlets/harbour/resume", json!({})).await;
        why
    };
    assert_eq!(why(1).await, "it answers 500 Internal Server Error");
    assert!(why(2).await.contains("which is another host"), "it is not followed");
    assert_eq!(why(3).await, "it answers 503 Service Unavailable");
    assert_eq!(why(4).await, "no answer in time");
    assert!(why(5).await.contains("another request than the one that was sent"));
    until("it is delivered", async || Some(()).filter(|()| sink.taken().len() >= 2)).await;
    assert!(elsewhere.received().is_empty());
    becomes(&bench.service, OutletState::Delivering).await;
}

#[tokio::test]
async fn a_redirect_that_is_allowed_is_followed_without_secrets() {
    let (mut bench, quay) = (bench().await, Sink::start().await);
    let to = quay.url();
    let sink = Sink::answering(move |_| Reply::status(308).header("location", to.clone())).await;
    let host = quay.url().trim_start_matches("http://").trim_end_matches("/in").to_owned();
    outlet(
        &bench.service,
        &sink,
        json!({ "types": ["uplink"], "webhook": { "redirects_to": [host] }, "secrets": { "bearer": "quay-token" } }),
    )
    .await;
    bench.uplink(&[1], false).await;
    let received = quay.wait_for(1).await;
    assert!(!received[0].headers.contains_key("authorization"), "{:?}", received[0].headers);
    assert!(sink.received()[0].headers.contains_key("authorization"));
}

#[tokio::test]
async fn nobody_reaches_this_machine_through_an_outlet() {
    let mut bench = crate::scenes::Bench::with_decoder(super::DECODER).await;
    bench.join().await;
    let sink = Sink::start().await;
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    let port = sink.url().rsplit_once(':').unwrap().1.to_owned();
    for (slug, host) in [("by-name", "localhost"), ("by-v6", "[::ffff:127.0.0.1]"), ("by-nat64", "[64:ff9b::7f00:1]")] {
        let url = format!("http://{host}:{port}");
        let _: Value =
            bench.service.post("outlets", json!({ "slug": slug, "to": { "webhook": { "url": url } } })).await;
    }
    bench.uplink(&[1], false).await;
    for slug in ["harbour", "by-name", "by-v6", "by-nat64"] {
        let tried: Delivery = bench.service.post(&format!("outlets/{slug}/test"), json!({})).await;
        let why = tried.why.unwrap_or_default();
        assert!(!tried.delivered && why.contains("leads into the network of this machine"), "{slug}: {why}");
    }
    becomes(&bench.service, OutletState::Failing).await;
    assert!(sink.received().is_empty());
}

#[tokio::test]
async fn one_that_hangs_delays_no_other() {
    let (mut bench, hanging) =
        (bench().await, Sink::answering(|_| Reply::status(200).after(Duration::from_secs(60))).await);
    let sink = Sink::start().await;
    let new = json!({ "slug": "hanging", "to": { "webhook": { "url": hanging.url() } } });
    let _: Value = bench.service.post("outlets", new).await;
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    for level in 1..=3 {
        bench.uplink(&[level], false).await;
    }
    until("all of the other", async || Some(()).filter(|()| sink.taken().len() == 3)).await;
    assert_eq!(hanging.received().len(), 1, "one at a time of a device");
    let (status, _) = bench.service.call(Method::DELETE, "/estates/tarnsey/outlets/hanging", None).await;
    assert_eq!(status, 204);
}

#[tokio::test]
async fn messages_wait_through_what_becomes_of_their_device_and_fleet() {
    let (mut bench, mut sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "fleet": "bench" })).await;
    sink.stop().await;
    bench.uplink(&[1], false).await;
    becomes(&bench.service, OutletState::Failing).await;
    let service = &bench.service;
    let _: Value = service.post("fleets", json!({ "slug": "other" })).await;
    let moved = json!({ "fleet": "other" });
    let _: Value = service.done(Method::PATCH, "/estates/tarnsey/devices/probe-1", Some(moved)).await;
    let renamed = json!({ "slug": "berth" });
    let _: Value = service.done(Method::PATCH, "/estates/tarnsey/fleets/bench", Some(renamed)).await;
    let (status, problem) = service.call(Method::DELETE, "/estates/tarnsey/fleets/berth", None).await;
    assert_eq!((status.as_u16(), problem["code"].as_str()), (409, Some("in_use")));
    let (status, _) = service.call(Method::DELETE, "/estates/tarnsey/devices/probe-1", None).await;
    assert_eq!(status, 204);
    assert_eq!(shown(service).await.settings.fleet.as_deref(), Some("berth"));
    sink.come_back().await;
    let _: Value = service.post("outlets/harbour/resume", json!({})).await;
    let received = sink.wait_for(1).await;
    assert_eq!(
        (&received[0].json()["fleet"], &received[0].json()["device"]["name"]),
        (&json!("bench"), &json!("probe-1"))
    );
}

//! What is sent is what a script makes of it.

use api::outlet::{Outlet, ShapeTried};
use e2e::sink::Sink;
use reqwest::Method;
use serde_json::{Value, json};

use super::{bench, outlet, refused, shown, stored};

const SCRIPT: &str = "function transform(m) {
  if (m.readings.level.value > 2) return null;
  return { place: m.device.name, cm: Math.round(m.readings.level.value * 100) };
}";

#[tokio::test]
async fn a_script_is_tried_saved_and_obeyed() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    for level in [10, 30] {
        bench.uplink(&[level], false).await;
    }
    let read =
        |message: &api::message::Message| serde_json::to_string(message).is_ok_and(|json| json.contains("\"level\""));
    let both =
        async || (stored(&bench.service, "uplink").await.iter().filter(|one| read(one)).count() == 2).then_some(());
    e2e::wait::until("two uplinks", both).await;
    let tried: ShapeTried =
        bench.service.post("outlets/shape", json!({ "shape": { "script": SCRIPT }, "types": ["uplink"] })).await;
    let after: Vec<Option<Value>> = tried.items.iter().map(|item| item.after.clone()).collect();
    assert_eq!(after, [None, Some(json!({ "place": "probe-1", "cm": 100 }))], "newest first");
    assert!(tried.items.iter().all(|item| item.why.is_none()));
    let (_, page) =
        include_str!("../../../../../docs/outlets.md").split_once("```javascript\nfunction transform").unwrap();
    let documented = format!("function transform{}", page.split_once("```").unwrap().0.replace("water_level", "level"));
    let trial = json!({ "types": ["uplink"], "shape": { "script": documented } });
    let tried: ShapeTried = bench.service.post("outlets/shape", trial).await;
    assert_eq!(tried.items[0].after, Some(json!({ "place": "probe-1", "cm": 300 })));
    assert_eq!((&tried.items[1].after, &tried.items[1].why), (&None, &None));
    let failing = json!({ "types": ["uplink"], "shape": { "script": "function transform(m) {\n return m.none.x; }" } });
    let tried: ShapeTried = bench.service.post("outlets/shape", failing).await;
    let why = tried.items[0].why.as_ref().unwrap();
    assert!(why.line == Some(2) && tried.items[0].after.is_none(), "{why:?}");

    outlet(&bench.service, &sink, json!({ "types": ["uplink"], "shape": { "script": SCRIPT } })).await;
    for level in [15, 40, 5] {
        bench.uplink(&[level], false).await;
    }
    let received = sink.wait_for(2).await;
    let bodies: Vec<Value> = received.iter().map(|one| one.json()).collect();
    assert_eq!(bodies, [json!({ "place": "probe-1", "cm": 150 }), json!({ "place": "probe-1", "cm": 50 })]);
    e2e::wait::until("all three", async || (shown(&bench.service).await.status.delivered == 3).then_some(())).await;
    // Another shape takes its place as a whole.
    let patch = json!({ "shape": { "fields": ["id"] } });
    let changed: Outlet = bench.service.done(Method::PATCH, "/estates/tarnsey/outlets/harbour", Some(patch)).await;
    assert_eq!(serde_json::to_value(changed.settings.shape).unwrap(), json!({ "fields": ["id"] }));
}

#[tokio::test]
async fn a_script_that_cannot_work_is_refused_and_one_that_loops_stops_only_its_outlet() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    let with = |script: &str| {
        let to = json!({ "webhook": { "url": sink.url() } });
        json!({ "slug": "bad", "shape": { "script": script }, "to": to })
    };
    for bad in ["", "function transform(", "let x = 1;", "throw 1; function transform(m) { return m; }"] {
        assert_eq!(refused(&bench.service, with(bad)).await, ["shape.script"], "{bad}");
    }
    let mut looping = with("function transform(m) { for (;;) {} }");
    (looping["types"], looping["retry_for_s"]) = (json!(["uplink"]), json!(1));
    let _: Outlet = bench.service.post("outlets", looping).await;
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    for level in 1..=5 {
        bench.uplink(&[level], false).await;
    }
    assert_eq!(sink.wait_for(5).await.len(), 5, "the other outlet delivers");
    let letters: Vec<Value> = e2e::wait::until("dead letters", async || {
        let letters: Vec<Value> = bench.service.list("outlets/bad/dead-letters").await;
        Some(letters).filter(|letters| !letters.is_empty())
    })
    .await;
    let why = letters[0]["why"].as_str().unwrap();
    assert!(why.contains("the script failed"), "{why}");
}

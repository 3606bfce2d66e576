//! A scenario's history: days simulated in seconds, continued live.

use std::collections::HashMap;
use std::path::Path;

use api::Page;
use api::device::{Device, DeviceDetail, DeviceState};
use api::gateway::event::GatewayEvent;
use api::gateway::{Gateway, GatewayState, Protocol};
use api::message::{Body, Message};
use api::reading::chart::Chart;
use chrono::{DateTime, Utc};
use e2e::service::Service;
use e2e::wait::until;
use serde_json::json;
use simulator::scenario::Scenario;
use simulator::simulation::SavedWorld;
use simulator::world::World;

const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tarnsey");

/// A stopped service with the demo's estate registered, as `scripts/demo` has it before its past is made.
async fn registered() -> Service {
    let mut service = Service::first_start().await;
    service.register(&Scenario::load(Path::new(FOLDER)).unwrap()).await;
    assert!(service.stop());
    service
}

fn history(service: &Service, options: &[&str]) -> Vec<String> {
    let state = service.data().join("world.json");
    let (database, data) = (service.database(), service.data());
    let fixed = ["--database", &database, "--data", data.to_str().unwrap(), "--estate", "tarnsey"];
    let place = ["--state", state.to_str().unwrap()];
    [&["scenario-history", FOLDER][..], &fixed, &place, options].concat().into_iter().map(str::to_owned).collect()
}

fn lived(service: &Service, options: &[&str]) -> String {
    let args = history(service, options);
    service.herond_says(&args.iter().map(String::as_str).collect::<Vec<_>>())
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_live_through_a_day_and_go_on_where_they_were() {
    let mut service = registered().await;
    let said = lived(&service, &["--days", "1", "--seed", "7"]);
    assert!(said.contains("1 days written: "), "{said}");
    service.start_again();
    service.sign_in_again().await;

    // Everything is as if it had been heard.
    let devices: Vec<Device> = service.list("devices?limit=200").await;
    let silent: Vec<&str> =
        devices.iter().filter(|d| d.state != DeviceState::Active).map(|d| d.name.as_str()).collect();
    assert!(silent.len() <= 4 && silent.contains(&"collar-19") && silent.contains(&"nest-11"), "{silent:?}");
    let day_ago = Utc::now() - chrono::TimeDelta::hours(23);
    let detail: DeviceDetail = service.get("devices/tide-01").await;
    let before = detail.session.unwrap();
    assert!(before.last_counter_up.is_some_and(|counter| counter > 250), "{before:?}");
    let line = json!({ "device": "02b0010000000001", "reading": "water_level" });
    let chart: Chart = service.post("chart", json!({ "lines": [line], "from": day_ago, "until": Utc::now() })).await;
    let points = &chart.lines[0].points;
    let hour_ms = 3_600_000;
    assert!(points.len() > 200 && points[0].at_ms < day_ago.timestamp_millis() + hour_ms, "{}", points.len());
    let uplinks: Page<Message> = service.get("traffic?type=uplink&device=collar-20&limit=50").await;
    let heard: Vec<usize> = uplinks
        .items
        .iter()
        .filter_map(|m| match &m.body {
            Body::Uplink(uplink) => Some(uplink.heard_by.len()),
            _ => None,
        })
        .collect();
    assert!(heard.len() > 20 && heard.iter().any(|n| *n != heard[0]), "it walks in and out of reach: {heard:?}");
    let gateways: Vec<Gateway> = service.list("gateways").await;
    assert!(gateways.iter().all(|gateway| gateway.last_heard.is_some()));

    // The same devices go on, without a join: first of all the one that talks too much.
    let mut scenario = Scenario::load(Path::new(FOLDER)).unwrap();
    scenario.gateways.retain(|gateway| gateway.protocol == Protocol::Udp);
    let before: DeviceDetail = service.get("devices/collar-44").await;
    let before = before.session.unwrap();
    let saved = SavedWorld::read(&service.data().join("world.json")).unwrap();
    let world = World::go_on(&scenario, (service.udp, &HashMap::new()), saved).await.unwrap();
    let after = until("a live uplink", async || {
        let detail: DeviceDetail = service.get("devices/collar-44").await;
        detail.session.filter(|session| session.last_counter_up > before.last_counter_up)
    })
    .await;
    assert_eq!(after.dev_addr, before.dev_addr, "one session from the past into the present");
    drop(world);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_seed_and_moment_make_the_same_past_once() {
    let (one, two) = (registered().await, registered().await);
    let options = ["--days", "1", "--seed", "7", "--until", "2026-05-04T09:00:00Z"];
    let all = |service: &Service| {
        lived(service, &options);
        service.query(
            "SELECT id, JSON_EXTRACT(body, '$.frame'), JSON_EXTRACT(body, '$.readings') FROM messages ORDER BY id",
        )
    };
    let first = all(&one);
    assert!(first.lines().count() > 4_000, "{}", first.lines().count());
    assert!(first == all(&two), "not the same");
    // An estate with a history has none made over it.
    let args = history(&one, &options);
    let why = one.herond_refuses(&args.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(why.contains("has a history already"), "{why}");
    let mut args = history(&two, &options);
    args[7] = "nowhere".into();
    let why = two.herond_refuses(&args.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(why.contains("there is no estate \"nowhere\"; there is tarnsey"), "{why}");
}

/// Water, one gauge, and a gateway that was away for six hours.
const SMALL: &str = r#"
name = "Skerry"

[[fleet]]
slug = "tide"
name = "Tide"

[[gateway]]
eui = "02a1f00000000055"
name = "skerry"
latitude_deg = 54.7
longitude_deg = 3.9
altitude_m = 10.0
antenna_gain_dbi = 2.0
away = [{ from_days_ago = 0.5, until_days_ago = 0.25 }]

[[device]]
name = "gauge"
dev_eui = "02b0010000000055"
join_eui = "02aa000000000001"
app_key = "5a1e0c3f7d924b68a1c07e55d2f3908b"
fleet = "tide"
sensor = "tide-gauge"
latitude_deg = 54.71
longitude_deg = 3.9
interval_s = 600.0
data_rate = 4
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_was_away_is_told_of() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("scenario.toml"), SMALL).unwrap();
    let mut service = Service::first_start().await;
    service.register(&Scenario::load(folder.path()).unwrap()).await;
    assert!(service.stop());
    let mut args = history(&service, &["--days", "1"]);
    args[1] = folder.path().to_str().unwrap().into();
    let now = Utc::now();
    service.herond_says(&args.iter().map(String::as_str).collect::<Vec<_>>());
    service.start_again();
    service.sign_in_again().await;
    let hours_ago = |at: DateTime<Utc>| (now - at).num_minutes() as f64 / 60.0;
    let events: Vec<GatewayEvent> = service.list("gateways/skerry/events").await;
    let states: Vec<(GatewayState, f64)> =
        events.iter().filter_map(|event| Some((event.state?, hours_ago(event.time)))).collect();
    let lost = states.iter().find(|(state, _)| *state == GatewayState::Lost).expect("it was lost").1;
    assert!((11.5..12.0).contains(&lost), "{states:?}");
    let uplinks: Vec<Message> = service.list("traffic?type=uplink&limit=200").await;
    let then: Vec<f64> = uplinks.iter().map(|uplink| hours_ago(uplink.time)).collect();
    assert!(then.iter().any(|ago| *ago < 5.5) && then.iter().any(|ago| *ago > 12.5), "{then:?}");
    assert!(!then.iter().any(|ago| (6.1..11.9).contains(ago)), "{then:?}");
}

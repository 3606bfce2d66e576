//! Both sides killed again and again under load: nothing is lost, and repetitions are told by their ids.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use e2e::mosquitto::Mosquitto;
use e2e::postgres::{ACCOUNT, Postgres};
use e2e::sink::Sink;
use e2e::wait::until_or_tell;
use serde_json::json;

use super::{bench, outlet};
use crate::scenes::Bench;

const KILLS: usize = 20;

/// Sends uplinks for 50 ms to `longest_ms`.
async fn uplinks(bench: &mut Bench, sent: &mut u32, longest_ms: u64) {
    let end = Instant::now() + Duration::from_millis(rand::random_range(50..longest_ms));
    while Instant::now() < end {
        bench.uplink(&sent.to_be_bytes(), false).await;
        *sent += 1;
    }
}

async fn kill_service(bench: &mut Bench) {
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
}

#[tokio::test]
async fn killed_at_random_nothing_is_lost_and_order_is_kept() {
    let (mut bench, mut sink) = (bench().await, Sink::start().await);
    outlet(&bench.service, &sink, json!({ "types": ["uplink"] })).await;
    let mut sent = 0u32;
    for kill in 0..KILLS {
        uplinks(&mut bench, &mut sent, 500).await;
        match kill % 2 {
            0 => {
                kill_service(&mut bench).await;
            }
            _ => {
                sink.stop().await;
                bench.uplink(&sent.to_be_bytes(), false).await;
                sent += 1;
                sink.come_back().await;
            }
        }
    }
    bench.service.sign_in_again().await;
    until_or_tell(
        || format!("{sent} messages; {} came", sink.taken().iter().collect::<BTreeSet<_>>().len()),
        async || {
            let _: serde_json::Value = bench.service.post("outlets/harbour/resume", json!({})).await;
            let ids: BTreeSet<String> = sink.taken().into_iter().collect();
            Some(()).filter(|()| ids.len() == sent as usize)
        },
    )
    .await;
    assert_in_order(&bench, sink.taken(), sent);
}

#[tokio::test]
async fn whichever_side_of_a_broker_ends_each_message_comes_in_order() {
    let (mut bench, mut broker) = (bench().await, Mosquitto::open().await);
    let mqtt = json!({ "url": broker.url(), "topic": "harbour/{device}/{type}", "qos": 1 });
    let _: serde_json::Value =
        bench.service.post("outlets", json!({ "slug": "harbour", "types": ["uplink"], "to": { "mqtt": mqtt } })).await;
    // The broker keeps this listener's messages while it is away.
    let listener = broker.listen("harbour/#", &["-q", "1", "-c", "-i", "listener"]).await;
    let mut sent = 0u32;
    for kill in 0..KILLS {
        uplinks(&mut bench, &mut sent, 400).await;
        if kill % 2 == 0 {
            kill_service(&mut bench).await;
        } else {
            broker.stop();
            bench.uplink(&sent.to_be_bytes(), false).await;
            sent += 1;
            broker.go_on().await;
        }
    }
    bench.service.sign_in_again().await;
    let ids = || listener.all().iter().map(|one| one.json()["id"].to_string()).collect::<Vec<_>>();
    until_or_tell(
        || format!("{sent} messages; {} came", ids().into_iter().collect::<BTreeSet<_>>().len()),
        async || {
            let _: serde_json::Value = bench.service.post("outlets/harbour/resume", json!({})).await;
            (ids().into_iter().collect::<BTreeSet<_>>().len() == sent as usize).then_some(())
        },
    )
    .await;
    assert_in_order(&bench, ids().into_iter().map(|id| id.trim_matches('"').to_owned()), sent);
}

/// Each uplink that was sent has arrived, for the first time after those before it.
fn assert_in_order(bench: &Bench, arrived: impl IntoIterator<Item = String>, sent: u32) {
    let mut first: BTreeMap<String, usize> = BTreeMap::new();
    for (place, id) in arrived.into_iter().enumerate() {
        first.entry(id).or_insert(place);
    }
    let in_order = bench.service.query("SELECT id FROM messages WHERE kind = 'uplink' ORDER BY id");
    let places: Vec<usize> = in_order.lines().map(|id| first[id]).collect();
    assert_eq!(places.len(), sent as usize);
    assert!(places.is_sorted(), "each arrived for the first time after those before it: {places:?}");
}

#[tokio::test]
async fn a_table_has_each_message_once_whichever_side_is_killed() {
    let (mut bench, mut database) = (bench().await, Postgres::start().await);
    let columns = json!([
        { "column": "message", "field": "id", "kind": "text" }, { "column": "counter", "field": "frame.counter", "kind": "integer" },
    ]);
    let sql = json!({ "url": database.url(), "account": ACCOUNT.0, "table": "readings", "columns": columns, "create": true,
        "without_tls": true });
    let new =
        json!({ "slug": "harbour", "types": ["uplink"], "to": { "sql": sql }, "secrets": { "password": ACCOUNT.1 } });
    let _: serde_json::Value = bench.service.post("outlets", new).await;
    let mut sent = 0u32;
    for kill in 0..KILLS / 2 {
        uplinks(&mut bench, &mut sent, 400).await;
        if kill % 2 == 0 {
            kill_service(&mut bench).await;
        } else {
            database.kill();
            bench.uplink(&sent.to_be_bytes(), false).await;
            sent += 1;
            database.go_on().await;
        }
    }
    bench.service.sign_in_again().await;
    let count = || database.query("SELECT COUNT(*) FROM readings").trim().parse::<u32>().unwrap_or_default();
    until_or_tell(
        || format!("{sent} rows; there are {}", count()),
        async || {
            let _: serde_json::Value = bench.service.post("outlets/harbour/resume", json!({})).await;
            (count() == sent).then_some(())
        },
    )
    .await;
}

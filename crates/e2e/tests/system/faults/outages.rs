//! The database away in every way: stopped, silent, read-only; and what is told meanwhile.

use std::time::{Duration, Instant};

use api::device::{DeviceDetail, DeviceState};
use api::health::PartState;
use e2e::mariadb::MariaDb;
use e2e::proxy::Proxy;
use e2e::service::{ESTATE, Service};
use e2e::wait::until;
use reqwest::Method;
use serde_json::json;

use super::{concerns, health, stored, until_stored};
use crate::scenes::{Bench, DEV_EUI, radio};

/// A database server that others do not share.
fn own_server() -> &'static MariaDb {
    Box::leak(Box::new(MariaDb::start()))
}

async fn until_failing(service: &Service) -> api::health::Health {
    until("health to say that nothing becomes durable", async || {
        let (status, parts) = health(service).await;
        (status == 503 && parts.status == PartState::Failing).then_some(parts)
    })
    .await
}

async fn until_well(service: &Service) {
    until("health to be good again", async || (health(service).await.0 == 200).then_some(())).await;
}

#[tokio::test]
async fn a_database_that_refuses_to_write_for_a_while_is_waited_for() {
    let server = own_server();
    let mut bench = Bench::with(Service::on(server).await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    server.as_root("SET GLOBAL read_only = ON");
    // Acknowledged, since they are in the journal.
    for n in 1..20u8 {
        bench.uplink(&[n], false).await;
    }
    let parts = until_failing(&bench.service).await;
    assert!(
        parts.parts.iter().any(|p| p.part == "commits" && p.what.contains("nothing has become durable")),
        "{parts:?}"
    );
    let told = concerns(&bench.service).await;
    assert!(told.contains("Nothing has become durable") && told.contains("read-only"), "{told}");
    server.as_root("SET GLOBAL read_only = OFF");
    until_stored(&bench.service, DEV_EUI, 0..20).await;
    until_well(&bench.service).await;
}

// The proxy works while the service is started.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connection_that_goes_silent_is_thrown_away() {
    let server = own_server();
    let proxy = Proxy::before(server.port()).await;
    let mut bench = Bench::with(Service::through(server, proxy.address).await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    proxy.silence();
    for n in 1..10u8 {
        bench.uplink(&[n], false).await;
    }
    until_failing(&bench.service).await;
    until_stored(&bench.service, DEV_EUI, 0..10).await;
    until_well(&bench.service).await;
    bench.uplink(&[10], false).await;
    until_stored(&bench.service, DEV_EUI, 0..11).await;
}

#[tokio::test]
async fn what_is_known_in_memory_is_told_while_the_database_is_away() {
    let server = own_server();
    let mut bench = Bench::with(Service::on(server).await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    let ingest: api::IngestStats = bench.service.done(Method::GET, "/ingest", None).await;
    assert!(ingest.frames > 0);
    server.freeze(true);
    bench.uplink(&[1], false).await;
    until_failing(&bench.service).await;
    let ingest: api::IngestStats = bench.service.done(Method::GET, "/ingest", None).await;
    let metrics: api::metrics::Metrics = bench.service.done(Method::GET, "/metrics", None).await;
    assert!(ingest.frames > 1 && metrics.uplinks_stored > 0);
    server.freeze(false);
    until_stored(&bench.service, DEV_EUI, 0..2).await;
    until_well(&bench.service).await;
}

/// Makes the records say that the device was last heard this many seconds ago.
fn heard_before(service: &Service, seconds: u32) {
    let hex = hex::encode(DEV_EUI.to_bytes());
    for (table, column) in [("sessions", "joined_at"), ("activity", "last_heard")] {
        let then = format!("UTC_TIMESTAMP(3) - INTERVAL {seconds} SECOND");
        service.query(&format!("UPDATE {table} SET {column} = {then} WHERE dev_eui = x'{hex}'"));
    }
}

#[tokio::test]
async fn nobody_is_called_silent_before_what_was_heard_has_been_looked_at() {
    let server = own_server();
    let mut bench = Bench::with(Service::on(server).await, None).await;
    bench.join().await;
    let mut often = radio();
    often["uplink_interval_s"] = json!(1);
    let path = format!("/estates/{ESTATE}/devices/{DEV_EUI}/radio");
    let _: DeviceDetail = bench.service.done(Method::PUT, &path, Some(often)).await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    let state = async |service: &Service| {
        let detail: DeviceDetail = service.get(&format!("devices/{DEV_EUI}")).await;
        detail.device.state
    };
    heard_before(&bench.service, 70);
    assert_eq!(state(&bench.service).await, DeviceState::Silent, "after three of its intervals and a minute");
    // It would be three seconds from now.
    heard_before(&bench.service, 60);
    server.freeze(true);
    // It sends all the time, and for long enough to be overdue by what is stored.
    let begun = Instant::now();
    let mut sent = 1;
    while begun.elapsed() < Duration::from_secs(7) {
        bench.uplink(&[sent as u8], false).await;
        sent += 1;
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    server.freeze(false);
    until("all to be stored", async || {
        assert_ne!(state(&bench.service).await, DeviceState::Silent);
        (stored(&bench.service, DEV_EUI).len() == sent as usize).then_some(())
    })
    .await;
}

#[tokio::test]
async fn datagrams_for_which_the_kernel_has_no_room_are_counted() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.service.freeze(true);
    // 64 MB: more than any socket's buffer holds.
    let flood = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    flood.connect(bench.service.udp).await.unwrap();
    for _ in 0..64 * 1024 {
        let _ = flood.send(&[2; 1000]).await;
    }
    bench.service.freeze(false);
    until("the lost datagrams to be counted", async || {
        let ingest: api::IngestStats = bench.service.done(Method::GET, "/ingest", None).await;
        ingest.dropped.iter().find(|d| d.reason == "socket_full").filter(|d| d.count > 1_000).map(|_| ())
    })
    .await;
    bench.uplink(&[1], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
}

#[tokio::test]
async fn a_stop_ends_within_its_time_while_the_database_is_away_and_loses_nothing() {
    let server = own_server();
    let mut bench = Bench::with(Service::on(server).await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    server.freeze(true);
    for n in 1..5u8 {
        bench.uplink(&[n], false).await;
    }
    let begun = Instant::now();
    assert!(bench.service.stop(), "it ends well");
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
    server.freeze(false);
    bench.service.start_again();
    until_stored(&bench.service, DEV_EUI, 0..5).await;
}

//! The database away in every way: stopped, silent, read-only; and what is told meanwhile.

use std::time::{Duration, Instant};

use api::health::PartState;
use e2e::mariadb::MariaDb;
use e2e::proxy::Proxy;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::Method;

use super::{concerns, health, until_stored};
use crate::scenes::{Bench, DEV_EUI};

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
    let intake: api::Intake = bench.service.done(Method::GET, "/intake", None).await;
    assert!(intake.frames > 0);
    server.freeze(true);
    bench.uplink(&[1], false).await;
    until_failing(&bench.service).await;
    let intake: api::Intake = bench.service.done(Method::GET, "/intake", None).await;
    let vitals: api::vitals::Vitals = bench.service.done(Method::GET, "/vitals", None).await;
    assert!(intake.frames > 1 && vitals.uplinks_stored > 0);
    server.freeze(false);
    until_stored(&bench.service, DEV_EUI, 0..2).await;
    until_well(&bench.service).await;
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

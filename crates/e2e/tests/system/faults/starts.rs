//! Starts that are killed, and connections that stand around.

use std::time::Duration;

use e2e::mariadb::{MariaDb, free_port};
use e2e::proxy::Proxy;
use e2e::service::Service;
use tokio::net::TcpStream;

use super::{health, until_stored};
use crate::scenes::{Bench, DEV_EUI};

#[tokio::test]
async fn a_first_start_that_is_killed_again_and_again_ends_well() {
    for tries in 0..3u64 {
        let mut delay = Duration::from_millis(20 + 17 * tries);
        let unfinished = Service::killed_first_starts(MariaDb::shared(), 8, || {
            delay += Duration::from_millis(35);
            delay
        });
        let service = unfinished.start();
        assert_eq!(health(&service).await.0, 200);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_start_waits_for_a_database_that_comes_up_later() {
    let (server, place) = (MariaDb::shared(), ([127, 0, 0, 1], free_port()).into());
    let later = tokio::spawn(async move {
        // Time for the service to find no database there.
        tokio::time::sleep(Duration::from_secs(3)).await;
        Proxy::at(place, server.port()).await
    });
    let service = Service::through(server, place).await;
    assert_eq!(health(&service).await.0, 200);
    drop(later);
}

#[tokio::test]
async fn connections_that_say_nothing_leave_room_for_what_stores_frames() {
    let mut bench = Bench::with(Service::with_files(600).await, None).await;
    bench.join().await;
    let mut idle = Vec::new();
    for _ in 0..900 {
        if let Ok(Ok(stream)) =
            tokio::time::timeout(Duration::from_secs(1), TcpStream::connect(bench.service.tls)).await
        {
            idle.push(stream);
        }
    }
    assert!(idle.len() > 500);
    for n in 0..5u8 {
        bench.uplink(&[n], false).await;
    }
    until_stored(&bench.service, DEV_EUI, 0..5).await;
    assert_eq!(health(&bench.service).await.0, 200);
}

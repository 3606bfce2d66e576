//! Clocks that are wrong: ahead before the network's time arrives, put forward and back.

use e2e::service::Service;

use e2e::wait::until;

use super::{concerns, until_stored};
use crate::scenes::{Bench, DEV_EUI};

#[tokio::test]
async fn a_clock_that_was_ahead_before_a_restart_loses_nothing() {
    let mut bench = Bench::with(Service::at_time("+2h").await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    bench.uplink(&[1], false).await;
    bench.service.kill();
    bench.service.set_time("+0");
    bench.service.start_again();
    bench.gateway.pull().await;
    bench.uplink(&[2], false).await;
    until_stored(&bench.service, DEV_EUI, 0..3).await;
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
    bench.uplink(&[3], false).await;
    until_stored(&bench.service, DEV_EUI, 0..4).await;
}

#[tokio::test]
async fn a_clock_that_is_put_far_forward_and_back_is_followed_and_told() {
    let mut bench = Bench::with(Service::at_time("+0").await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    // Not asked over HTTP: with sixty days a sign-in has ended.
    let count = |bench: &Bench| bench.service.query("SELECT COUNT(*) FROM messages WHERE kind = 'uplink'");
    for (n, time) in ["+60d", "+0", "-1h", "+0"].into_iter().enumerate() {
        bench.service.set_time(time);
        bench.uplink(&[1], false).await;
        let wanted = (n + 2).to_string();
        until(&format!("{wanted} uplinks at {time}"), async || (count(&bench).trim() == wanted).then_some(())).await;
    }
    // None of them stays in the future, nor does what comes next.
    let newest = bench.service.query("SELECT MAX(id) FROM (SELECT id FROM messages ORDER BY id LIMIT 2) AS first");
    assert!(!newest.trim().is_empty());
    bench.service.sign_in_again().await;
    let told = concerns(&bench.service).await;
    assert!(told.matches("The clock was set by").count() >= 2, "{told}");
    // Answers still come in time after all that.
    let early = bench.uplink(&[9], true).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    assert!(bench.device.receive(&packet.phy_payload).is_some());
}

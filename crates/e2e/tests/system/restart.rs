//! Killed and started again: sessions go on, nothing is used twice, nothing accepted is lost.

use std::collections::BTreeSet;
use std::time::Duration;

use api::Page;
use api::device::DeviceDetail;
use api::device::outbox::{OutboxItem, OutboxState};
use api::message::{Body, Message};
use e2e::mariadb::MariaDb;
use e2e::service::Service;
use e2e::wait::until;
use lorawan::wire::DataView;
use serde_json::json;
use simulator::device::Downlink;

use crate::scenes::{Bench, DEV_EUI};

#[tokio::test]
async fn no_counter_is_used_twice_however_the_service_dies() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let mut used = BTreeSet::new();
    let mut last_frame = None;
    for round in 0..6u8 {
        // Confirmed, so each is answered under a new counter.
        let emission = bench.device.uplink(2, &[round], true).unwrap();
        bench.clock_us = bench.clock_us.wrapping_add(10_000_000);
        let early = bench.gateway.push(&emission, bench.clock_us).await;
        let (token, packet) = bench.next_downlink(early).await;
        // On some rounds the power goes before the report is in, on some right after it.
        if round % 2 == 0 {
            bench.gateway.report(token, Ok(())).await;
        }
        bench.service.kill();
        let low = DataView::new_checked(&packet.phy_payload).unwrap().counter_low();
        assert!(used.insert(low), "counter {low} was used twice");
        let received = bench.device.receive(&packet.phy_payload);
        assert!(matches!(received, Some(Downlink::Data { ack: true, .. })), "round {round}: {received:?}");
        bench.service.start_again();
        bench.gateway.pull().await;
        last_frame = Some(emission);
    }
    let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    let session = detail.session.unwrap();
    assert_eq!(session.last_counter_up, Some(5), "all six were accepted under one session");
    assert_eq!(session.next_counter_down, u32::from(*used.last().unwrap()) + 1);
    assert!(detail.airtime.iter().map(|b| b.frames).sum::<u32>() >= 7, "the account of airtime survives too");

    // What was accepted before the restart is known as a repetition after it, not as news.
    bench.gateway.push(&last_frame.unwrap(), 5).await;
    bench.uplink(&[9], false).await;
    let traffic = until("the next uplink", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        matches!(&traffic.items[0].body, Body::Uplink(u) if u.frame.counter == 6).then_some(traffic)
    })
    .await;
    assert_eq!(traffic.items.len(), 7);
}

#[tokio::test]
async fn a_frame_is_processed_once_though_its_copies_were_still_being_collected() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.uplink(&[1], false).await;
    // Its gateway knows that it has arrived; the database does not know it yet.
    bench.service.kill();
    bench.service.start_again();
    let uplinks = async |bench: &Bench, of: usize| {
        until("the history", async || {
            let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
            (traffic.items.len() >= of).then_some(traffic.items.len())
        })
        .await
    };
    assert_eq!(uplinks(&bench, 1).await, 1);
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
    bench.uplink(&[2], false).await;
    assert_eq!(uplinks(&bench, 2).await, 2, "the journal still holds the first, but it is done");
    let refused: Page<Message> = bench.service.get("traffic?type=refused").await;
    assert_eq!(refused.items, []);
}

#[tokio::test]
async fn a_join_is_not_replayed_over_a_restart() {
    let mut bench = Bench::set_up().await;
    let request = bench.device.join_request();
    let early = bench.gateway.push(&request, 1).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    assert!(matches!(bench.device.receive(&packet.phy_payload), Some(Downlink::Joined(_))));
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
    // For a moment it is taken for a late copy of the one before, which the service still knows.
    let refused = until("the refusal", async || {
        bench.gateway.push(&request, 2).await;
        let traffic: Page<Message> = bench.service.get("traffic?type=refused").await;
        traffic.items.into_iter().next()
    })
    .await;
    assert!(matches!(&refused.body, Body::Refused(r) if r.refusal.code == "dev_nonce_used"));
    assert!(
        !bench.uplink(&[1], true).await.is_empty() || bench.gateway.downlink(Duration::from_secs(10)).await.is_some()
    );
}

#[tokio::test]
async fn what_waits_in_the_outbox_waits_on() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let outbox = format!("devices/{DEV_EUI}/outbox");
    let _: OutboxItem = bench.service.post(&outbox, json!({ "port": 9, "payload": "0a0b" })).await;
    bench.service.kill();
    bench.service.start_again();
    bench.gateway.pull().await;
    // Handed to the gateway, whose report is never heard.
    let early = bench.uplink(&[1], false).await;
    bench.next_downlink(early).await;
    bench.service.kill();
    bench.service.start_again();
    let item = until("the item to wait again", async || {
        let items: Page<OutboxItem> = bench.service.get(&outbox).await;
        items.items.into_iter().find(|item| item.state == OutboxState::Waiting)
    })
    .await;
    assert!(item.note.unwrap().contains("restarted while it was under way"));
    bench.gateway.pull().await;
    let early = bench.uplink(&[1], false).await;
    let (_, packet) = bench.next_downlink(early).await;
    let Some(Downlink::Data { payload, port, .. }) = bench.device.receive(&packet.phy_payload) else { panic!("data") };
    assert_eq!((port, payload), (Some(9), vec![0x0a, 0x0b]));
}

#[tokio::test]
async fn uplinks_left_undecoded_are_decoded_later() {
    let mut bench = Bench::with_decoder("function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }").await;
    bench.join().await;
    for n in 0..5 {
        bench.uplink(&[n], false).await;
    }
    // Whatever the kill cuts short, accepted uplinks have their reading in the end.
    until("an uplink in the history", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        (!traffic.items.is_empty()).then_some(())
    })
    .await;
    bench.service.kill();
    // One more as if the kill had come between storing and decoding.
    bench.service.query(
        "UPDATE messages SET body = JSON_SET(body, '$.readings', JSON_OBJECT()) WHERE kind = 'uplink' ORDER BY id LIMIT 1;
         INSERT IGNORE INTO undecoded SELECT MIN(id) FROM messages WHERE kind = 'uplink'",
    );
    bench.service.start_again();
    until("each that was acknowledged, once and decoded", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        let decoded = |m: &Message| matches!(&m.body, Body::Uplink(u) if u.readings.contains_key("level"));
        (traffic.items.len() == 5 && traffic.items.iter().all(decoded)).then_some(())
    })
    .await;
}

#[tokio::test]
async fn a_database_that_hangs_loses_nothing() {
    let mariadb: &'static MariaDb = Box::leak(Box::new(MariaDb::start()));
    let mut bench = Bench::with(Service::on(mariadb).await, None).await;
    bench.join().await;
    mariadb.freeze(true);
    bench.uplink(&[1], false).await;
    bench.uplink(&[2], false).await;
    let missing = bench.gateway.downlink(Duration::from_millis(300)).await;
    assert!(missing.is_none());
    mariadb.freeze(false);
    until("both uplinks", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        (traffic.items.len() == 2).then_some(())
    })
    .await;
}

#[tokio::test]
async fn a_row_the_database_refuses_stops_nothing_else() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let refuse = r#"ALTER TABLE messages ADD CONSTRAINT refuse CHECK (body NOT LIKE '%"payload":"bad0"%')"#;
    bench.service.query(refuse);
    bench.uplink(&[0xba, 0xd0], true).await;
    bench.uplink(&[0x60, 0x0d], false).await;
    until("the next uplink", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        matches!(&traffic.items.first()?.body, Body::Uplink(u) if u.frame.payload == "600d").then_some(())
    })
    .await;
    let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!(detail.session.unwrap().last_counter_up, Some(1), "both counters are kept");
}

#[tokio::test]
async fn an_operator_can_stop_it_in_good_order() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.uplink(&[1], false).await;
    // An open stream must not hold it up.
    let stream = bench.service.request(reqwest::Method::GET, "/estates/tarnsey/live").send().await.unwrap();
    assert!(bench.service.stop());
    drop(stream);
    bench.service.start_again();
}

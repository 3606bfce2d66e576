//! The network engine's doings through service and client: settings, classes, groups, accounts, reasons.

use std::collections::HashMap;

use api::device::DeviceDetail;
use api::device::group::Group;
use api::device::outbox::{OutboxItem, OutboxState};
use api::diagnosis::device::{DeviceWhy, Weight};
use api::gateway::Gateway;
use api::ledger::Ledger;
use api::message::Body;
use api::radio::settings::Class;
use e2e::service::Service;
use e2e::wait::until;
use gateway_link::udp::{TxAckError, TxTime};
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::Downlink;
use simulator::world::World;

use crate::scenes::{Bench, DEV_EUI, radio, tarnsey};

/// Makes the bench's device one of class C.
async fn always_listening(bench: &mut Bench) {
    bench.join().await;
    let mut radio = radio();
    radio["class"] = json!("C");
    radio["ack_timeout_s"] = json!(1);
    let path = format!("/estates/tarnsey/devices/{DEV_EUI}/radio");
    let detail: DeviceDetail = bench.service.done(Method::PUT, &path, Some(radio)).await;
    assert_eq!(detail.radio.class, Some(Class::C));
    bench.uplink(&[1], false).await;
    until("its session", async || {
        let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
        (detail.session.is_some() && detail.class == Class::C).then_some(())
    })
    .await;
}

#[tokio::test]
async fn class_c_is_sent_to_at_once_and_again_without_an_acknowledgement() {
    let mut bench = Bench::set_up().await;
    always_listening(&mut bench).await;
    let outbox = format!("devices/{DEV_EUI}/outbox");
    let body = json!({ "port": 10, "payload": "c0", "confirmed": true, "max_attempts": 2 });
    let item: OutboxItem = bench.service.post(&outbox, body).await;
    let mut frames = Vec::new();
    for _ in 0..2 {
        let (token, packet) = bench.gateway.downlink(e2e::wait::PATIENCE).await.expect("a downlink without an uplink");
        assert_eq!((packet.when, packet.frequency_hz), (TxTime::AtOnce, 869_525_000));
        bench.gateway.report(token, Ok(())).await;
        frames.push(packet.phy_payload);
    }
    assert_ne!(frames[0], frames[1], "each under its own counter");
    let failed = until("the end of it", async || {
        let page: api::Page<OutboxItem> = bench.service.get(&outbox).await;
        page.items.into_iter().find(|i| i.id == item.id && i.state == OutboxState::Failed)
    })
    .await;
    assert!(failed.note.unwrap().contains("given up after 2 attempts: no acknowledgement within 1 s"));
    let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
    assert!(why.findings.iter().any(|f| f.about == "outbox" && f.weight == Weight::Attention), "{:?}", why.findings);
    assert!(why.timeline.iter().any(|m| matches!(&m.body, Body::Notice(n) if n.code == "session_began")));
}

#[tokio::test]
async fn a_group_sends_one_frame_for_all() {
    let mut bench = Bench::set_up().await;
    let refused = json!({ "name": "gates", "fleet": "bench", "class": "C", "members": [DEV_EUI] });
    let (status, problem) = bench.service.refused(Method::POST, "groups", refused).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("members")));
    assert!(problem.to_string().contains("probe-1 is of class A"), "{problem}");
    always_listening(&mut bench).await;
    bench.service.sign_heron_in();
    let member = DEV_EUI.to_string();
    let group: Group =
        bench.service.heron_json(&["group", "add", "gates", "--fleet", "bench", "--class", "C", "--member", &member]);
    assert_eq!((group.members.len(), group.gateways), (1, vec!["bench".to_owned()]));
    let _: OutboxItem = bench.service.heron_json(&["outbox", "add", "gates", "--port", "9", "--payload", "0102"]);
    let (token, packet) = bench.gateway.downlink(e2e::wait::PATIENCE).await.unwrap();
    bench.gateway.report(token, Ok(())).await;
    let view = lorawan::wire::DataView::new_checked(&packet.phy_payload).unwrap();
    assert_eq!((view.dev_addr(), view.fport(), view.counter_low()), (group.address, Some(9), 0));
    until("the counter in the database", async || {
        let stored = bench.service.query("SELECT next_down FROM multicast_counters");
        (stored.trim() == "1").then_some(())
    })
    .await;
    let said = bench.service.heron_says(&["outbox", "list", "gates"]);
    assert!(said.contains("0102"), "{said}");
    let confirmed = json!({ "port": 1, "payload": "00", "confirmed": true });
    let path = format!("devices/{}/outbox", group.eui);
    assert_eq!(bench.service.refused(Method::POST, &path, confirmed).await.1.field.as_deref(), Some("confirmed"));
    let _ = bench.service.heron_says(&["--yes", "device", "remove", "probe-1"]);
    let left: Group = bench.service.get(&format!("groups/{}", group.eui)).await;
    assert_eq!((left.members.len(), left.gateways.len()), (0, 0), "a device that is removed leaves its groups");
    let said = bench.service.heron_says(&["--yes", "group", "remove", "gates"]);
    assert_eq!(said.trim(), "gates was removed.");
    let none: Vec<Group> = bench.service.list("groups").await;
    assert_eq!(none, []);
}

#[tokio::test]
async fn settings_sessions_and_counters_survive_a_restart() {
    let mut bench = Bench::set_up().await;
    always_listening(&mut bench).await;
    let before: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    bench.service.kill();
    bench.service.start_again();
    let after: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!((after.session, after.agreement, after.radio), (before.session, before.agreement, before.radio));
    bench.gateway.pull().await;
    bench.uplink(&[2], false).await;
    let _: OutboxItem =
        bench.service.post(&format!("devices/{DEV_EUI}/outbox"), json!({"port": 10, "payload": "aa"})).await;
    let (token, packet) = bench.gateway.downlink(e2e::wait::PATIENCE).await.unwrap();
    bench.gateway.report(token, Err(TxAckError::TxFreq)).await;
    let Some(Downlink::Data { payload, .. }) = bench.device.receive(&packet.phy_payload) else { panic!("its own") };
    assert_eq!(payload, [0xaa]);
    let why: DeviceWhy = until("the gateway's inability", async || {
        let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
        let told = why.timeline.iter().any(|m| matches!(&m.body, Body::Notice(n) if n.code == "gateway_cannot"));
        told.then_some(why)
    })
    .await;
    assert!(!why.findings.is_empty());
    // What it refused is told with the gateway, until somebody says that it was put right.
    let gateway = format!("gateways/{}", bench.gateway.eui);
    let shown: Gateway = bench.service.get(&gateway).await;
    let [refused] = &shown.refused_frequencies[..] else { panic!("{shown:?}") };
    assert!((refused.frequency_mhz * 1e6 - f64::from(packet.frequency_hz)).abs() < 1.0);
    assert_eq!(refused.until - refused.since, chrono::TimeDelta::hours(1));
    bench.service.sign_heron_in();
    bench.service.heron_says(&["gateway", "set", &bench.gateway.eui.to_string(), "--forget-refused"]);
    let shown: Gateway = bench.service.get(&gateway).await;
    assert_eq!(shown.refused_frequencies, []);
}

#[tokio::test]
async fn radio_settings_are_checked_and_fleet_limits_kept() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let path = format!("devices/{DEV_EUI}/radio");
    for (body, field, said) in [
        (json!({ "rx_delay_s": 16 }), "radio.rx_delay_s", "1 to 15"),
        (json!({ "rx2_data_rate": 9 }), "radio.rx2_data_rate", "0, 1, 2"),
        (json!({ "mac_version": "1.1" }), "radio.mac_version", "register it again"),
    ] {
        let (status, problem) = bench.service.refused(Method::PUT, &path, body).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some(field)), "{problem}");
        assert!(problem.to_string().contains(said), "{problem}");
    }
    let said = bench.service.heron_says(&["device", "radio", "set", "probe-1", "--class", "c", "--rx-delay-s", "5"]);
    assert!(said.contains("rx_delay_s 5") && said.contains("no session yet"), "{said}");
    let said = bench.service.heron_says(&["device", "radio", "set", "probe-1", "--data-rate", "3"]);
    assert!(said.contains("rx_delay_s 5") && said.contains("\"data_rate\":3"), "what is not given stays: {said}");
    let said =
        bench.service.heron_says(&["fleet", "set", "bench", "--airtime-a-day", "30s", "--downlinks-a-day", "10"]);
    assert!(said.contains("30 s for each device") && said.contains("10 for each device"), "{said}");
    let fleet: Value = bench.service.get("fleets/bench").await;
    assert_eq!((fleet["airtime_a_day_s"].as_f64(), fleet["downlinks_a_day"].as_u64()), (Some(30.0), Some(10)));
    let said = bench.service.heron_says(&["device", "why", "probe-1"]);
    assert!(said.contains("No join-request heard yet") && said.contains("Next:"), "{said}");
}

#[tokio::test]
async fn a_downlink_that_uplinks_pass_by_is_pointed_out() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    bench.join().await;
    // One of them is the join-accept.
    bench.service.heron_says(&["fleet", "set", "bench", "--downlinks-a-day", "2"]);
    let outbox = format!("devices/{DEV_EUI}/outbox");
    for payload in ["01", "02", "03"] {
        let _: OutboxItem = bench.service.post(&outbox, json!({"port": 10, "payload": payload})).await;
    }
    let early = bench.uplink(&[1], false).await;
    let (token, _) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    // One uplink after the other passes; soon that is said.
    let finding = until("the outbox to be pointed out", async || {
        bench.uplink(&[2], false).await;
        let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
        let held = why.findings.into_iter().find(|f| f.about == "outbox" && f.what.contains("fleet's limit"));
        held.filter(|finding| finding.weight == Weight::Attention)
    })
    .await;
    assert!(finding.what.starts_with("2 downlinks wait; the first "), "{finding:?}");
    let said = bench.service.heron_says(&["outbox", "list", "probe-1"]);
    assert!(said.contains("waits for the one before it"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_accounts_add_up_and_trouble_is_explained() {
    let service = Service::first_start().await;
    let mut scenario = tarnsey(&["tide-05", "tide-08", "collar-44"]);
    for device in &mut scenario.devices {
        device.restarts_every = device.restarts_every.map(|_| 4);
    }
    service.register(&scenario).await;
    let _world = World::start(&scenario, service.udp, &HashMap::new()).await.unwrap();
    let ledger: Ledger = until("airtime up and down", async || {
        let ledger: Ledger = service.get("airtime").await;
        let all = ledger.devices.len() == 3 && !ledger.towards.is_empty();
        (all && ledger.gateways.iter().any(|g| !g.day.is_empty())).then_some(ledger)
    })
    .await;
    assert_eq!(ledger.devices[0].name, "collar-44", "the one that talks too much: {:?}", ledger.devices);
    let up: f64 = ledger.sub_bands.iter().map(|band| band.up.hour.airtime_ms).sum();
    let by_device: f64 = ledger.devices.iter().map(|device| device.sent.hour.airtime_ms).sum();
    assert!(up > 0.0 && up >= by_device - 0.001, "bands are asked after devices: {up} {by_device}");
    let down: f64 = ledger.sub_bands.iter().map(|band| band.down.day.airtime_ms).sum();
    assert!((down - ledger.gateways.iter().map(|g| g.sent.day.airtime_ms).sum::<f64>()).abs() < 0.001);
    for sent in ledger.devices.iter().map(|d| d.sent).chain(ledger.gateways.iter().map(|g| g.sent)) {
        assert!(sent.now.airtime_ms <= sent.hour.airtime_ms && sent.hour.airtime_ms <= sent.day.airtime_ms, "{sent:?}");
    }
    for gateway in &ledger.gateways {
        for strip in &gateway.day {
            assert!((strip.quarters_ms.iter().sum::<f64>() - strip.airtime_ms).abs() < 0.001);
        }
    }
    service.sign_heron_in();
    let said = service.heron_says(&["airtime", "show"]);
    assert!(said.contains("collar-44") && said.contains("-24 h ·") && said.contains("EU868 M"), "{said}");
    until("a counter that starts over", async || {
        let why: DeviceWhy = service.get("devices/02b0010000000008/why").await;
        let loud = |n: &api::message::Notice| n.code == "counter_restarted" && n.wants_attention;
        why.timeline.iter().any(|m| matches!(&m.body, Body::Notice(n) if loud(n))).then_some(())
    })
    .await;
    // It may have to ask several times until its join-accept reaches it.
    let session =
        until("a session", async || service.get::<DeviceDetail>("devices/02b0010000000005").await.session).await;
    assert!(session.next_app_counter_down.is_some(), "a session of 1.1");
}

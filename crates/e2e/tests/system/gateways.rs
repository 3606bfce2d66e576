//! Gateways over UDP: strangers, states, reports.

use api::Page;
use api::device::outbox::{OutboxItem, OutboxState};
use api::gateway::channels::LayoutInfo;
use api::gateway::event::GatewayEvent;
use api::gateway::{Gateway, GatewayState, Protocol, Stranger};
use api::message::{Body, Message};
use e2e::gateway::{Gateway as Caller, emission};
use e2e::service::Service;
use e2e::wait::until;
use gateway_link::udp::{Datagram, GatewayStatus, PushData, TxAckError, TxTime};
use lorawan::Modulation;
use lorawan::region::Region;
use reqwest::Method;
use serde_json::{Value, json};

use crate::scenes::{Bench, DEV_EUI, GATEWAY, device, registration};

#[tokio::test]
async fn a_stranger_is_answered_listed_and_not_believed() {
    let service = Service::first_start().await;
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let _: Value = service.post("devices", registration(DEV_EUI, "probe-1", None)).await;
    let mut caller = Caller::towards(service.udp, GATEWAY).await;
    caller.pull().await;
    let request = device(DEV_EUI).join_request();
    caller.push(&request, 1).await;

    let strangers: Vec<Stranger> = service.list("strangers").await;
    assert_eq!((strangers.len(), strangers[0].eui, strangers[0].frames_turned_away), (1, GATEWAY, 1));
    let ingest: api::IngestStats = service.done(reqwest::Method::GET, "/ingest", None).await;
    assert_eq!(ingest.frames, 0);
    assert_eq!((ingest.dropped[0].reason.as_str(), ingest.dropped[0].count), ("stranger_gateway", 1));
    let traffic: Page<Message> = service.get("traffic").await;
    assert_eq!(traffic.items, []);

    // Registered, it is one of ours at once, and the same frame is taken.
    let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "bench" })).await;
    let none: Vec<Stranger> = service.list("strangers").await;
    assert_eq!(none, []);
    caller.pull().await;
    caller.push(&request, 2).await;
    let gateways: Page<Gateway> = service.get("gateways").await;
    assert_eq!((gateways.items[0].state, gateways.items[0].frames), (GatewayState::Listening, 1));
    until("the join", async || {
        let traffic: Page<Message> = service.get("traffic?type=join").await;
        (traffic.items.len() == 1).then_some(())
    })
    .await;
}

/// Its label says 02:A1:F0:00:99:01; it calls itself by one of the two EUIs that are made of that.
#[tokio::test]
async fn a_mac_address_finds_the_gateway_and_its_region() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let (calls, other) = ("02a1f0ffff009901", "02a1f0fffe009901");
    let new = json!({ "eui": "02:A1:F0:00:99:01", "name": "quay" });
    let (status, problem) = service.refused(Method::POST, "gateways", new.clone()).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("eui")));
    assert_eq!(problem.offers, [other, calls]);
    assert!(problem.to_string().contains("neither has called here yet"), "{problem}");

    let mut caller = Caller::towards(service.udp, calls.parse().unwrap()).await;
    caller.pull().await;
    let mut heard = device(DEV_EUI).join_request();
    for (n, mhz) in [(1, 904.3), (2, 904.1)] {
        heard.frequency_hz = (mhz * 1e6) as u32;
        caller.push(&heard, n).await;
    }
    let strangers: Vec<Stranger> = service.list("strangers").await;
    assert_eq!((strangers[0].protocol, &strangers[0].frequencies_mhz[..]), (Protocol::Udp, &[904.1, 904.3][..]));
    let (_, problem) = service.refused(Method::POST, "gateways", new).await;
    assert_eq!(problem.offers, [calls, other], "the one that calls first");
    assert!(problem.to_string().contains(&format!("{calls} calls here")), "{problem}");
    let said = service.heron_says(&["gateway", "strangers"]);
    assert!(said.contains("904.1, 904.3 MHz") && said.contains("US915"), "{said}");

    let refused = service.heron(&["gateway", "adopt", "02a1f0009902", "--name", "quay"]);
    assert!(!refused.status.success());
    assert!(String::from_utf8_lossy(&refused.stderr).contains("no stranger with 02a1f0009902 has called"));
    let adopted: Gateway = service.heron_json(&["gateway", "adopt", "02-a1-f0-00-99-01", "--name", "quay"]);
    assert_eq!((adopted.eui.to_string().as_str(), adopted.region), (calls, Region::Us915));
    let refused = service.heron(&["gateway", "adopt", "--name", "pier"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("no stranger has called"), "it is one no more");
}

#[tokio::test]
async fn a_gateway_is_put_where_its_own_gps_says() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let eui = GATEWAY.to_string();
    let refused = bench.service.heron(&["gateway", "set", &eui, "--place-by-gps"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("has not reported where it stands"));
    let status = GatewayStatus {
        latitude_deg: Some(54.7121),
        longitude_deg: Some(3.8843),
        altitude_m: Some(171.0),
        received: Some(12),
        received_ok: Some(9),
        forwarded: Some(9),
        ..GatewayStatus::default()
    };
    let push = PushData { status: Some(status), ..PushData::default() };
    bench.gateway.send(&Datagram::PushData { token: 7, gateway: GATEWAY, push }.emit()).await;
    until("the report", async || {
        let gateway: Gateway = bench.service.get(&format!("gateways/{eui}")).await;
        gateway.report
    })
    .await;
    let placed: Gateway = bench.service.heron_json(&["gateway", "set", &eui, "--place-by-gps"]);
    assert_eq!(
        (placed.latitude_deg, placed.longitude_deg, placed.altitude_m),
        (Some(54.7121), Some(3.8843), Some(171.0))
    );
    let said = bench.service.heron_says(&["gateway", "show", &eui]);
    assert!(said.contains("12 frames received, 3 with a wrong CRC, 9 forwarded, 0 sent"), "{said}");
}

#[tokio::test]
async fn a_concentrators_layout_is_worked_out_by_service_and_client_alike() {
    let service = Service::first_start().await;
    let path = "/regions/us915/layout?channels=8-15,65";
    let layout: LayoutInfo = service.done(Method::GET, path, None).await;
    assert_eq!(layout.radios_mhz, [904.3, 905.1]);
    let wide = layout.standard.unwrap();
    assert_eq!((wide.frequency_mhz, wide.bandwidth_khz, wide.spreading_factor), (904.6, 500, Some(8)));
    let own: LayoutInfo = service.heron_json(&["gateway", "layout", "us915", "--channels", "8-15, 65"]);
    assert_eq!(own, layout);
    for (channels, said) in [("0-71", "leave 56 out"), ("0,20,40", "910.3 MHz is out of reach"), ("x", "channels")] {
        let refused = service.heron(&["gateway", "layout", "us915", "--channels", channels]);
        let words = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(!refused.status.success() && words.contains(said), "{channels}: {words}");
    }
}

#[tokio::test]
async fn a_gateway_is_changed_in_part_and_its_account_outlives_it() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    bench.join().await;
    let path = format!("gateways/{GATEWAY}");
    let before: Gateway = bench.service.get(&path).await;
    let eui = GATEWAY.to_string();
    let changed: Gateway = bench.service.heron_json(&[
        "gateway",
        "set",
        &eui,
        "--name",
        "quay",
        "--antenna-gain-dbi",
        "8",
        "--latitude-deg",
        "54.7",
        "--beacons",
    ]);
    assert_eq!((changed.name.as_str(), changed.antenna_gain_dbi, changed.beacons), ("quay", 8.0, true));
    assert_eq!((changed.latitude_deg, changed.region), (Some(54.7), before.region));
    assert_eq!((changed.address, changed.frames), (before.address, before.frames), "it goes on calling");
    let changed: Gateway = bench.service.heron_json(&["gateway", "set", &eui, "--beacons=false"]);
    assert_eq!((changed.name.as_str(), changed.beacons), ("quay", false), "what is not given stays");
    // The engine knows of it: more antenna, less power.
    let early = bench.uplink(&[1], true).await;
    let (token, packet) = bench.next_downlink(early).await;
    assert_eq!(packet.power_dbm, 8, "16.15 dBm EIRP less 8 dBi");
    bench.gateway.report(token, Ok(())).await;

    let _: Value = bench.service.post("gateways", json!({ "eui": "02a1f000000000aa", "name": "pier" })).await;
    let (status, problem) = bench.service.refused(Method::PATCH, &path, json!({ "name": "pier" })).await;
    assert_eq!((status, problem.code.as_str()), (409, "exists"), "{problem}");
    let (status, problem) =
        bench.service.refused(Method::PATCH, &path, json!({ "name": "x", "altitude_m": 1e6 })).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("altitude_m")));
    let (status, _) = bench.service.refused(Method::PATCH, "gateways/02a1f000000000bb", json!({ "name": "x" })).await;
    assert_eq!(status, 404);

    // Removed and registered again it has the same account: the law has not forgotten.
    let used = |gateway: &Gateway| gateway.airtime.iter().map(|band| band.frames).sum::<u32>();
    let account: Gateway = bench.service.get(&path).await;
    assert!(used(&account) >= 2, "a join-accept and an acknowledgement: {:?}", account.airtime);
    bench.service.heron_says(&["gateway", "remove", &eui, "--yes"]);
    let _: Value = bench.service.post("gateways", json!({ "eui": eui, "name": "quay" })).await;
    let again: Gateway = bench.service.get(&path).await;
    assert_eq!(again.airtime, account.airtime);
    // But what happened to the one before is not told of this one.
    let events = until("its registration to be told", async || {
        let events: Page<GatewayEvent> = bench.service.get(&format!("{path}/events")).await;
        events.items.iter().any(|event| event.text == "It was registered.").then_some(events.items)
    })
    .await;
    assert!(!events.iter().any(|event| event.text.contains("antenna gain")), "{events:?}");
}

#[tokio::test]
async fn the_gateway_s_reports_decide() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let item: OutboxItem =
        bench.service.post(&format!("devices/{DEV_EUI}/outbox"), json!({ "port": 10, "payload": "c0 ff ee" })).await;
    let early = bench.uplink(&[1], false).await;
    let (token, first) = bench.next_downlink(early).await;
    assert_eq!(first.when, TxTime::Clock(bench.clock_us.wrapping_add(5_000_000)));
    assert_eq!(first.frequency_hz, bench.frequency_hz, "the first window is on the uplink's frequency");
    assert!(first.inverted_polarity && first.no_crc);
    bench.gateway.report(token, Err(TxAckError::CollisionPacket)).await;
    let (token, second) = bench.next_downlink(Vec::new()).await;
    assert_eq!(second.when, TxTime::Clock(bench.clock_us.wrapping_add(6_000_000)), "then the second window");
    assert_eq!((second.frequency_hz, second.modulation), (869_525_000, Modulation::lora(12, 125).unwrap()));
    assert_eq!(second.phy_payload, first.phy_payload);
    bench.gateway.report(token, Ok(())).await;
    until("the sent item", async || {
        let outbox: Page<OutboxItem> = bench.service.get(&format!("devices/{DEV_EUI}/outbox")).await;
        (outbox.items[0].id == item.id && outbox.items[0].state == OutboxState::Sent).then_some(())
    })
    .await;
    let traffic: Page<Message> = bench.service.get("traffic?type=downlink").await;
    let Body::Downlink(sent) = &traffic.items[0].body else { panic!("{traffic:?}") };
    assert_eq!(sent.sent.as_ref().unwrap().window, "RX2");
    assert_eq!(sent.frame.as_ref().unwrap().payload, "c0ffee");
}

#[tokio::test]
async fn a_cancelled_downlink_stays_home() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let outbox = format!("devices/{DEV_EUI}/outbox");
    let first: OutboxItem = bench.service.post(&outbox, json!({ "port": 10, "payload": "01" })).await;
    let second: OutboxItem = bench.service.post(&outbox, json!({ "port": 10, "payload": "02" })).await;
    let path = format!("/estates/{}/{outbox}/{}", e2e::service::ESTATE, first.id);
    let gone: OutboxItem = bench.service.done(reqwest::Method::DELETE, &path, None).await;
    assert_eq!(gone.state, OutboxState::Cancelled);
    let early = bench.uplink(&[1], false).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    let Some(simulator::device::Downlink::Data { payload, .. }) = bench.device.receive(&packet.phy_payload) else {
        panic!("a data frame")
    };
    assert_eq!(payload, [2]);
    until("the sent item", async || {
        let items: Page<OutboxItem> = bench.service.get(&outbox).await;
        let state = |id: &str| items.items.iter().find(|i| i.id == id).map(|i| i.state);
        let done = (Some(OutboxState::Cancelled), Some(OutboxState::Sent));
        ((state(&first.id), state(&second.id)) == done).then_some(())
    })
    .await;
    let again = bench.service.refused(reqwest::Method::DELETE, &format!("{outbox}/{}", second.id), Value::Null).await;
    assert_eq!((again.0, again.1.code.as_str()), (409, "not_waiting"));
}

#[tokio::test]
async fn an_unreachable_gateway_gives_the_downlink_back() {
    let service = Service::first_start().await;
    let mut bench = Bench::with(service, None).await;
    bench.join().await;
    // Heard by a gateway that never opened its way down.
    let other = lorawan::Eui64(0x02a1_f000_0000_0098);
    let _: Value = bench.service.post("gateways", json!({ "eui": other, "name": "mute" })).await;
    let mut mute = Caller::towards(bench.service.udp, other).await;
    let outbox = format!("devices/{DEV_EUI}/outbox");
    let _: OutboxItem = bench.service.post(&outbox, json!({ "port": 10, "payload": "01" })).await;
    let frame = bench.device.uplink(2, &[1], false).unwrap();
    mute.push(&emission(frame.phy_payload), 77).await;
    let item = until("the item to come back", async || {
        let items: Page<OutboxItem> = bench.service.get(&outbox).await;
        let back = |i: &OutboxItem| i.note.as_deref().is_some_and(|note| note.contains("cannot be reached"));
        items.items.into_iter().find(back)
    })
    .await;
    assert_eq!((item.state, item.attempts), (OutboxState::Waiting, 0), "nobody can have heard it, so it is no attempt");
}

#[tokio::test]
async fn any_datagram_is_survived() {
    let bench = Bench::set_up().await;
    let valid = |json: &str| [&[2, 0, 0, 0][..], &GATEWAY.to_bytes(), json.as_bytes()].concat();
    for bytes in [
        vec![],
        vec![2],
        vec![1, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0],
        vec![2, 0, 0, 0x77],
        vec![2, 0, 0, 2, 1, 2, 3],
        valid("{\"rxpk\":[{\"tmst\":"),
        valid("{\"rxpk\":{}}"),
        valid(
            "{\"rxpk\":[{\"tmst\":1,\"freq\":868.1,\"modu\":\"LORA\",\"datr\":\"SF7BW125\",\"rssi\":-1,\"data\":\"####\"}]}",
        ),
        valid(&"[".repeat(10_000)),
        valid(&" ".repeat(20_000)),
        Datagram::PullAck { token: 5 }.emit(),
        Datagram::TxAck { token: 999, gateway: GATEWAY, result: Ok(()) }.emit(),
    ] {
        bench.gateway.send(&bytes).await;
    }
    for _ in 0..200 {
        let len = rand::random_range(0..200);
        let mut noise: Vec<u8> = (0..len).map(|_| rand::random()).collect();
        if noise.len() > 3 && rand::random_bool(0.7) {
            (noise[0], noise[3]) = (2, rand::random_range(0..6));
        }
        bench.gateway.send(&noise).await;
    }
    let ingest = until("all kinds to be counted", async || {
        let ingest: api::IngestStats = bench.service.done(reqwest::Method::GET, "/ingest", None).await;
        let has = |reason: &str| ingest.dropped.iter().any(|d| d.reason == reason);
        let kinds = [
            "too_short",
            "too_long",
            "other_protocol_version",
            "unknown_identifier",
            "unreadable_json",
            "unreadable_entry",
            "wrong_direction",
            "unasked_transmit_report",
        ];
        kinds.into_iter().all(has).then_some(ingest)
    })
    .await;
    assert!(ingest.dropped.iter().all(|d| !d.last.is_empty() && d.last_from.starts_with("127.0.0.1:")));
    let mut bench = bench;
    bench.gateway.pull().await;
    bench.join().await;
}

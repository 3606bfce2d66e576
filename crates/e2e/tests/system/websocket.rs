//! Gateways over WebSocket and CUPS: from a connection kit to listening, and every way not to get there.

use domain::gateway::credential;
use std::path::PathBuf;
use std::time::Duration;

use agent::kit::{Entrance, Kit};
use api::Page;
use api::device::DeviceDetail;
use api::gateway::credential::{CredentialState, Endings, GatewayCredential, Purpose};
use api::gateway::event::{GatewayEvent, GatewayEventKind};
use api::gateway::{Gateway, GatewayState, Protocol, Stranger};
use api::message::Message;
use api::radio::settings::Class;
use chrono::Utc;
use e2e::service::Service;
use e2e::wait::{PATIENCE, until};
use gateway_link::cups::Question;
use gateway_link::lns::{Downlink, FromGateway, Heard, Moment, RadioInfo, Sent, ToGateway, Version};
use lorawan::class_b::{Beacon, beacon_time_s};
use lorawan::region::Region;
use lorawan::{Eui64, Modulation, gps_time};
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::{Build, Device, Downlink as Received, Emission, Identity, Listens};
use simulator::lns::{self, Connection, LinkError};

use crate::scenes::{APP_KEY, DEV_EUI, GATEWAY, JOIN_EUI, device, registration};

/// A service with a gateway that is to call by WebSocket, and `heron` signed in.
async fn service() -> Service {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let eui = GATEWAY.to_string();
    service.heron_says(&["gateway", "add", &eui, "--name", "mast", "--region", "EU868", "--protocol", "websocket"]);
    service
}

/// A kit for it, made by `heron`.
fn kit(service: &Service, options: &[&str]) -> Kit {
    let folder = tempfile::tempdir().unwrap();
    let path: PathBuf = folder.path().join("kit.zip");
    let eui = GATEWAY.to_string();
    let said = service.heron_says(&[&["gateway", "kit", &eui, "--output", path.to_str().unwrap()], options].concat());
    assert!(said.contains("connection kit of mast"), "{said}");
    Kit::from_zip(&std::fs::read(path).unwrap()).unwrap()
}

fn traffic_entrance(service: &Service, options: &[&str]) -> Entrance {
    kit(service, options).entrance("tc").unwrap().unwrap()
}

fn heard(emission: &Emission, xtime: i64) -> FromGateway {
    heard_with_gps(emission, xtime, 0)
}

fn heard_with_gps(emission: &Emission, xtime: i64, gpstime: i64) -> FromGateway {
    let radio = RadioInfo { rctx: 3, xtime, gpstime, rssi: -80.0, snr: 9.0, rxtime: None, fts: None };
    let Emission { frequency_hz, ref phy_payload, .. } = *emission;
    FromGateway::Heard(Heard { data_rate: 5, frequency_hz, radio, phy_payload: phy_payload.clone() })
}

async fn order(connection: &mut Connection) -> Downlink {
    loop {
        let message = tokio::time::timeout(PATIENCE, connection.next()).await.expect("an order");
        if let ToGateway::Send(order) = message.unwrap() {
            return order;
        }
    }
}

async fn gateway(service: &Service) -> Gateway {
    service.get(&format!("gateways/{GATEWAY}")).await
}

/// What was told of the gateway of a kind, the latest first.
async fn told(service: &Service, kind: GatewayEventKind) -> Vec<String> {
    let page: Page<GatewayEvent> = service.get(&format!("gateways/{GATEWAY}/events")).await;
    page.items.into_iter().filter(|event| event.kind == kind).map(|event| event.text).collect()
}

/// Waits until something was told of it.
async fn telling(service: &Service, kind: GatewayEventKind, what: &str) -> String {
    until(what, async || told(service, kind).await.into_iter().find(|text| text.contains(what))).await
}

async fn refusal(entrance: &Entrance) -> String {
    match Connection::open(entrance, GATEWAY).await {
        Err(LinkError::Refused(why)) => why,
        Err(other) => panic!("{other}"),
        Ok(_) => panic!("it was let in"),
    }
}

#[tokio::test]
async fn from_kit_to_listening_and_answered() {
    let service = service().await;
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let _: Value = service.post("devices", registration(DEV_EUI, "probe-1", None)).await;
    assert_eq!(gateway(&service).await.state, GatewayState::NeverHeard);

    let mut connection = Connection::open(&traffic_entrance(&service, &[]), GATEWAY).await.unwrap();
    assert_eq!((connection.config.region.as_str(), connection.config.listens_on_hz().len()), ("EU863", 8));
    until("listening", async || (gateway(&service).await.state == GatewayState::Listening).then_some(())).await;

    let mut device = device(DEV_EUI);
    // Above the low 32 bits stands the session, and the clock is about to wrap.
    let xtime = (0x2a << 48) | 0xffff_fff0;
    connection.send(&heard(&device.join_request(), xtime)).await.unwrap();
    let accept = order(&mut connection).await;
    let channel = match accept.moment {
        Moment::AfterUplink { xtime: after, rx_delay_s: 5, rx1: Some((5, hz)), rx2: None } if after == xtime => hz,
        other => panic!("{other:?}"),
    };
    assert_eq!((accept.rctx, connection.config.listens_on_hz().contains(&channel)), (3, true));
    assert!(matches!(device.receive(&accept.phy_payload), Some(Received::Joined(_))));
    connection.send(&FromGateway::Sent(Sent { diid: accept.diid, xtime: 0, gpstime: 0 })).await.unwrap();

    let uplink = device.uplink(2, &[1, 2, 3], true).unwrap();
    let xtime = xtime + 10_000_000;
    connection.send(&heard(&uplink, xtime)).await.unwrap();
    let answer = order(&mut connection).await;
    assert!(matches!(answer.moment, Moment::AfterUplink { xtime: after, .. } if after == xtime), "{answer:?}");
    assert!(matches!(device.receive(&answer.phy_payload), Some(Received::Data { ack: true, .. })));

    // Time is told to who asks for it.
    connection.send(&FromGateway::TimeAsked { txtime: 77 }).await.unwrap();
    let told_time = loop {
        if let ToGateway::Time(time) = connection.next().await.unwrap() {
            break time;
        }
    };
    let off_us = lorawan::gps_time::to_unix_us(told_time.gpstime) - Utc::now().timestamp_micros();
    assert_eq!((told_time.txtime, off_us.abs() < 60_000_000), (Some(77), true));

    let shown = service.heron_says(&["gateway", "show", &GATEWAY.to_string()]);
    assert!(shown.contains("WebSocket") && shown.contains("on stand-in"), "{shown}");
    let events = service.heron_says(&["gateway", "events", &GATEWAY.to_string()]);
    assert!(events.contains("It is connected by WebSocket") && events.contains("It was registered."), "{events}");
    drop(connection);
    telling(&service, GatewayEventKind::Disconnected, "Its connection has ended").await;
}

#[tokio::test]
async fn a_downlink_is_sent_in_a_ping_slot() {
    let service = service().await;
    service.heron_says(&["gateway", "set", &GATEWAY.to_string(), "--beacons"]);
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let mut device_of_b = registration(DEV_EUI, "probe-1", None);
    device_of_b["radio"]["class"] = json!("B");
    device_of_b["radio"]["ping_period_s"] = json!(4);
    let _: Value = service.post("devices", device_of_b).await;
    let mut connection = Connection::open(&traffic_entrance(&service, &[]), GATEWAY).await.unwrap();
    let beacons = connection.config.bcning.clone().expect("it is told which beacons to send");
    assert_eq!((beacons.data_rate, beacons.layout, beacons.freqs), (3, [2, 8, 17], vec![869_525_000]));

    let build = Build { listens: Listens::InPingSlots(0), ..Build::plain(Region::Eu868, 5) };
    let mut device = Device::new(Identity::joining(DEV_EUI, JOIN_EUI, APP_KEY), build, 1);
    connection.send(&heard(&device.join_request(), 1_000_000)).await.unwrap();
    device.receive(&order(&mut connection).await.phy_payload).expect("it has joined");
    let now = || gps_time::from_unix_us(Utc::now().timestamp_micros());
    let beacon_s = beacon_time_s((now() / 1_000_000) as u32);
    let beacon = Beacon { param: 0, time_s: beacon_s, gateway: None }.emit(9).unwrap();
    let sf9 = Modulation::lora(9, 125).unwrap();
    assert!(device.hear_beacon(&beacon, sf9, gps_time::to_unix_us(i64::from(beacon_s) * 1_000_000)));
    let asks = device.uplink(2, &[1], false).unwrap();
    connection.send(&heard_with_gps(&asks, 20_000_000, now())).await.unwrap();
    device.receive(&order(&mut connection).await.phy_payload).expect("its ping slots are understood");
    let listens = device.uplink(2, &[2], false).unwrap();
    connection.send(&heard_with_gps(&listens, 30_000_000, now())).await.unwrap();

    until("class B", async || {
        (service.get::<DeviceDetail>(&format!("devices/{DEV_EUI}")).await.class == Class::B).then_some(())
    })
    .await;
    // What waits goes out after an uplink, if one comes first.
    until("both uplinks", async || {
        let uplinks: Page<Message> = service.get("traffic?type=uplink").await;
        (uplinks.items.len() == 2).then_some(())
    })
    .await;

    service.heron_says(&["outbox", "add", "probe-1", "--port", "10", "--payload", "28"]);
    let order = order(&mut connection).await;
    let Moment::AtGps { gpstime, data_rate, frequency_hz } = order.moment else { panic!("{order:?}") };
    let modulation = connection.config.modulation(data_rate).unwrap();
    assert!(device.listens(gps_time::to_unix_us(gpstime), frequency_hz, modulation), "{order:?}");
    let received = device.receive(&order.phy_payload);
    assert!(
        matches!(&received, Some(Received::Data { port: Some(10), payload, .. }) if *payload == [0x28]),
        "{received:?}"
    );
}

#[tokio::test]
async fn each_refusal_says_what_is_wrong() {
    let mut service = service().await;
    let good = traffic_entrance(&service, &[]);

    let wrong = Entrance { proof: agent::kit::Proof::Header("Bearer 0123".into()), ..good.clone() };
    let not_let_in = refusal(&wrong).await;
    assert!(not_let_in.starts_with("It is not let in."), "{not_let_in}");
    telling(&service, GatewayEventKind::Refused, "is none of this service's").await;

    let other = Eui64(GATEWAY.0 + 1);
    for entrance in [&good, &wrong] {
        let refused = Connection::open(entrance, other).await.map(|_| ()).unwrap_err().to_string();
        assert_eq!(refused, format!("the service says no: {not_let_in}"), "as if it were registered");
    }
    let strangers: Vec<Stranger> = service.list("strangers").await;
    assert_eq!((strangers[0].eui, strangers[0].protocol), (other, Protocol::Websocket));
    assert_eq!(strangers[0].told.as_deref(), Some("This gateway is not registered."));
    service.heron_says(&["gateway", "adopt", &other.to_string(), "--name", "other"]);
    let adopted: Gateway = service.get(&format!("gateways/{other}")).await;
    assert_eq!(adopted.protocol, Protocol::Websocket, "as it called");
    let refused = Connection::open(&good, other).await.map(|_| ()).unwrap_err().to_string();
    assert!(refused.contains(&format!("Its token belongs to {GATEWAY}, and it says to be {other}.")), "{refused}");

    let updates = kit(&service, &["--updates"]).entrance("cups").unwrap().unwrap();
    assert_eq!(
        refusal(&Entrance { uri: good.uri.clone(), ..updates }).await,
        "Its token is for updates, not for traffic."
    );

    let version = Version { protocol: 7, ..lns::version() };
    let refused = Connection::open_as(&good, GATEWAY, version).await.map(|_| ()).unwrap_err().to_string();
    assert!(refused.contains("speaks version 7 of the protocol; here version 2 is spoken"), "{refused}");

    let certificate = traffic_entrance(&service, &["--certificate"]);
    assert!(Connection::open(&certificate, GATEWAY).await.is_ok());
    service.kill();
    service.query("UPDATE gateway_credentials SET expires_at = '2026-01-02 03:04:05' WHERE kind = 'certificate'");
    service.query("UPDATE gateway_credentials SET expires_at = NOW() + INTERVAL 10 DAY WHERE purpose = 'updates'");
    service.start_again();
    service.sign_heron_in();
    assert_eq!(refusal(&certificate).await, "Its certificate has expired on 2026-01-02 03:04 UTC.");
    let said = telling(&service, GatewayEventKind::Refused, "has expired").await;
    assert!(said.starts_with("Its certificate"), "{said}");
    let page: Page<GatewayEvent> = service.get(&format!("gateways/{GATEWAY}/events")).await;
    let event = page.items.iter().find(|event| event.text == said).unwrap();
    assert!(event.next.as_ref().unwrap().contains("new connection kit") && event.address.is_some());

    // It is pointed out among what ends.
    let endings: Endings = service.get("endings").await;
    assert!(endings.server_renews_itself && endings.server_expires_at > Utc::now());
    let ends: Vec<_> = endings.credentials.iter().map(|e| (e.credential.purpose, e.renews_itself)).collect();
    assert_eq!(ends, [(Purpose::Updates, true)], "for traffic it has a token that lasts");
    let endings = service.heron_says(&["gateway", "credential", "list", "--ending"]);
    assert!(endings.contains("mast") && endings.contains("it fetches another by itself"), "{endings}");
}

#[tokio::test]
async fn a_revoked_credential_cuts_off_at_once() {
    let service = service().await;
    let entrance = traffic_entrance(&service, &[]);
    let mut connection = Connection::open(&entrance, GATEWAY).await.unwrap();
    let all: Vec<GatewayCredential> = service.list(&format!("gateways/{GATEWAY}/credentials")).await;
    assert_eq!(
        (all.len(), credential::state(&all[0], Utc::now()), all[0].last_used.is_some()),
        (1, CredentialState::Good, true)
    );
    service.heron_says(&["gateway", "credential", "remove", &GATEWAY.to_string(), &all[0].id, "--yes"]);
    let ended = tokio::time::timeout(PATIENCE, async { while connection.next().await.is_ok() {} }).await;
    assert!(ended.is_ok(), "the connection is ended");
    assert!(refusal(&entrance).await.starts_with("Its token was revoked on"));
    // No secret is in the database.
    let Some(header) = entrance.header() else { panic!() };
    assert!(!service.dump().contains(header.trim_start_matches("Bearer ")));
    let gone = service.refused(Method::DELETE, &format!("gateways/{GATEWAY}/credentials/none"), Value::Null).await;
    assert_eq!(gone.0, 404);
}

/// Who has been let in and has not said a word yet is no gateway that could be cut off.
#[tokio::test]
async fn what_is_revoked_before_the_first_word_cuts_off_after_it() {
    let service = service().await;
    let entrance = traffic_entrance(&service, &[]);
    let silent = Connection::upgrade(&entrance, GATEWAY).await.unwrap();
    let all: Vec<GatewayCredential> = service.list(&format!("gateways/{GATEWAY}/credentials")).await;
    service.heron_says(&["gateway", "credential", "remove", &GATEWAY.to_string(), &all[0].id, "--yes"]);
    if let Ok(mut connection) = silent.introduce(lns::version()).await {
        let ended = tokio::time::timeout(PATIENCE, async { while connection.next().await.is_ok() {} }).await;
        assert!(ended.is_ok());
    }
    telling(&service, GatewayEventKind::Refused, "Its token was revoked on").await;
    assert!(refusal(&entrance).await.starts_with("Its token was revoked on"));
}

#[tokio::test]
async fn over_cups_a_gateway_fetches_the_rest_and_moves_on() {
    for certificate in [false, true] {
        let service = service().await;
        let options: &[&str] = if certificate { &["--updates", "--certificate"] } else { &["--updates"] };
        let kit = kit(&service, options);
        assert!(kit.entrance("tc").unwrap().is_none(), "it has to fetch that");
        let cups = kit.entrance("cups").unwrap().unwrap();

        let update = lns::ask(&cups, &lns::question(GATEWAY, &cups, None)).await.unwrap();
        assert_eq!((update.cups_uri.is_none(), update.cups.is_none()), (true, true), "those it has already");
        let tc = Entrance::fetched(update.tc_uri.unwrap(), &update.tc.unwrap()).unwrap();
        let connection = Connection::open(&tc, GATEWAY).await.unwrap();
        telling(&service, GatewayEventKind::Changed, "fetched what is new").await;
        let again = lns::ask(&cups, &lns::question(GATEWAY, &cups, Some(&tc))).await.unwrap();
        assert!(again.is_empty(), "nothing new: {again:?}");

        // Moved to new credentials without a visit.
        service.heron_says(&["gateway", "credential", "replace", &GATEWAY.to_string()]);
        let moved = lns::ask(&cups, &lns::question(GATEWAY, &cups, Some(&tc))).await.unwrap();
        let new_cups = Entrance::fetched(cups.uri.clone(), &moved.cups.unwrap()).unwrap();
        let new_tc = Entrance::fetched(tc.uri.clone(), &moved.tc.unwrap()).unwrap();
        drop(connection);
        assert!(lns::ask(&new_cups, &lns::question(GATEWAY, &new_cups, Some(&new_tc))).await.unwrap().is_empty());
        let refused = lns::ask(&cups, &lns::question(GATEWAY, &cups, Some(&tc))).await.unwrap_err().to_string();
        assert!(refused.contains("was revoked"), "the old ones end with the first use of the new: {refused}");
        assert!(Connection::open(&new_tc, GATEWAY).await.is_ok());
        let all: Vec<GatewayCredential> = service.list(&format!("gateways/{GATEWAY}/credentials")).await;
        let in_force = all.iter().filter(|c| c.purpose == Purpose::Updates && c.revoked_at.is_none()).count();
        assert_eq!(in_force, 1);
    }
    let service = service().await;
    let (status, problem) =
        service.refused(Method::POST, &format!("gateways/{GATEWAY}/credentials/replace"), Value::Null).await;
    assert_eq!((status, problem.code.as_str()), (409, "no_updates"));
}

#[tokio::test]
async fn a_signed_firmware_is_handed_to_who_accepts_its_key() {
    use p256::ecdsa::signature::hazmat::PrehashSigner as _;
    use p256::pkcs8::EncodePublicKey as _;
    use sha2::Digest as _;
    let service = service().await;
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let firmware: Vec<u8> = (0..300_000u32).map(|n| n as u8).collect();
    let key = p256::ecdsa::SigningKey::from_slice(&[9; 32]).unwrap();
    let signature: p256::ecdsa::Signature = key.sign_prehash(&sha2::Sha512::digest(&firmware)).unwrap();
    std::fs::write(path("image"), &firmware).unwrap();
    std::fs::write(path("image.sig"), signature.to_der()).unwrap();
    std::fs::write(path("other.sig"), key.sign_prehash(&[1; 64]).map(|s: p256::ecdsa::Signature| s.to_der()).unwrap())
        .unwrap();
    std::fs::write(path("key.pem"), key.verifying_key().to_public_key_pem(Default::default()).unwrap()).unwrap();

    let add = |signature: &str| {
        let (signature, key) = (path(signature), path("key.pem"));
        service.heron(&[
            "gateway",
            "firmware",
            "add",
            &path("image"),
            "--signature",
            &signature,
            "--key",
            &key,
            "--json",
        ])
    };
    let refused = add("other.sig");
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(said.contains("it is not by this key"), "{said}");
    let kept: api::gateway::firmware::Firmware = serde_json::from_slice(&add("image.sig").stdout).unwrap();
    assert_eq!((kept.name.as_str(), kept.size_bytes), ("image", 300_000));

    let eui = GATEWAY.to_string();
    let refused = service.heron(&["gateway", "firmware", "offer", &eui, &kept.id]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("no valid credential for updates"));
    let cups = kit(&service, &["--updates"]).entrance("cups").unwrap().unwrap();
    service.heron_says(&["gateway", "firmware", "offer", &eui, &kept.id]);
    let asked = lns::question(GATEWAY, &cups, None);
    let update = lns::ask(&cups, &asked).await.unwrap();
    assert_eq!(update.firmware, None, "it accepts no key");
    telling(&service, GatewayEventKind::Odd, "and accepts no key").await;
    let asked = Question { keys: vec![1, kept.key_crc], ..asked };
    let handed = lns::ask(&cups, &asked).await.unwrap().firmware.unwrap();
    assert_eq!((handed.key_crc, handed.bytes == firmware), (kept.key_crc, true));
    assert_eq!(handed.signature, signature.to_der().as_bytes());
    assert_eq!(lns::ask(&cups, &asked).await.unwrap().firmware, None, "once");
    telling(&service, GatewayEventKind::Changed, "a firmware").await;
    service.heron_says(&["gateway", "firmware", "remove", &kept.id, "--yes"]);
    assert!(service.heron_says(&["gateway", "firmware", "list"]).contains("No firmware is kept"));
}

#[tokio::test]
async fn nonsense_is_counted_and_what_is_too_long_ends_the_connection() {
    let service = service().await;
    let entrance = traffic_entrance(&service, &[]);
    let mut connection = Connection::open(&entrance, GATEWAY).await.unwrap();
    for text in [
        "{",
        r#"{"msgtype":"updf","MHdr":"x"}"#,
        r#"{"msgtype":"dntxed","diid":424242}"#,
        r#"{"msgtype":"propdf","FRMPayload":"E0","DR":15,"Freq":868100000,"upinfo":{"xtime":1,"rssi":-1}}"#,
    ] {
        connection.send_text(text.into()).await.unwrap();
    }
    until("all to be counted", async || {
        let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
        let count = |reason: &str| ingest.dropped.iter().find(|d| d.reason == reason).map_or(0, |d| d.count);
        ((count("unreadable_entry"), count("unasked_transmit_report")) == (3, 1)).then_some(())
    })
    .await;
    connection.send(&FromGateway::TimeAsked { txtime: 1 }).await.unwrap();
    assert!(matches!(connection.next().await, Ok(ToGateway::Time(_))), "it lives on");
    let long = format!(r#"{{"msgtype":"propdf","FRMPayload":"{}"}}"#, "00".repeat(20_000));
    let _ = connection.send_text(long).await;
    let ended = tokio::time::timeout(PATIENCE, async { while connection.next().await.is_ok() {} }).await;
    assert!(ended.is_ok(), "a message of 40 kB is not taken");

    // A second one of the same EUI takes the place of the first.
    let mut first = Connection::open(&entrance, GATEWAY).await.unwrap();
    let mut second = Connection::open(&entrance, GATEWAY).await.unwrap();
    let ended = tokio::time::timeout(PATIENCE, async { while first.next().await.is_ok() {} }).await;
    assert!(ended.is_ok());
    second.send(&FromGateway::TimeAsked { txtime: 2 }).await.unwrap();
    assert!(matches!(second.next().await, Ok(ToGateway::Time(_))));
    // Again and again: that is not one gateway whose network comes and goes.
    let mut held = vec![second];
    for _ in 0..2 {
        held.push(Connection::open(&entrance, GATEWAY).await.unwrap());
    }
    telling(&service, GatewayEventKind::Odd, "two gateways use this EUI").await;
}

#[tokio::test]
async fn who_says_nothing_is_not_waited_for() {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let service = service().await;
    let mut silent = tokio::net::TcpStream::connect(service.tls).await.unwrap();
    let read = tokio::time::timeout(Duration::from_secs(25), silent.read(&mut [0; 16])).await;
    assert_eq!(read.expect("it is ended in time").unwrap_or(0), 0);
    // Nor for who gets through the handshake, and then writes half a request.
    let entrance = traffic_entrance(&service, &[]);
    let stream = tokio::net::TcpStream::connect(service.tls).await.unwrap();
    let name = rustls::pki_types::ServerName::try_from("localhost").unwrap();
    let mut slow = tokio_rustls::TlsConnector::from(entrance.tls().unwrap()).connect(name, stream).await.unwrap();
    slow.write_all(b"GET /router-info HTTP/1.1\r\nHost: loc").await.unwrap();
    let read = tokio::time::timeout(Duration::from_secs(25), slow.read(&mut [0; 1024])).await;
    assert!(read.is_ok(), "it is ended in time");
    let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
    let tls = ingest.dropped.iter().find(|d| d.reason == "tls").expect("it is counted");
    assert!(tls.last.contains("no handshake within 10 s"), "{}", tls.last);
}

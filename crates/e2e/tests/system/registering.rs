//! Registering gateways: many at once, and who may speak for one.

use std::io::Write as _;
use std::net::SocketAddr;
use std::process::Stdio;
use std::time::Duration;

use api::Page;
use api::gateway::event::GatewayEvent;
use api::gateway::import::{Fate, ImportOutcome};
use api::gateway::{Gateway, Protocol, Stranger};
use api::message::Message;
use e2e::browser::Browser;
use e2e::gateway::Gateway as Caller;
use e2e::service::Service;
use e2e::wait::until;
use gateway_link::udp::{Datagram, TxAckError};
use lorawan::region::Region;
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, GATEWAY};

const FILE: &str = "\
Name;EUI;Region;Channels;Latitude deg;Protocol;Description
quay;02-a1-f0-00-00-00-00-01;EU868;;54,7;udp;key at the harbour office
pier;02a1f00000000002;us915;8-15, 65;;websocket;
mole;02a1f00000000003;EU868;0-9;;;
quay;02a1f00000000004;;;;;
lamp;02:a1:f0:00:99:01;;;;;
";

fn fates(outcome: &ImportOutcome) -> Vec<(u64, Fate)> {
    outcome.rows.iter().map(|row| (row.line, row.fate)).collect()
}

async fn names(service: &Service) -> Vec<String> {
    let page: Page<Gateway> = service.get("gateways").await;
    page.items.into_iter().map(|gateway| gateway.name).collect()
}

#[tokio::test]
async fn each_row_of_a_file_has_a_fate_before_anything_is_written() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let _: Value = service.post("gateways", json!({ "eui": "02a1f00000000008", "name": "taken" })).await;
    let preview: ImportOutcome = service.post("gateways/import", json!({ "csv": FILE, "preview": true })).await;
    let (bad, ready) = (Fate::Bad, Fate::Ready);
    assert_eq!(fates(&preview), [(2, ready), (3, ready), (4, bad), (5, bad), (6, bad)]);
    let why: Vec<String> =
        preview.rows.iter().filter_map(|row| row.problem.as_ref().map(ToString::to_string)).collect();
    assert!(why[0].contains("channels") && why[0].contains("EU868 has no channel 8"), "{}", why[0]);
    assert!(why[1].contains("name") && why[1].contains("a line before"), "{}", why[1]);
    assert!(why[2].contains("12 hex digits are a MAC address"), "{}", why[2]);
    assert_eq!(preview.rows[4].problem.as_ref().unwrap().offers.len(), 2);
    assert_eq!(names(&service).await, ["taken"], "nothing is written by looking");

    let held: ImportOutcome = service.post("gateways/import", json!({ "csv": FILE })).await;
    assert_eq!((held.registered, held.bad, held.rows[0].fate), (0, 3, Fate::Held), "all or none");
    assert_eq!(names(&service).await, ["taken"]);

    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("gateways.csv");
    std::fs::write(&path, FILE).unwrap();
    let file = path.to_str().unwrap();
    let refused = service.heron(&["gateway", "import", file]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(said.contains("nothing was registered: 3 of 5 rows cannot be; --skip-bad leaves them out"), "{said}");
    let said = service.heron_says(&["gateway", "import", file, "--skip-bad"]);
    assert!(said.contains("2 gateways were registered."), "{said}");
    assert_eq!(names(&service).await, ["pier", "quay", "taken"]);
    let pier: Gateway = service.get("gateways/02a1f00000000002").await;
    assert_eq!((pier.region, pier.protocol, pier.channels.as_str()), (Region::Us915, Protocol::Websocket, "8-15, 65"));
    let quay: Gateway = service.get("gateways/02a1f00000000001").await;
    assert_eq!((quay.latitude_deg, quay.description.as_str()), (Some(54.7), "key at the harbour office"));

    // A second time, from standard input: they are there already.
    let mut heron = service
        .heron_command(&["gateway", "import", "-", "--dry-run"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    heron.stdin.take().unwrap().write_all(FILE.as_bytes()).unwrap();
    let out = heron.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert_eq!(said.matches("it is registered already").count(), 2, "{said}");
    let (status, problem) =
        service.refused(Method::POST, "gateways/import", json!({ "csv": "eui,colour\n1,grey" })).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("csv")));
}

#[tokio::test]
async fn what_a_gateway_is_told_apart_by_is_checked() {
    let service = Service::first_start().await;
    for (field, value, said) in [
        ("udp_source", json!("harbour"), "192.0.2.0/24"),
        ("channels", json!("0-12"), "has no channel"),
        ("cable_loss_db", json!(-1), "0 to 30 are allowed"),
        ("description", json!("x".repeat(501)), "500 characters"),
    ] {
        let (status, problem) =
            service.refused(Method::POST, "gateways", json!({ "eui": GATEWAY, "name": "x", field: value })).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some(field)), "{problem}");
        assert!(problem.to_string().contains(said), "{problem}");
    }
    // Cable and antenna together decide the power.
    let new = json!({ "eui": GATEWAY, "name": "mast", "antenna_gain_dbi": 6, "cable_loss_db": 2.5 });
    let gateway: Gateway = service.post("gateways", new).await;
    assert_eq!((gateway.antenna_gain_dbi, gateway.cable_loss_db), (6.0, 2.5));
}

async fn told(service: &Service) -> Vec<String> {
    let page: Page<GatewayEvent> = service.get(&format!("gateways/{GATEWAY}/events")).await;
    page.items.into_iter().map(|event| event.text).collect()
}

#[tokio::test]
async fn a_pretender_elsewhere_is_neither_answered_nor_believed() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let path = format!("gateways/{GATEWAY}");
    let _: Gateway = bench
        .service
        .done(
            Method::PATCH,
            &format!("/estates/{}/{path}", e2e::service::ESTATE),
            Some(json!({ "name": "bench", "udp_source": "192.0.2.7" })),
        )
        .await;
    // From loopback, which is not where it may call from now.
    let pretender = Caller::towards(bench.service.udp, GATEWAY).await;
    pretender.send(&Datagram::PullData { token: 5, gateway: GATEWAY }.emit()).await;
    assert_eq!(pretender.receive(Duration::from_millis(300)).await, None, "it is not answered");
    let said = until("the refusal", async || {
        told(&bench.service).await.into_iter().find(|text| text.contains("Datagrams with its EUI come from"))
    })
    .await;
    assert_eq!(said, "Datagrams with its EUI come from 127.0.0.1, and are only taken from 192.0.2.7.");
    let changed = told(&bench.service).await;
    assert!(changed.iter().any(|text| text == "Changed: datagrams taken from anywhere → 192.0.2.7."), "{changed:?}");
}

#[tokio::test]
async fn a_transmit_report_from_elsewhere_is_not_believed() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let path = format!("/estates/{}/gateways/{GATEWAY}", e2e::service::ESTATE);
    let pinned = json!({ "udp_source": "127.0.0.1" });
    let _: Gateway = bench.service.done(Method::PATCH, &path, Some(pinned)).await;
    bench.gateway.pull().await;
    let early = bench.uplink(&[1], true).await;
    let (token, _) = bench.next_downlink(early).await;
    let dropped = async |reason: &str| {
        let ingest: api::IngestStats = bench.service.done(Method::GET, "/ingest", None).await;
        ingest.dropped.into_iter().find(|dropped| dropped.reason == reason).map(|dropped| dropped.last)
    };
    // The whole of 127.0.0.0/8 is this machine.
    let pretender = std::net::UdpSocket::bind("127.0.0.9:0").unwrap();
    let late = Datagram::TxAck { token, gateway: GATEWAY, result: Err(TxAckError::TooLate) };
    pretender.send_to(&late.emit(), bench.service.udp).unwrap();
    let last = until("it to be turned away", async || dropped("turned_away").await).await;
    assert_eq!(last, format!("a transmit report of {GATEWAY}"));
    bench.gateway.report(token, Ok(())).await;
    // Datagrams are taken one after another: once this one is acknowledged, the report has been taken.
    let uplink = bench.device.uplink(2, &[2], false).unwrap();
    bench.gateway.push(&uplink, 99).await;
    assert_eq!(dropped("unasked_transmit_report").await, None, "it was still awaited");
}

#[tokio::test]
async fn a_new_port_is_followed_and_a_datagram_twice_counts_once() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    // NAT has bound it to another port: downlinks go there from its next PULL_DATA on.
    let old = std::mem::replace(&mut bench.gateway, Caller::towards(bench.service.udp, GATEWAY).await);
    bench.gateway.pull().await;
    let early = bench.uplink(&[1], true).await;
    let (token, _) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    assert_eq!(old.downlink(Duration::from_millis(200)).await, None);
    let said = told(&bench.service).await;
    assert!(said.iter().any(|text| text.contains("before, from 127.0.0.1:")), "{said:?}");

    let uplink = bench.device.uplink(2, &[2], false).unwrap();
    for _ in 0..3 {
        bench.gateway.push(&uplink, 77).await;
    }
    let last = bench.device.uplink(2, &[3], false).unwrap();
    bench.gateway.push(&last, 88).await;
    let uplinks = until("all uplinks", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        (traffic.items.len() >= 3).then_some(traffic.items.len())
    })
    .await;
    assert_eq!(uplinks, 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kit_is_made_and_a_file_is_imported_in_the_console() {
    let service = Service::first_start().await;
    let new =
        json!({ "eui": GATEWAY, "name": "mast", "protocol": "websocket", "latitude_deg": 54.7, "longitude_deg": 3.9 });
    let _: Gateway = service.post("gateways", new).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.text_when(".map", |text| text.contains("mast · never heard")).await;
    browser.click(By::XPath("//button[text()='Import']")).await;
    browser.fill("[data-import] textarea", "eui,name\n02a1f00000000002,pier\n02a1f000000000,short\n").await.unwrap();
    browser.click(By::XPath("//button[text()='Preview']")).await;
    browser.text_when("[data-row='2']", |text| text.contains("will be registered")).await;
    browser.text_when("[data-row='3']", |text| text.contains("an EUI has 16 hex digits")).await;
    browser.click(By::Css("input[name=skip_bad]")).await;
    browser.click(By::XPath("//button[text()='Register 1']")).await;
    browser.text_when("tr[data-gateway=pier]", |text| text.contains("never heard")).await;

    browser.click(By::LinkText("mast")).await;
    let empty = browser.text_when("main", |text| text.contains("Never heard")).await;
    assert!(empty.contains("With a clock in 1970"), "what is to be looked at is that of its protocol");
    browser.tab("connection").await;
    browser.text_when("[data-access]", |text| text.contains("No credential yet")).await;
    browser.click(By::XPath("//button[text()='Create connection kit']")).await;
    browser.text_when("[data-access]", |text| text.contains("in your downloads") && text.contains("traffic")).await;
    browser.click(By::XPath("//button[text()='Revoke']")).await;
    browser.click(By::Css("[data-sure] button")).await;
    browser.text_when("[data-access]", |text| text.contains("revoked")).await;
    browser.window.refresh().await.unwrap();
    browser.text_when("[data-events]", |text| text.contains("A token for traffic was revoked.")).await;
    browser.close().await.unwrap();
}

#[tokio::test]
async fn a_flood_of_unknown_gateways_is_bounded() {
    let service = Service::first_start().await;
    let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    let to: SocketAddr = service.udp;
    for n in 0..1100u64 {
        let gateway = lorawan::Eui64(0x02c7_e000_0000_0000 + n);
        socket.send_to(&Datagram::PullData { token: n as u16, gateway }.emit(), to).await.unwrap();
        // Strangers are answered, and what is answered has been noted.
        let answered = tokio::time::timeout(e2e::wait::PATIENCE, socket.recv(&mut [0; 16])).await;
        assert!(answered.is_ok(), "call {n} is answered");
    }
    let first: api::Page<Stranger> = service.get("strangers?limit=500").await;
    let after = first.next.expect("a second page");
    let second: api::Page<Stranger> = service.get(&format!("strangers?limit=500&after={after}")).await;
    let strangers = [first.items, second.items].concat();
    assert_eq!((strangers.len(), second.next), (1000, None));
    let first = strangers.iter().any(|stranger| stranger.eui.0 == 0x02c7_e000_0000_0000);
    assert!(!first, "those unheard for longest gave way");
}

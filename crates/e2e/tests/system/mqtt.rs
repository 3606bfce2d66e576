//! Gateways behind an MQTT broker, carried there by the agent.

use std::io::{BufRead as _, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Stdio};

use api::Page;
use api::gateway::credential::GatewayCredential;
use api::gateway::event::GatewayEvent;
use api::gateway::{Gateway, GatewayState};
use api::message::Message;
use e2e::broker::Broker;
use e2e::gateway::Gateway as Caller;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::Downlink;

use crate::scenes::{DEV_EUI, GATEWAY, device, registration};

/// `heron agent` with a kit made by `heron`.
struct Agent {
    process: Child,
    listens: SocketAddr,
    /// What it says, line by line.
    said: std::sync::mpsc::Receiver<String>,
    _folder: tempfile::TempDir,
}

impl Agent {
    fn start(service: &Service) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let kit = folder.path().join("kit.zip");
        let kit = kit.to_str().unwrap();
        service.heron_says(&["gateway", "kit", &GATEWAY.to_string(), "-o", kit]);
        let mut process = service
            .heron_command(&["agent", "--kit", kit, "--listen", "127.0.0.1:0"])
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (sender, said) = std::sync::mpsc::channel();
        let lines = BufReader::new(process.stderr.take().unwrap()).lines();
        std::thread::spawn(move || lines.map_while(Result::ok).try_for_each(|line| sender.send(line)));
        let first = said.recv().unwrap();
        let listens = first.split_once(" from ").and_then(|(_, rest)| rest.split(' ').next()?.parse().ok());
        Self { process, listens: listens.expect("where it listens"), said, _folder: folder }
    }

    /// Waits until it says something.
    fn says(&self, what: &str) -> String {
        loop {
            let line = self.said.recv_timeout(e2e::wait::PATIENCE).expect("the agent says it");
            if line.contains(what) {
                return line;
            }
        }
    }
}

impl Drop for Agent {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

async fn set_up() -> (Service, Broker) {
    let (service, broker) = Service::behind_broker().await;
    service.sign_heron_in();
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let _: Value = service.post("devices", registration(DEV_EUI, "probe-1", None)).await;
    let eui = GATEWAY.to_string();
    service.heron_says(&["gateway", "add", &eui, "--name", "mast", "--protocol", "mqtt"]);
    (service, broker)
}

async fn gateway(service: &Service) -> Gateway {
    service.get(&format!("gateways/{GATEWAY}")).await
}

async fn uplinks(service: &Service) -> usize {
    let traffic: Page<Message> = service.get("traffic?type=uplink").await;
    traffic.items.len()
}

#[tokio::test]
async fn a_udp_gateway_is_carried_and_frames_wait_while_the_broker_is_away() {
    let (service, mut broker) = set_up().await;
    let agent = Agent::start(&service);
    agent.says("The broker is there");
    let mut caller = Caller::towards(agent.listens, GATEWAY).await;
    caller.pull().await;

    until("the service to know of the way", async || {
        gateway(&service).await.software.filter(|software| software.program.starts_with("heron agent"))
    })
    .await;
    let mut device = device(DEV_EUI);
    let early = caller.push(&device.join_request(), 1).await;
    let (token, packet) = match early.into_iter().next() {
        Some(first) => first,
        None => caller.downlink(e2e::wait::PATIENCE).await.expect("a join-accept"),
    };
    caller.report(token, Ok(())).await;
    assert!(matches!(device.receive(&packet.phy_payload), Some(Downlink::Joined(_))));
    until("the delay to be measured", async || gateway(&service).await.delay).await;
    assert_eq!(gateway(&service).await.state, GatewayState::Listening);

    broker.kill();
    agent.says("The broker is gone");
    for n in 0..5 {
        let uplink = device.uplink(2, &[n], false).unwrap();
        caller.push(&uplink, 10_000_000 * (u32::from(n) + 2)).await;
    }
    assert_eq!(uplinks(&service).await, 0);
    broker.go_on().await;
    agent.says("The broker is there");
    until("what was kept", async || (uplinks(&service).await == 5).then_some(())).await;
    let events: Page<GatewayEvent> = service.get(&format!("gateways/{GATEWAY}/events")).await;
    let texts: Vec<_> = events.items.iter().map(|event| event.text.as_str()).collect();
    assert!(texts.contains(&"The MQTT broker between it and the service is gone."), "{texts:?}");

    // The agent ends, and its last will says so.
    drop(agent);
    until("its last will", async || {
        let events: Page<GatewayEvent> = service.get(&format!("gateways/{GATEWAY}/events")).await;
        events.items.iter().any(|event| event.text == "The broker says that it is gone.").then_some(())
    })
    .await;
}

#[tokio::test]
async fn a_revoked_certificate_is_not_believed_even_if_the_broker_does() {
    let (service, _broker) = set_up().await;
    let agent = Agent::start(&service);
    agent.says("The broker is there");
    let mut caller = Caller::towards(agent.listens, GATEWAY).await;
    caller.pull().await;
    let path = format!("gateways/{GATEWAY}/credentials");
    let own: Vec<GatewayCredential> = service.list(&path).await;
    service.heron_says(&["gateway", "credential", "remove", &GATEWAY.to_string(), &own[0].id, "--yes"]);
    caller.push(&device(DEV_EUI).join_request(), 1).await;
    let ingest = until("it to be turned away", async || {
        let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
        ingest.dropped.iter().any(|d| d.reason == "turned_away").then_some(ingest)
    })
    .await;
    assert_eq!(ingest.frames, 0);
    let said = service.heron_says(&["gateway", "events", &GATEWAY.to_string()]);
    assert!(said.contains("each of its certificates was revoked or has expired"), "{said}");
}

#[tokio::test]
async fn without_a_broker_there_is_no_kit_for_mqtt() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let eui = GATEWAY.to_string();
    service.heron_says(&["gateway", "add", &eui, "--name", "mast", "--protocol", "mqtt"]);
    let refused = service.heron(&["gateway", "kit", &eui]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("started without --mqtt"), "{said}");
}

#[tokio::test]
async fn a_message_that_is_too_long_is_dropped_and_counted_and_others_go_on() {
    let (service, mut broker) = set_up().await;
    let door = broker.open_wide().await;
    let agent = Agent::start(&service);
    agent.says("The broker is there");
    let mut caller = Caller::towards(agent.listens, GATEWAY).await;
    caller.pull().await;
    until("the way", async || (gateway(&service).await.state == GatewayState::Listening).then_some(())).await;
    let message = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(message.path(), vec![b'x'; 40_000]).unwrap();
    let published = std::process::Command::new("mosquitto_pub")
        .args([
            "-h",
            "127.0.0.1",
            "-p",
            &door.to_string(),
            "-q",
            "1",
            "-t",
            &format!("{}/up", gateway(&service).await.mqtt_topic.unwrap()),
            "-f",
        ])
        .arg(message.path())
        .output()
        .unwrap();
    assert!(published.status.success(), "{}", String::from_utf8_lossy(&published.stderr));
    until("it to be counted", async || {
        let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
        ingest.dropped.iter().any(|d| d.reason == "unreadable_json" && d.last.contains("40000 bytes")).then_some(())
    })
    .await;
    let early = caller.push(&device(DEV_EUI).join_request(), 1).await;
    assert!(!early.is_empty() || caller.downlink(e2e::wait::PATIENCE).await.is_some(), "the others go on");
    let (_, health) = service.call(Method::GET, "/health", None).await;
    assert!(
        health["parts"].as_array().unwrap().iter().any(|p| p["part"] == "broker" && p["state"] == "ok"),
        "{health}"
    );
}

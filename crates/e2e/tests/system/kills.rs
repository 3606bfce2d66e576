//! Under load, and killed again and again at moments nobody has chosen.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use api::Page;
use api::device::DeviceDetail;
use api::device::outbox::{OutboxItem, OutboxState};
use e2e::gateway::Gateway;
use e2e::mariadb::MariaDb;
use e2e::service::Service;
use e2e::wait::until;
use gateway_link::udp::{Datagram, TxPacket};
use lorawan::Eui64;
use lorawan::wire::{DataView, Frame};
use serde_json::{Value, json};
use simulator::device::Device;

use crate::scenes::{APP_KEY, GATEWAY, JOIN_EUI, device};

const DEVICES: u64 = 6;
const KILLS: usize = 20;

/// Devices of class C under load, and all that a gateway was given to send.
struct Load {
    service: Service,
    gateway: Gateway,
    devices: Vec<(Eui64, Device)>,
    clock_us: u32,
    /// The frame behind each address and counter.
    sent: BTreeMap<(u32, u16), Vec<u8>>,
    /// Downlinks that the service has acknowledged to have.
    items: Vec<(Eui64, String)>,
}

impl Load {
    async fn on(service: Service) -> Self {
        let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "bench" })).await;
        let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
        let mut gateway = Gateway::towards(service.udp, GATEWAY).await;
        gateway.pull().await;
        let mut load = Self { service, gateway, devices: vec![], clock_us: 0, sent: BTreeMap::new(), items: vec![] };
        for n in 0..DEVICES {
            let eui = Eui64(0x02b0_0900_0000_0100 + n);
            let radio = json!({ "class": "C", "rates": { "by": "device" }, "status_interval_s": 0,
                // Fast, so that one gateway has airtime for all of it.
                "rx2_data_rate": 5 });
            let new = json!({ "dev_eui": eui, "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(),
                "name": format!("probe-{n}"), "fleet": "bench", "radio": radio });
            let _: Value = load.service.post("devices", new).await;
            load.devices.push((eui, device(eui)));
        }
        while load.devices.iter().any(|(_, device)| !device.joined()) {
            for n in 0..load.devices.len() {
                if !load.devices[n].1.joined() {
                    let request = load.devices[n].1.join_request();
                    load.clock_us = load.clock_us.wrapping_add(1_000_000);
                    load.gateway.throw(&request, load.clock_us).await;
                    load.take(Duration::from_secs(1)).await;
                }
            }
        }
        load
    }

    /// Every device sends, and a downlink is added for each.
    async fn round(&mut self, n: u8) {
        for i in 0..self.devices.len() {
            let (eui, device) = &mut self.devices[i];
            let emission = device.uplink(2, &[n], n.is_multiple_of(3)).unwrap();
            self.clock_us = self.clock_us.wrapping_add(100_000);
            let path = format!("/estates/tarnsey/devices/{eui}/outbox");
            let eui = *eui;
            let early = self.gateway.push(&emission, self.clock_us).await;
            for (token, packet) in early {
                self.taken(token, &packet).await;
            }
            let (status, body) = self
                .service
                .call(reqwest::Method::POST, &path, Some(json!({ "port": 9, "payload": hex::encode([n]) })))
                .await;
            if status.is_success() {
                self.items.push((eui, body["id"].as_str().unwrap().to_owned()));
            }
        }
    }

    /// Takes what the service wants sent, and reports on it, for a while.
    async fn take(&mut self, during: Duration) {
        let end = Instant::now() + during;
        while let Some(left) = end.checked_duration_since(Instant::now()) {
            let Some(datagram) = self.gateway.receive(left).await else { return };
            if let Datagram::PullResp { token, packet } = datagram {
                self.taken(token, &packet).await;
            }
        }
    }

    async fn taken(&mut self, token: u16, packet: &TxPacket) {
        if let Ok(Frame::Data(view)) = Frame::parse(&packet.phy_payload) {
            self.note(&view, &packet.phy_payload);
        }
        for (_, device) in &mut self.devices {
            device.receive(&packet.phy_payload);
        }
        self.gateway.report(token, Ok(())).await;
    }

    fn note(&mut self, view: &DataView<'_>, bytes: &[u8]) {
        let key = (view.dev_addr().0, view.counter_low());
        let before = self.sent.entry(key).or_insert_with(|| bytes.to_vec());
        assert_eq!(before, bytes, "counter {} of {:08x} was used for two frames", key.1, key.0);
    }
}

#[tokio::test]
async fn twenty_kills_under_load_lose_nothing_and_reuse_no_counter() {
    let mut load = Load::on(Service::first_start().await).await;
    for kill in 0..KILLS {
        load.round(kill as u8).await;
        // Any moment: while frames are collected, written, sent or reported.
        load.take(Duration::from_millis(rand::random_range(0..600))).await;
        load.service.kill();
        load.service.start_again();
        load.gateway.pull().await;
    }
    let acknowledged = load.items.len();
    assert_eq!(acknowledged, KILLS * DEVICES as usize);
    // What is left over goes out, now that nobody kills any more.
    let end = Instant::now() + e2e::wait::PATIENCE;
    let (mut open, mut left) = (acknowledged, String::new());
    while open > 0 {
        assert!(Instant::now() < end, "{open} of {acknowledged} items have not come to an end: {left}");
        load.take(Duration::from_secs(2)).await;
        let count = load.service.query("SELECT COUNT(*) FROM outbox");
        assert_eq!(count.trim(), acknowledged.to_string(), "none is lost");
        left = load.service.query("SELECT state, note, attempts FROM outbox WHERE state <> 'sent'");
        open = left.lines().count();
    }
    // Each uplink was acknowledged to its gateway, most of them while their copies were still being collected.
    let uplinks = load.service.query("SELECT COUNT(*) FROM messages WHERE kind = 'uplink'");
    assert_eq!(uplinks.trim(), (KILLS * DEVICES as usize).to_string(), "each is there, and once");
    let refused = load.service.query("SELECT body FROM messages WHERE kind = 'refused'");
    assert_eq!(refused.trim(), "", "none was taken for a replay");
    println!(
        "{KILLS} kills: {} uplinks and {acknowledged} downlinks acknowledged, all done; {} frames sent, none twice",
        uplinks.trim(),
        load.sent.len()
    );
    for (eui, _) in &load.devices {
        let detail: DeviceDetail = load.service.get(&format!("devices/{eui}")).await;
        let session = detail.session.expect("the session is the one it joined with");
        assert!(session.last_counter_up.is_some_and(|up| up < KILLS as u32), "{session:?}");
        let page: Page<OutboxItem> = load.service.get(&format!("devices/{eui}/outbox")).await;
        assert!(page.items.iter().all(|i| i.state != OutboxState::Failed), "{:?}", page.items);
    }
}

#[tokio::test]
async fn a_database_away_for_a_minute_delays_and_loses_nothing() {
    let mariadb: &'static MariaDb = Box::leak(Box::new(MariaDb::start()));
    let mut load = Load::on(Service::on(mariadb).await).await;
    load.take(Duration::from_secs(1)).await;
    let heard = |service: &Service| {
        let count = service.query("SELECT COUNT(*) FROM messages WHERE kind = 'uplink'");
        count.trim().parse::<usize>().expect("a number")
    };
    let before = heard(&load.service);
    mariadb.freeze(true);
    let (start, mut sent) = (Instant::now(), 0);
    while start.elapsed() < Duration::from_secs(60) {
        for i in 0..load.devices.len() {
            let emission = load.devices[i].1.uplink(2, &[sent as u8], false).unwrap();
            load.clock_us = load.clock_us.wrapping_add(100_000);
            load.gateway.throw(&emission, load.clock_us).await;
            sent += 1;
        }
        load.take(Duration::from_secs(2)).await;
    }
    mariadb.freeze(false);
    until("every uplink of that minute", async || (heard(&load.service) == before + sent).then_some(())).await;
    let ingest: api::IngestStats = load.service.done(reqwest::Method::GET, "/ingest", None).await;
    assert!(ingest.dropped.iter().all(|d| d.reason != "overload"), "{:?}", ingest.dropped);
}

//! What several tests begin with.

use std::path::Path;
use std::time::Duration;

use api::gateway::Protocol;
use e2e::gateway::Gateway;
use e2e::service::Service;
use gateway_link::udp::TxTime;
use lorawan::region::Region;
use lorawan::{AesKey, Eui64};
use serde_json::{Value, json};
use simulator::device::{Build, Device, Downlink, Identity};
use simulator::scenario::Scenario;

pub(crate) const GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_0099);
pub(crate) const JOIN_EUI: Eui64 = Eui64(0x02aa_0000_0000_0009);
pub(crate) const DEV_EUI: Eui64 = Eui64(0x02b0_0900_0000_0001);
pub(crate) const APP_KEY: AesKey = AesKey(*b"\x7d\x14\xb2\x09\xe6\x5a\x81\x3c\xf0\x27\x9b\x4e\xd8\x63\x1a\xc5");

/// The demo's scenario with only these devices, sending every second or so, and gateways that need no kit. While a gateway
/// acknowledges in RX2 it hears nothing, which takes some seconds.
pub(crate) fn tarnsey(devices: &[&str]) -> Scenario {
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tarnsey"));
    let mut scenario = Scenario::load(folder).unwrap();
    scenario.gateways.retain(|g| g.protocol == Protocol::Udp);
    scenario.devices.retain(|d| devices.contains(&d.name.as_str()));
    for device in &mut scenario.devices {
        device.interval_s = if device.confirmed { 5.0 } else { 1.0 };
    }
    scenario
}

/// A service with a gateway, a fleet and one registered device.
pub(crate) struct Bench {
    pub service: Service,
    pub gateway: Gateway,
    pub device: Device,
    pub clock_us: u32,
    /// Of the last uplink.
    pub frequency_hz: u32,
}

impl Bench {
    pub(crate) async fn set_up() -> Self {
        Self::with(Service::first_start().await, None).await
    }

    /// The same with a decoder for the device.
    pub(crate) async fn with_decoder(decoder: &str) -> Self {
        Self::with(Service::first_start().await, Some(decoder)).await
    }

    pub(crate) async fn with(service: Service, decoder: Option<&str>) -> Self {
        let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "bench" })).await;
        let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
        if let Some(decoder) = decoder {
            let model = json!({ "maker": "Benchwright", "name": "Probe", "decoder": decoder, "readings": { "level": { "unit": "m" } } });
            let path = format!("/estates/{}/models/probe", e2e::service::ESTATE);
            let _: Value = service.done(reqwest::Method::PUT, &path, Some(model)).await;
        }
        let model = decoder.map(|_| "probe");
        let _: Value = service.post("devices", registration(DEV_EUI, "probe-1", model)).await;
        let mut gateway = Gateway::towards(service.udp, GATEWAY).await;
        gateway.pull().await;
        Self { service, gateway, device: device(DEV_EUI), clock_us: 4_294_000_000, frequency_hz: 0 }
    }

    /// Joins the device.
    pub(crate) async fn join(&mut self) {
        let request = self.device.join_request();
        let early = self.gateway.push(&request, self.clock_us).await;
        let (token, packet) = self.next_downlink(early).await;
        assert_eq!(packet.when, TxTime::Clock(self.clock_us.wrapping_add(5_000_000)));
        self.gateway.report(token, Ok(())).await;
        assert!(matches!(self.device.receive(&packet.phy_payload), Some(Downlink::Joined(_))));
    }

    /// Sends an uplink.
    pub(crate) async fn uplink(&mut self, payload: &[u8], confirmed: bool) -> Vec<(u16, gateway_link::udp::TxPacket)> {
        // A frame is longer than this on air: no device sends two in one millisecond, of which the history keeps one.
        tokio::time::sleep(Duration::from_millis(2)).await;
        self.clock_us = self.clock_us.wrapping_add(10_000_000);
        let emission = self.device.uplink(2, payload, confirmed).unwrap();
        self.frequency_hz = emission.frequency_hz;
        self.gateway.push(&emission, self.clock_us).await
    }

    /// The next frame to send, one that came early included.
    pub(crate) async fn next_downlink(
        &self,
        early: Vec<(u16, gateway_link::udp::TxPacket)>,
    ) -> (u16, gateway_link::udp::TxPacket) {
        match early.into_iter().next() {
            Some(first) => first,
            None => self.gateway.downlink(e2e::wait::PATIENCE).await.expect("a downlink"),
        }
    }
}

/// The network asks nothing by itself, so that a test sees only what it has caused; and a busy machine must not
/// decide whether a downlink is in time.
pub(crate) fn radio() -> Value {
    json!({ "rates": { "by": "device" }, "status_interval_s": 0, "rx_delay_s": 5 })
}

pub(crate) fn registration(dev_eui: Eui64, name: &str, model: Option<&str>) -> Value {
    let app_key = APP_KEY.to_hex();
    json!({ "dev_eui": dev_eui, "join_eui": JOIN_EUI, "app_key": app_key, "name": name, "fleet": "bench", "model": model,
        "radio": radio() })
}

pub(crate) fn device(dev_eui: Eui64) -> Device {
    Device::new(Identity::joining(dev_eui, JOIN_EUI, APP_KEY), Build::plain(Region::Eu868, 5), rand::random())
}

//! Data that the database refuses, or that cannot be read back.

use api::device::DeviceDetail;
use e2e::service::{ESTATE, Service};
use e2e::wait::until;
use lorawan::Eui64;
use reqwest::Method;
use serde_json::{Value, json};

use super::{concerns, health, stored, until_stored};
use crate::scenes::{Bench, DEV_EUI, GATEWAY, device, registration};

const OTHER: Eui64 = Eui64(0x02b0_0900_0000_0002);

/// A second device on the bench, joined.
async fn with_another(bench: &mut Bench) -> simulator::device::Device {
    let _: Value = bench.service.post("devices", registration(OTHER, "probe-2", None)).await;
    let first = std::mem::replace(&mut bench.device, device(OTHER));
    bench.clock_us = bench.clock_us.wrapping_add(20_000_000);
    bench.join().await;
    std::mem::replace(&mut bench.device, first)
}

#[tokio::test]
async fn a_device_whose_state_is_refused_is_quarantined_and_everybody_else_goes_on() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let mut other = with_another(&mut bench).await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    // The database takes no more counters of the first device.
    let hex = hex::encode(DEV_EUI.to_bytes());
    bench.service.query(&format!("ALTER TABLE counters ADD CONSTRAINT bad CHECK (dev_eui <> x'{hex}' OR up = 0)"));
    bench.uplink(&[1], false).await;
    let told = until("the quarantine", async || {
        let told = concerns(&bench.service).await;
        told.contains("Quarantined").then_some(told)
    })
    .await;
    assert!(told.contains("probe-1 Quarantined") && told.contains("bad"), "{told}");
    // Its frames are refused and kept; those of the other device are stored and answered.
    bench.uplink(&[2], true).await;
    std::mem::swap(&mut bench.device, &mut other);
    let early = bench.uplink(&[7], true).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    assert!(bench.device.receive(&packet.phy_payload).is_some(), "the answer is for the other one");
    until_stored(&bench.service, OTHER, [0]).await;
    std::mem::swap(&mut bench.device, &mut other);
    let (status, parts) = health(&bench.service).await;
    assert_eq!((status, parts.status), (200, api::health::PartState::Degraded), "{parts:?}");
    let refused = until("a refusal with its reason", async || {
        let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
        detail.device.refusal.filter(|refusal| refusal.code == "device_quarantined")
    })
    .await;
    assert!(refused.why.contains("quarantined"), "{refused:?}");
    let kept = bench.service.data().join("journal/quarantine").join(format!("{DEV_EUI}.heard"));
    assert!(std::fs::metadata(&kept).is_ok_and(|file| file.len() > 50), "{}", kept.display());
    // Mended, it is tried again with what was kept: the uplink whose state was refused, and the one after it.
    bench.service.query("ALTER TABLE counters DROP CONSTRAINT bad");
    assert!(bench.service.stop());
    bench.service.start_again();
    until_stored(&bench.service, DEV_EUI, [0, 1, 2]).await;
    bench.gateway.pull().await;
    bench.uplink(&[3], false).await;
    until_stored(&bench.service, DEV_EUI, 0..4).await;
    assert!(!concerns(&bench.service).await.contains("Quarantined"));
}

#[tokio::test]
async fn every_region_joins_is_stored_and_answered() {
    let service = Service::first_start().await;
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    for (n, region) in lorawan::region::Region::ALL.into_iter().enumerate() {
        let (gateway, dev_eui) = (Eui64(GATEWAY.0 + 1 + n as u64), Eui64(DEV_EUI.0 + 0x100 + n as u64));
        let about = json!({ "eui": gateway, "name": format!("mast-{n}"), "region": region });
        let _: Value = service.post("gateways", about).await;
        let mut about = registration(dev_eui, &format!("probe-{n}"), None);
        about["region"] = json!(region);
        let _: Value = service.post("devices", about).await;
        let gateway = e2e::gateway::Gateway::towards(service.udp, gateway).await;
        let build = simulator::device::Build::plain(region, 5);
        let identity = simulator::device::Identity::joining(dev_eui, crate::scenes::JOIN_EUI, crate::scenes::APP_KEY);
        let device = simulator::device::Device::new(identity, build, n as u64);
        let mut bench = Scene { gateway, device, clock_us: 1_000_000 };
        bench.gateway.pull().await;
        bench.join_and_send(region.name()).await;
        until_stored(&service, dev_eui, [0]).await;
    }
    let (status, parts) = health(&service).await;
    assert_eq!((status, parts.status), (200, api::health::PartState::Ok), "{parts:?}");
}

struct Scene {
    gateway: e2e::gateway::Gateway,
    device: simulator::device::Device,
    clock_us: u32,
}

impl Scene {
    async fn join_and_send(&mut self, region: &str) {
        let request = self.device.join_request();
        let early = self.gateway.push(&request, self.clock_us).await;
        let next = match early.into_iter().next() {
            Some(first) => Some(first),
            None => self.gateway.downlink(e2e::wait::PATIENCE).await,
        };
        let (token, packet) = next.unwrap_or_else(|| panic!("{region}: no join-accept"));
        self.gateway.report(token, Ok(())).await;
        assert!(self.device.receive(&packet.phy_payload).is_some(), "{region}");
        let uplink = self.device.uplink(2, &[1], true).unwrap();
        self.clock_us += 20_000_000;
        let early = self.gateway.push(&uplink, self.clock_us).await;
        if early.is_empty() {
            assert!(self.gateway.downlink(e2e::wait::PATIENCE).await.is_some(), "{region}: not acknowledged");
        }
    }
}

#[tokio::test]
async fn a_damaged_row_keeps_only_its_device_from_being_served() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let mut other = with_another(&mut bench).await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    assert!(bench.service.stop());
    let hex = hex::encode(DEV_EUI.to_bytes());
    bench.service.query(&format!("UPDATE sessions SET keys_sealed = x'00' WHERE dev_eui = x'{hex}'"));
    bench.service.start_again();
    let told = concerns(&bench.service).await;
    assert!(told.contains(&DEV_EUI.to_string()) && told.contains("probe-1 Quarantined"), "{told}");
    bench.gateway.pull().await;
    std::mem::swap(&mut bench.device, &mut other);
    bench.uplink(&[5], false).await;
    until_stored(&bench.service, OTHER, [0]).await;
    // A join of the damaged one is refused for what it is.
    std::mem::swap(&mut bench.device, &mut other);
    let request = bench.device.join_request();
    bench.gateway.push(&request, 77_000_000).await;
    until("a refusal with its reason", async || {
        let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
        detail.device.refusal.filter(|refusal| refusal.code == "device_quarantined")
    })
    .await;
    assert_eq!(stored(&bench.service, DEV_EUI), [0]);
}

#[tokio::test]
async fn a_master_key_is_never_made_for_a_database_that_has_secrets() {
    let mut bench = Bench::set_up().await;
    assert!(bench.service.stop());
    let (key, kept) = (bench.service.data().join("master.key"), bench.service.data().join("kept"));
    std::fs::rename(&key, &kept).unwrap();
    let data = bench.service.data().display().to_string();
    let serve =
        ["serve", "--http", "127.0.0.1:0", "--udp", "127.0.0.1:0", "--gateways", "127.0.0.1:0", "--data", &data];
    let why = bench.service.herond_refuses(&serve);
    assert!(why.contains("is missing") && why.contains("a new key would open none"), "{why}");
    assert!(!key.exists());
    std::fs::write(&key, [9; 32]).unwrap();
    let why = bench.service.herond_refuses(&serve);
    assert!(why.contains("is not the one"), "{why}");
    std::fs::rename(&kept, &key).unwrap();
    bench.service.start_again();
    let keys: Value = bench.service.done(Method::GET, &format!("/estates/{ESTATE}/devices/{DEV_EUI}/keys"), None).await;
    assert!(keys.to_string().contains(&crate::scenes::APP_KEY.to_hex()), "{keys}");
}

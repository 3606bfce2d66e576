//! Whole devices in the open air, on a virtual clock: stand-ins with the device side of the MAC, gateways
//! that hear as well as the distance lets them, and the engine between them. A week takes seconds.

use std::collections::BTreeMap;
use std::sync::Arc;

use engine::*;
use lorawan::region::Region;
use lorawan::{AesKey, Eui64, Modulation};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use simulator::device::{Build, Device, Downlink, Emission, Identity};

use crate::world::item;

pub(crate) const SECOND: i64 = 1_000_000;
pub(crate) const MINUTE: i64 = 60 * SECOND;
pub(crate) const HOUR: i64 = 60 * MINUTE;
pub(crate) const JOIN: Eui64 = Eui64(0x02aa_0000_0000_0001);
pub(crate) const APP_KEY: AesKey = AesKey([0x42; 16]);
pub(crate) const NWK_KEY: AesKey = AesKey([0x43; 16]);

/// SNR at which a gateway hears a device that sends with full power over 125 kHz.
pub(crate) type Heard = Vec<(Eui64, f32)>;

pub(crate) struct Node {
    pub dev_eui: Eui64,
    pub device: Device,
    pub heard: Heard,
    /// Uplinks that are lost on the way, of a hundred.
    pub loss_percent: u32,
    /// Downlinks do not reach it.
    pub deaf: bool,
    /// What it has received.
    pub received: Vec<Downlink>,
}

/// The field with everything in it.
pub(crate) struct Field {
    pub engine: Engine,
    pub now: Timestamp,
    pub nodes: Vec<Node>,
    /// Everything the engine wanted done.
    pub effects: Vec<Effect>,
    /// What gateways say to the next transmissions, instead of sending them.
    pub failures: Vec<TxFailure>,
    has_gps: BTreeMap<Eui64, bool>,
    /// Frames on their way, by when they begin.
    sending: BTreeMap<(Timestamp, u64), Transmission>,
    seen: usize,
    rng: StdRng,
}

impl Field {
    pub(crate) fn new(gateways: &[(Eui64, Region)]) -> Self {
        let mut field = Self {
            engine: Engine::new(Config { seed: 11, ..Config::default() }),
            // 2026-09-21, an hour in.
            now: Timestamp(1_790_000_000 * SECOND),
            nodes: Vec::new(),
            effects: Vec::new(),
            failures: Vec::new(),
            has_gps: BTreeMap::new(),
            sending: BTreeMap::new(),
            seen: 0,
            rng: StdRng::seed_from_u64(5),
        };
        for (eui, region) in gateways {
            field.gateway(GatewayConfig::new(*eui, *region, 2.0), false);
        }
        field
    }

    pub(crate) fn gateway(&mut self, config: GatewayConfig, has_gps: bool) {
        self.has_gps.insert(config.eui, has_gps);
        self.command(Command::PutGateway(config));
    }

    /// A device that is registered as it is built; gives its place in the list.
    pub(crate) fn add(&mut self, build: Build, profile: RadioProfile, heard: Heard) -> usize {
        let dev_eui = Eui64(0x02bb_0000_0000_0100 + self.nodes.len() as u64);
        let nwk_key = (profile.version == lorawan::MacVersion::V1_1).then_some(NWK_KEY);
        let identity = Identity { dev_eui, join_eui: JOIN, app_key: APP_KEY, nwk_key, personal: None };
        let activation = Activation::OverTheAir(RootKeys { app_key: APP_KEY, nwk_key });
        self.add_as(identity, build, activation, profile, heard)
    }

    pub(crate) fn add_as(
        &mut self,
        identity: Identity,
        build: Build,
        activation: Activation,
        profile: RadioProfile,
        heard: Heard,
    ) -> usize {
        let dev_eui = identity.dev_eui;
        let config = DeviceConfig {
            dev_eui,
            join_eui: JOIN,
            activation,
            profile: Arc::new(profile),
            policy: Policy::default(),
            estate: 0,
            fleet: 1,
            disabled: false,
        };
        self.command(Command::PutDevice(Box::new(config)));
        let device = Device::new(identity, build, dev_eui.0);
        self.nodes.push(Node { dev_eui, device, heard, loss_percent: 0, deaf: false, received: Vec::new() });
        self.nodes.len() - 1
    }

    /// What is lost and how it fades, from now on.
    pub(crate) fn seed(&mut self, seed: u64) {
        self.rng = StdRng::seed_from_u64(seed);
    }

    pub(crate) fn command(&mut self, command: Command) {
        self.engine.handle(self.now, Input::Command(command), &mut self.effects);
        self.take_transmissions();
    }

    pub(crate) fn status(&self, node: usize) -> DeviceStatus {
        self.engine.device_status(self.nodes[node].dev_eui, self.now).unwrap()
    }

    /// Hands frames to gateways, which report at once.
    fn take_transmissions(&mut self) {
        while self.seen < self.effects.len() {
            let effect = self.effects[self.seen].clone();
            self.seen += 1;
            let Effect::Transmit(transmission) = effect else { continue };
            assert!(transmission.at >= self.now, "a frame for the past: {transmission:?}");
            let id = transmission.id;
            let result = match self.failures.is_empty() {
                true => Ok(()),
                false => Err(self.failures.remove(0)),
            };
            if result.is_ok() {
                self.sending.insert((transmission.at, id.0), transmission);
            }
            self.engine.handle(self.now, Input::TxReport { transmission: id, result }, &mut self.effects);
        }
    }

    /// Lets time pass until `until`: deadlines of the engine and frames in the air, in their order.
    pub(crate) fn run_until(&mut self, until: Timestamp) {
        loop {
            let deadline = self.engine.next_deadline().filter(|at| *at <= until);
            let frame = self.sending.keys().next().copied().filter(|(at, _)| *at <= until);
            match (deadline, frame) {
                (Some(at), None) => self.tick(at),
                (Some(at), Some((begins, _))) if at <= begins => self.tick(at),
                (_, Some(key)) => {
                    self.now = self.now.max(key.0);
                    if let Some(transmission) = self.sending.remove(&key) {
                        self.spread(&transmission);
                    }
                }
                (None, None) => break,
            }
        }
        self.now = self.now.max(until);
    }

    pub(crate) fn pass(&mut self, us: i64) {
        self.run_until(self.now.plus_us(us));
    }

    fn tick(&mut self, at: Timestamp) {
        self.now = self.now.max(at);
        self.engine.handle(self.now, Input::Tick, &mut self.effects);
        self.take_transmissions();
    }

    /// A frame from a gateway reaches the devices that listen and hear that gateway.
    fn spread(&mut self, transmission: &Transmission) {
        let Transmission { at, frequency_hz, modulation, window, .. } = *transmission;
        for node in self.nodes.iter_mut().filter(|node| !node.deaf) {
            if !node.heard.iter().any(|(gateway, _)| *gateway == transmission.gateway) {
                continue;
            }
            let bytes = &transmission.phy_payload;
            if window == Window::Beacon {
                node.device.hear_beacon(bytes, modulation, at.0);
            } else if node.device.listens(at.0, frequency_hz, modulation)
                && let Some(downlink) = node.device.receive(bytes)
            {
                node.received.push(downlink);
            }
        }
    }

    /// What a device sends reaches the gateways that hear it; its windows are lived through.
    pub(crate) fn emit(&mut self, node: usize, emission: &Emission) {
        self.pass(emission.airtime_us);
        let end = self.now;
        let closed = self.nodes[node].device.listen_after(emission, end.0);
        let full_dbm = 16.0;
        let lost = self.rng.random_range(0..100) < self.nodes[node].loss_percent;
        let (needed, noise_db) = match emission.modulation {
            Modulation::Lora { spreading_factor, bandwidth } => {
                let noise_db = 10.0 * (f64::from(bandwidth.khz()) / 125.0).log10();
                (spreading_factor.required_snr_db(), noise_db)
            }
            _ => (-5.0, 0.0),
        };
        for (gateway, snr_db) in self.nodes[node].heard.clone() {
            let fading: f64 = self.rng.random_range(-1.5..1.5);
            let less_power_db = (full_dbm - emission.eirp_dbm).max(0.0);
            let snr_db = f64::from(snr_db) - less_power_db - noise_db + fading;
            if lost || snr_db < needed {
                continue;
            }
            let reception = Reception {
                gateway,
                heard_at: end,
                clock_us: end.0 as u32,
                has_gps: self.has_gps.get(&gateway).copied().unwrap_or(false),
                frequency_hz: emission.frequency_hz,
                modulation: emission.modulation,
                rssi_dbm: -110.0,
                snr_db: Some(snr_db as f32),
            };
            let frame = FrameHeard { phy_payload: emission.phy_payload.clone(), reception };
            self.engine.handle(self.now, Input::FrameHeard(frame), &mut self.effects);
        }
        self.run_until(Timestamp(closed));
    }

    /// Joins a device; panics if it cannot.
    pub(crate) fn join(&mut self, node: usize) {
        for _ in 0..20 {
            let request = self.nodes[node].device.join_request();
            self.emit(node, &request);
            if self.nodes[node].device.joined() {
                return;
            }
            self.pass(10 * SECOND);
        }
        panic!("it does not join: {:#?}", self.told().last());
    }

    /// An uplink, as often as the device is set to send each.
    pub(crate) fn uplink(&mut self, node: usize, confirmed: bool) {
        let Some(emission) = self.nodes[node].device.uplink(2, b"field", confirmed) else { panic!("not joined") };
        let times = self.nodes[node].device.nb_trans();
        self.emit(node, &emission);
        for _ in 1..times {
            let Some(again) = self.nodes[node].device.again() else { panic!("not joined") };
            self.emit(node, &again);
        }
    }

    /// Some uplinks, a minute apart.
    pub(crate) fn uplinks(&mut self, node: usize, count: usize) {
        for _ in 0..count {
            self.uplink(node, false);
            self.pass(MINUTE);
        }
    }

    pub(crate) fn enqueue(&mut self, node: usize, id: u128, payload: &[u8], confirmed: bool) {
        let item = item(id, payload, confirmed);
        self.command(Command::Enqueue { dev_eui: self.nodes[node].dev_eui, item });
    }

    /// Payloads that a device has received on port 10.
    pub(crate) fn got(&self, node: usize) -> Vec<Vec<u8>> {
        let data = |downlink: &Downlink| match downlink {
            Downlink::Data { port: Some(10), payload, .. } => Some(payload.clone()),
            _ => None,
        };
        self.nodes[node].received.iter().filter_map(data).collect()
    }

    pub(crate) fn told(&self) -> Vec<&Event> {
        self.effects.iter().filter_map(|e| if let Effect::Publish(event) = e { Some(event) } else { None }).collect()
    }

    pub(crate) fn notices(&self) -> Vec<&Notice> {
        self.told()
            .into_iter()
            .filter_map(|e| if let Event::Notice { notice, .. } = e { Some(&**notice) } else { None })
            .collect()
    }

    pub(crate) fn noticed(&self, code: &str) -> usize {
        self.notices().iter().filter(|notice| notice.code() == code).count()
    }

    pub(crate) fn refusals(&self) -> Vec<&Refusal> {
        self.told().into_iter().filter_map(|e| if let Event::Refused(r) = e { Some(&r.reason) } else { None }).collect()
    }

    pub(crate) fn transmissions(&self) -> Vec<&Transmission> {
        self.effects.iter().filter_map(|e| if let Effect::Transmit(t) = e { Some(t) } else { None }).collect()
    }

    pub(crate) fn outbox_states(&self) -> Vec<&OutboxState> {
        let state = |e: &'_ Effect| matches!(e, Effect::Persist(Change::Outbox { .. }));
        self.effects
            .iter()
            .filter(|e| state(e))
            .filter_map(|e| if let Effect::Persist(Change::Outbox { state, .. }) = e { Some(state) } else { None })
            .collect()
    }

    pub(crate) fn forget(&mut self) {
        self.effects.clear();
        self.seen = 0;
    }
}

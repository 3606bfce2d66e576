//! A device, some gateways and a clock one can turn.

use std::sync::Arc;

use engine::*;
use lorawan::crypto::{MicKey, PayloadKey, SessionKeys11, session_keys};
use lorawan::region::Region;
use lorawan::wire::{DataRepr, DataView, JoinAccept, JoinRequestRepr, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, Modulation};

pub(crate) const DEV: Eui64 = Eui64(0x02bb_0000_0000_002a);
pub(crate) const JOIN: Eui64 = Eui64(0x02aa_0000_0000_0001);
pub(crate) const NEAR: Eui64 = Eui64(0x0210_0000_0000_0001);
pub(crate) const FAR: Eui64 = Eui64(0x0210_0000_0000_0002);
pub(crate) const KEY: AesKey = AesKey([0x42; 16]);
pub(crate) const SECOND: i64 = 1_000_000;
/// How far the gateways' clocks are from the service's.
pub(crate) const CLOCK_OFFSET_US: u32 = 0xffff_0000;

pub(crate) struct World {
    pub engine: Engine,
    pub now: Timestamp,
    pub effects: Vec<Effect>,
    pub sf: u8,
    pub frequency_hz: u32,
}

/// The device's side of a session.
pub(crate) struct Joined {
    pub dev_addr: DevAddr,
    pub nwk: MicKey,
    pub app: PayloadKey,
    pub up: u32,
}

pub(crate) fn device(dev_eui: Eui64) -> DeviceConfig {
    device_with(dev_eui, quiet(Region::Eu868))
}

/// A profile under which the network asks nothing of the device by itself.
pub(crate) fn quiet(region: Region) -> RadioProfile {
    RadioProfile { rates: Rates::Device, status_every_s: 0, ..RadioProfile::of(region) }
}

pub(crate) fn device_with(dev_eui: Eui64, profile: RadioProfile) -> DeviceConfig {
    let activation = Activation::OverTheAir(RootKeys { app_key: KEY, nwk_key: None });
    DeviceConfig {
        dev_eui,
        join_eui: JOIN,
        activation,
        profile: Arc::new(profile),
        policy: Policy::default(),
        estate: 0,
        fleet: 1,
        disabled: false,
    }
}

impl World {
    /// Two gateways and one device that has not joined.
    pub(crate) fn new() -> Self {
        let mut world = Self::empty(7);
        for eui in [NEAR, FAR] {
            world.command(Command::PutGateway(GatewayConfig::new(eui, Region::Eu868, 2.0)));
        }
        world.command(Command::PutDevice(Box::new(device(DEV))));
        world
    }

    pub(crate) fn empty(seed: u64) -> Self {
        World {
            engine: Engine::new(Config { seed, ..Config::default() }),
            now: Timestamp(1_790_000_000 * SECOND),
            effects: Vec::new(),
            sf: 7,
            frequency_hz: 868_100_000,
        }
    }

    pub(crate) fn command(&mut self, command: Command) {
        self.engine.handle(self.now, Input::Command(command), &mut self.effects);
    }

    /// Gives the device another profile.
    pub(crate) fn profile(&mut self, profile: RadioProfile) {
        self.command(Command::PutDevice(Box::new(device_with(DEV, profile))));
    }

    pub(crate) fn reception(&self, gateway: Eui64, snr_db: f32) -> Reception {
        Reception {
            gateway,
            heard_at: self.now,
            clock_us: (self.now.0 as u32).wrapping_add(CLOCK_OFFSET_US),
            has_gps: false,
            frequency_hz: self.frequency_hz,
            modulation: Modulation::lora(self.sf, 125).unwrap(),
            rssi_dbm: -100.0,
            snr_db: Some(snr_db),
        }
    }

    pub(crate) fn hear(&mut self, phy_payload: &[u8], gateway: Eui64, snr_db: f32) {
        let frame = FrameHeard { phy_payload: phy_payload.to_vec(), reception: self.reception(gateway, snr_db) };
        self.engine.handle(self.now, Input::FrameHeard(frame), &mut self.effects);
    }

    /// Both gateways hear the frame, the near one better.
    pub(crate) fn send(&mut self, phy_payload: &[u8]) {
        self.hear(phy_payload, FAR, -3.0);
        self.hear(phy_payload, NEAR, 8.0);
        self.pass(SECOND / 5);
    }

    /// Lets time pass, calling the engine at each of its deadlines.
    pub(crate) fn pass(&mut self, us: i64) {
        let until = self.now.plus_us(us);
        while let Some(at) = self.engine.next_deadline().filter(|at| *at <= until) {
            self.now = self.now.max(at);
            self.engine.handle(self.now, Input::Tick, &mut self.effects);
        }
        self.now = until;
    }

    pub(crate) fn report(&mut self, id: TransmissionId, result: Result<(), TxFailure>) {
        self.engine.handle(self.now, Input::TxReport { transmission: id, result }, &mut self.effects);
    }

    pub(crate) fn events(&self) -> impl Iterator<Item = &Event> {
        self.effects.iter().filter_map(|e| match e {
            Effect::Publish(event) => Some(event),
            _ => None,
        })
    }

    pub(crate) fn refusals(&self) -> Vec<&RefusedEvent> {
        self.events().filter_map(|e| if let Event::Refused(r) = e { Some(r) } else { None }).collect()
    }

    pub(crate) fn uplinks(&self) -> Vec<&UplinkEvent> {
        self.events().filter_map(|e| if let Event::Uplink(u) = e { Some(&**u) } else { None }).collect()
    }

    pub(crate) fn notices(&self) -> Vec<&Notice> {
        self.events()
            .filter_map(|e| if let Event::Notice { notice, .. } = e { Some(&**notice) } else { None })
            .collect()
    }

    pub(crate) fn stages(&self) -> Vec<&DownlinkStage> {
        self.events().filter_map(|e| if let Event::Downlink(d) = e { Some(&d.stage) } else { None }).collect()
    }

    pub(crate) fn outbox_states(&self) -> Vec<&OutboxState> {
        self.changes().filter_map(|c| if let Change::Outbox { state, .. } = c { Some(state) } else { None }).collect()
    }

    pub(crate) fn changes(&self) -> impl Iterator<Item = &Change> {
        self.effects.iter().filter_map(|e| if let Effect::Persist(change) = e { Some(change) } else { None })
    }

    pub(crate) fn transmissions(&self) -> Vec<Transmission> {
        self.effects.iter().filter_map(|e| if let Effect::Transmit(t) = e { Some(t.clone()) } else { None }).collect()
    }

    /// The one transmission since the effects were last cleared.
    pub(crate) fn transmission(&self) -> Transmission {
        let all = self.transmissions();
        assert_eq!(all.len(), 1, "{:#?}", self.effects);
        all[0].clone()
    }

    pub(crate) fn join_request(dev_nonce: u16) -> Vec<u8> {
        JoinRequestRepr { join_eui: JOIN, dev_eui: DEV, dev_nonce }.emit(&MicKey::new(&KEY))
    }

    /// Joins the device and gives its side of the session.
    pub(crate) fn join(&mut self, dev_nonce: u16) -> Joined {
        self.effects.clear();
        self.send(&Self::join_request(dev_nonce));
        let accepted = self.transmission();
        self.report(accepted.id, Ok(()));
        self.pass(7 * SECOND);
        self.effects.clear();
        Joined::from_accept(&JoinAccept::open(&accepted.phy_payload, &KEY).unwrap(), dev_nonce)
    }

    pub(crate) fn enqueue(&mut self, id: u128, payload: &[u8], confirmed: bool) {
        let item = item(id, payload, confirmed);
        self.command(Command::Enqueue { dev_eui: DEV, item });
        self.effects.clear();
    }
}

/// A downlink on port 10.
pub(crate) fn item(id: u128, payload: &[u8], confirmed: bool) -> OutboxItem {
    OutboxItem {
        id: OutboxId(id),
        port: 10,
        payload: payload.to_vec(),
        confirmed,
        attempts: 0,
        max_attempts: None,
        expires_at: None,
        place: i64::from(id as u32),
        reference: None,
        state: OutboxState::Waiting(Wait::NextUplink),
    }
}

impl Joined {
    /// How a device reads a join-accept.
    pub(crate) fn from_accept(accept: &JoinAccept, dev_nonce: u16) -> Self {
        let keys = session_keys(&KEY, accept.join_nonce, accept.net_id, dev_nonce);
        Self::new(accept.dev_addr, &SessionKeys11::from(keys), 0)
    }

    /// The device's side of a session the network knows.
    pub(crate) fn from_session(session: &Session) -> Self {
        Self::new(session.dev_addr, &session.keys, session.counters.up.map_or(0, |up| up + 1))
    }

    fn new(dev_addr: DevAddr, keys: &SessionKeys11, up: u32) -> Self {
        Self { dev_addr, nwk: MicKey::new(&keys.f_nwk_s_int_key), app: PayloadKey::new(&keys.app_s_key), up }
    }

    /// The next uplink.
    pub(crate) fn uplink(&mut self, payload: &[u8], flags: UplinkFlags, confirmed: bool) -> Vec<u8> {
        let repr = DataRepr::uplink(self.dev_addr, self.up, flags, Some((2, payload))).confirmed(confirmed);
        self.up += 1;
        repr.emit(&self.nwk, &self.app).unwrap()
    }

    pub(crate) fn plain(&mut self) -> Vec<u8> {
        self.uplink(&[1, 2, 3], UplinkFlags::default(), false)
    }

    /// Reads a downlink with the session's keys.
    pub(crate) fn read<'a>(&self, phy_payload: &'a [u8], counter: u32) -> (DataView<'a>, Vec<u8>) {
        let view = DataView::new_checked(phy_payload).unwrap();
        assert!(view.verify(&self.nwk, counter), "counter {counter}");
        let payload = view.decrypt(&self.app, counter);
        (view, payload)
    }
}

//! The device side of the MAC: joins, sessions and windows of every version and class, and obedience to
//! MAC commands.
//!
//! Nothing here reads a clock or opens a socket: time comes in as microseconds since 1970, so the same
//! device lives in the demo's real time and in a test's week of seconds.

mod commands;
mod join;
mod saved;
mod session;
mod windows;

use lorawan::crypto::{MicKey, PayloadKey, SessionKeys, SessionKeys11};
use lorawan::mac::{Battery, DeviceClass, DownCommand, UpCommand, commands};
use lorawan::region::{JOIN_ACCEPT_DELAY1_S, Plan, Region};
use lorawan::wire::{DataView, JoinKind, UplinkFlags};
use lorawan::{AesKey, DevAddr, Direction, Eui64, MacVersion, Modulation, airtime, counter};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};

pub use saved::SavedDevice;

use session::Session;
use windows::Window;

/// Who a device is.
#[derive(Debug, Clone)]
pub struct Identity {
    /// Its DevEUI.
    pub dev_eui: Eui64,
    /// Its JoinEUI.
    pub join_eui: Eui64,
    /// Its AppKey.
    pub app_key: AesKey,
    /// The NwkKey of a 1.1 device.
    pub nwk_key: Option<AesKey>,
    /// Address and keys of a device that is activated by personalization.
    pub personal: Option<(DevAddr, SessionKeys11)>,
}

impl Identity {
    /// A device of 1.0.x that joins.
    pub fn joining(dev_eui: Eui64, join_eui: Eui64, app_key: AesKey) -> Self {
        Self { dev_eui, join_eui, app_key, nwk_key: None, personal: None }
    }

    fn signing(&self) -> AesKey {
        self.nwk_key.unwrap_or(self.app_key)
    }
}

/// What a device always listens for, beside the windows after its uplinks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Listens {
    /// Nothing: class A.
    AfterUplinks,
    /// Ping slots every 2^n seconds, once it has found a beacon: class B.
    InPingSlots(u8),
    /// RX2's channel at all times: class C.
    Always,
}

/// How a device is built.
#[derive(Debug, Clone, Copy)]
pub struct Build {
    /// Its region.
    pub region: Region,
    /// Its LoRaWAN version.
    pub version: MacVersion,
    /// When it listens.
    pub listens: Listens,
    /// The data rate it begins with.
    pub data_rate: u8,
    /// Whether it lets the network choose its data rate.
    pub adr: bool,
}

impl Build {
    /// A 1.0.3 device of class A.
    pub fn plain(region: Region, data_rate: u8) -> Self {
        Self { region, version: MacVersion::V1_0_3, listens: Listens::AfterUplinks, data_rate, adr: false }
    }
}

/// One frame on the air.
#[derive(Debug, Clone)]
pub struct Emission {
    /// The whole frame.
    pub phy_payload: Vec<u8>,
    /// Its frequency, in Hz.
    pub frequency_hz: u32,
    /// How it is modulated.
    pub modulation: Modulation,
    /// Its time on air, in microseconds.
    pub airtime_us: i64,
    /// Its radiated power, in dBm.
    pub eirp_dbm: f64,
}

/// What a downlink meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Downlink {
    /// The device has joined and has this address.
    Joined(DevAddr),
    /// A data frame.
    Data {
        /// Its full counter.
        counter: u32,
        /// Its port.
        port: Option<u8>,
        /// What it holds, in the clear.
        payload: Vec<u8>,
        /// Whether it is to be acknowledged.
        confirmed: bool,
        /// It acknowledges the device's confirmed uplink.
        ack: bool,
        /// MAC commands in its header.
        mac_commands: Vec<DownCommand>,
    },
}

/// A multicast group that a device belongs to.
#[derive(Debug, Clone)]
pub struct Group {
    /// The group's address.
    pub address: DevAddr,
    /// The group's keys.
    pub keys: SessionKeys,
    /// Its frequency, in Hz.
    pub frequency_hz: u32,
    /// The index of its data rate.
    pub data_rate: u8,
    /// Ping slots every 2^n seconds, for class B.
    pub ping_periodicity: Option<u8>,
    last_down: Option<u32>,
}

impl Group {
    /// A group with this address, these keys and this channel.
    pub fn new(address: DevAddr, keys: SessionKeys, frequency_hz: u32, data_rate: u8) -> Self {
        Self { address, keys, frequency_hz, data_rate, ping_periodicity: None, last_down: None }
    }

    /// The payload of a frame for this group, the first time it comes.
    fn receive(&mut self, view: &DataView<'_>) -> Option<Downlink> {
        if view.dev_addr() != self.address || view.direction() != Direction::Down {
            return None;
        }
        let counter = counter::candidates(self.last_down, view.counter_low()).ahead?;
        if !view.verify(&MicKey::new(&self.keys.nwk_s_key), counter) {
            return None;
        }
        self.last_down = Some(counter);
        Some(Downlink::Data {
            counter,
            port: view.fport(),
            payload: view.decrypt(&PayloadKey::new(&self.keys.app_s_key), counter),
            confirmed: false,
            ack: false,
            mac_commands: Vec::new(),
        })
    }
}

/// What a device does not take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refuses {
    /// A part of LinkADRReq.
    Power,
    /// The data rate.
    DataRate,
    /// The channel mask.
    Mask,
    /// RXParamSetupReq.
    Windows,
    /// NewChannelReq: its frequency, and its data rates.
    Frequency,
    /// The data rates of a channel.
    ChannelDataRates,
    /// PingSlotChannelReq.
    PingSlotChannel,
    /// DlChannelReq.
    DownlinkChannel,
    /// RejoinParamSetupReq: the time.
    RejoinTime,
    /// BeaconFreqReq.
    BeaconFrequency,
    /// It answers no request.
    ToAnswer,
}

impl Refuses {
    /// All of them.
    pub const ALL: [Self; 11] = [
        Self::Power,
        Self::DataRate,
        Self::Mask,
        Self::Windows,
        Self::Frequency,
        Self::ChannelDataRates,
        Self::PingSlotChannel,
        Self::DownlinkChannel,
        Self::RejoinTime,
        Self::BeaconFrequency,
        Self::ToAnswer,
    ];
}

/// FOpts has no more room (TS001 §4.3.1.6).
const MAX_FOPTS: usize = 15;

/// A stand-in device.
pub struct Device {
    identity: Identity,
    build: Build,
    session: Option<Session>,
    /// The request whose answer may still come.
    asked: Option<Asked>,
    windows: Vec<Window>,
    next_nonce: u16,
    rj_count_1: u16,
    /// MAC commands for the next uplink's FOpts.
    says: Vec<UpCommand>,
    /// Answers that are repeated until a downlink comes.
    repeats: Vec<UpCommand>,
    /// GPS seconds of the last beacon heard.
    beacon_s: Option<u32>,
    groups: Vec<Group>,
    /// What it does not take.
    refuses: Vec<Refuses>,
    /// The type of rejoin-request that the network wants of it.
    to_rejoin: Option<u8>,
    /// What it says of its battery.
    battery: Battery,
    /// SNR of the last downlink, in dB.
    snr_db: i8,
    rng: StdRng,
}

#[derive(Debug, Clone, Copy)]
struct Asked {
    kind: JoinKind,
    nonce: u16,
    frequency_hz: u32,
}

impl Device {
    /// A device that has just been switched on.
    pub fn new(identity: Identity, build: Build, seed: u64) -> Self {
        let session = identity.personal.as_ref().map(|(dev_addr, keys)| Session::personal(*dev_addr, keys, &build));
        let mut device = Self {
            identity,
            build,
            session,
            asked: None,
            windows: Vec::new(),
            next_nonce: 0,
            rj_count_1: 0,
            says: Vec::new(),
            repeats: Vec::new(),
            beacon_s: None,
            groups: Vec::new(),
            refuses: Vec::new(),
            to_rejoin: None,
            battery: Battery::Level(200),
            snr_db: 9,
            rng: StdRng::seed_from_u64(seed),
        };
        device.introduce();
        device
    }

    fn plan(&self) -> &'static Plan {
        self.build.region.plan()
    }

    /// Has it refuse something from now on.
    pub fn refuse(&mut self, what: Refuses) {
        self.refuses.push(what);
    }

    /// The rejoin-request that the network has asked for, once.
    pub fn rejoin_if_told(&mut self) -> Option<Emission> {
        let kind = self.to_rejoin.take()?;
        self.rejoin_request(kind)
    }

    /// Puts a MAC command into the next uplink, if there is room for it.
    pub fn ask(&mut self, command: UpCommand) {
        let len = |all: &[UpCommand]| {
            let mut bytes = Vec::new();
            all.iter().for_each(|c| c.emit(&mut bytes));
            bytes.len()
        };
        if len(&[&self.repeats[..], &self.says, &[command]].concat()) <= MAX_FOPTS {
            self.says.push(command);
        }
    }

    /// What a device reports at the start of a session.
    fn introduce(&mut self) {
        let Some(session) = &self.session else { return };
        if session.speaks_1_1 {
            let notice = match self.identity.personal {
                Some(_) => UpCommand::ResetInd { minor: 1 },
                None => UpCommand::RekeyInd { minor: 1 },
            };
            self.repeats.push(notice);
            if self.build.listens == Listens::Always {
                self.ask(UpCommand::DeviceModeInd { class: DeviceClass::C });
            }
        }
        if let Listens::InPingSlots(periodicity) = self.build.listens {
            self.ask(UpCommand::PingSlotInfoReq { periodicity });
        }
    }

    /// Makes it a member of a multicast group.
    pub fn enter(&mut self, group: Group) {
        self.groups.push(group);
    }

    /// Takes note of its battery, which it is asked about now and then.
    pub fn set_battery(&mut self, battery: Battery) {
        self.battery = battery;
    }

    /// Takes note of how well it heard a downlink (TS001 §5.5: -32 to 31 dB).
    pub fn heard_with(&mut self, snr_db: f64) {
        self.snr_db = snr_db.round().clamp(-32.0, 31.0) as i8;
    }

    /// Whether it has a session.
    pub fn joined(&self) -> bool {
        self.session.is_some()
    }

    /// The address of its session.
    pub fn dev_addr(&self) -> Option<DevAddr> {
        self.session.as_ref().map(|session| session.dev_addr)
    }

    /// How often each uplink is to be sent.
    pub fn nb_trans(&self) -> u8 {
        self.session.as_ref().map_or(1, |session| session.adr.nb_trans.max(1))
    }

    /// Data rate and TXPower index.
    pub fn rate_and_power(&self) -> (u8, u8) {
        self.session.as_ref().map_or((self.build.data_rate, 0), |s| (s.adr.data_rate, s.adr.tx_power))
    }

    /// Restarts the device: a personalized one forgets its counters, the others their session.
    pub fn restart(&mut self) {
        self.session = self.identity.personal.as_ref().map(|(addr, keys)| Session::personal(*addr, keys, &self.build));
        (self.asked, self.beacon_s) = (None, None);
        self.windows.clear();
        self.says.clear();
        self.repeats.clear();
        self.introduce();
    }

    fn emission(&mut self, phy_payload: Vec<u8>, data_rate: u8, frequency_hz: u32, tx_power: u8) -> Emission {
        // DR0 where the wanted one does not exist; every region has it.
        let plan = self.plan();
        let rate = plan.data_rate(data_rate).or_else(|| plan.data_rate(0));
        let modulation = rate.map_or(Modulation::Fsk { bit_rate_bps: 50_000 }, |rate| rate.modulation);
        let airtime_us = airtime::uplink_us(modulation, phy_payload.len()) as i64;
        let eirp_dbm = f64::from(plan.tx_power.dbm(tx_power).unwrap_or(plan.tx_power.max_dbm));
        Emission { phy_payload, frequency_hz, modulation, airtime_us, eirp_dbm }
    }

    /// Index and frequency of a channel that carries the present data rate.
    fn pick_channel(&mut self) -> Option<(u8, u32)> {
        let session = self.session.as_ref()?;
        let usable = session.usable_channels(self.build.region.plan());
        if usable.is_empty() {
            return None;
        }
        let at = self.rng.random_range(0..usable.len());
        Some(usable[at])
    }

    /// A data frame; `None` before the join.
    pub fn uplink(&mut self, port: u8, payload: &[u8], confirmed: bool) -> Option<Emission> {
        self.asked = None;
        let (channel, hz) = self.pick_channel()?;
        let mut fopts = Vec::new();
        self.repeats.iter().chain(&self.says).for_each(|command| command.emit(&mut fopts));
        fopts.truncate(MAX_FOPTS);
        self.says.clear();
        let class_b = self.in_class_b();
        let adr = self.build.adr;
        let session = self.session.as_mut()?;
        session.silence = session.silence.saturating_add(1);
        let (limit, delay) = session.adr_ack;
        if adr && session.silence > limit.saturating_add(delay) && session.silence.is_multiple_of(delay) {
            session.back_off(self.build.region.plan());
        }
        let adr_ack_req = adr && session.silence >= limit;
        let flags = UplinkFlags { adr, adr_ack_req, ack: session.owes_ack.is_some(), class_b };
        let frame = session.seal(flags, confirmed, &fopts, Some((port, payload)), channel)?;
        let (data_rate, tx_power) = (session.adr.data_rate, session.adr.tx_power);
        Some(self.emission(frame, data_rate, hz, tx_power))
    }

    /// The last uplink again, on any of its channels: NbTrans asks for that (TS001 §5.2).
    pub fn again(&mut self) -> Option<Emission> {
        let (channel, hz) = self.pick_channel()?;
        let session = self.session.as_ref()?;
        let frame = session.seal_again(channel)?;
        let (data_rate, tx_power) = (session.adr.data_rate, session.adr.tx_power);
        Some(self.emission(frame, data_rate, hz, tx_power))
    }

    /// Takes a frame that fell into a window; `None` if it is not for this device.
    pub fn receive(&mut self, phy_payload: &[u8]) -> Option<Downlink> {
        if let Some(asked) = self.asked
            && let Some(accept) = self.open_accept(phy_payload, asked)
        {
            self.windows.clear();
            self.asked = None;
            self.begin_session(&accept, asked);
            return Some(Downlink::Joined(accept.dev_addr));
        }
        let view = DataView::new_checked(phy_payload).ok()?;
        if let Some(downlink) = self.groups.iter_mut().find_map(|group| group.receive(&view)) {
            return Some(downlink);
        }
        let session = self.session.as_mut()?;
        let read = session.open(&view)?;
        self.windows.clear();
        self.repeats.retain(|c| matches!(c, UpCommand::RekeyInd { .. } | UpCommand::ResetInd { .. }));
        let said: Vec<DownCommand> = commands(&read.mac_commands).map_while(Result::ok).map(|p| p.command).collect();
        self.obey(&said);
        Some(Downlink::Data {
            counter: read.counter,
            port: view.fport(),
            payload: read.payload,
            confirmed: view.confirmed(),
            ack: view.downlink_flags().ack,
            mac_commands: said,
        })
    }

    /// Opens the windows that follow an emission which ended at `end_us`. Gives the time after which
    /// nothing can come any more.
    pub fn listen_after(&mut self, emission: &Emission, end_us: i64) -> i64 {
        let plan = self.plan();
        let asked = self.asked.is_some();
        let delay_s = match &self.session {
            Some(session) if !asked => session.rx_delay_s,
            _ => JOIN_ACCEPT_DELAY1_S,
        };
        // A request that is sent as a join-request finds the region's defaults in force.
        let joining = self.asked.is_some_and(|a| matches!(a.kind, JoinKind::Join | JoinKind::Rejoin(1)));
        let session = self.session.as_ref().filter(|_| !joining);
        self.windows = windows::after(plan, session, emission, joining, end_us + i64::from(delay_s) * 1_000_000);
        end_us + (i64::from(delay_s) + 1) * 1_000_000 + windows::OPEN_US
    }
}

//! The network as a state machine without I/O.
//!
//! [`Engine::handle`] takes what happened (a frame heard, a transmit report, a command) together
//! with the time, and appends what is to be done to a list of [`Effect`]s; [`Engine::next_deadline`]
//! says when to call again with [`Input::Tick`]. The engine reads no clock, opens no socket and
//! stores nothing, so a day of traffic runs in a second of test.
//!
//! The order of effects matters: a [`Effect::Persist`] that stands before a [`Effect::Transmit`] has
//! to be durable before that frame leaves. This is how a frame counter or a join nonce is never used
//! twice, whenever the process may die.
//!
//! One engine is one shard of devices. Shards share nothing.
#![warn(missing_docs)]

mod collect;
mod device;
mod downlink;
mod effect;
mod gateway;
mod join;
mod ledger;
mod mac;
mod outbox;
mod refusal;
mod schedule;
mod time;
mod uplink;

pub use device::{DeviceConfig, DeviceRecord, DeviceStatus, Session};
pub use effect::{
    Change, Command, DownlinkEvent, DownlinkStage, Effect, Event, FrameHeard, Input, JoinedEvent, Radio, Reception,
    RefusedEvent, Transmission, TransmissionId, TxFailure, UplinkEvent,
};
pub use gateway::{GatewayConfig, GatewayStatus};
pub use ledger::{BandUse, Transmitter};
pub use outbox::{MAX_ATTEMPTS, OutboxId, OutboxItem, OutboxState, Wait};
pub use refusal::Refusal;
pub use schedule::Window;
pub use time::Timestamp;

use std::collections::HashMap;

use lorawan::wire::{Frame, MType};
use lorawan::{DevAddr, Eui64, NetId};

use collect::{Collected, Collector};
use device::Device;
use downlink::InFlight;
use gateway::Gateway;
use time::Timers;

/// How an engine behaves beyond the standard.
#[derive(Debug, Clone)]
pub struct Config {
    /// The network's NetID; addresses are given out under its prefix.
    pub net_id: NetId,
    /// How long copies of one frame from several gateways are waited for, from the first on.
    pub collection_window_us: i64,
    /// Where the choice of device addresses starts; any number, best a random one.
    pub seed: u64,
}

impl Default for Config {
    fn default() -> Self {
        Self { net_id: NetId::new(0), collection_window_us: 200_000, seed: 0 }
    }
}

/// What ends: a collection window, the wait for a transmit report.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Timer {
    Collected(u64),
    Forgotten(u64),
    ReportOverdue(TransmissionId),
}

/// One shard of the network.
pub struct Engine {
    config: Config,
    devices: HashMap<Eui64, Device>,
    by_addr: HashMap<DevAddr, Vec<Eui64>>,
    gateways: HashMap<Eui64, Gateway>,
    collector: Collector,
    in_flight: HashMap<TransmissionId, InFlight>,
    timers: Timers<Timer>,
    next_transmission: u64,
    addr_choice: u64,
}

impl Engine {
    /// An engine that knows no device and no gateway yet.
    pub fn new(config: Config) -> Self {
        Self {
            addr_choice: config.seed,
            next_transmission: config.seed,
            config,
            devices: HashMap::new(),
            by_addr: HashMap::new(),
            gateways: HashMap::new(),
            collector: Collector::default(),
            in_flight: HashMap::new(),
            timers: Timers::default(),
        }
    }

    /// Takes in what happened at `now` and appends what follows from it to `effects`.
    pub fn handle(&mut self, now: Timestamp, input: Input, effects: &mut Vec<Effect>) {
        match input {
            Input::FrameHeard(frame) => self.frame_heard(now, frame),
            Input::TxReport { transmission, result } => self.tx_report(now, transmission, result, effects),
            Input::Command(command) => self.command(command, effects),
            Input::Tick => {}
        }
        while let Some(timer) = self.timers.due(now) {
            match timer {
                Timer::Collected(key) => {
                    if let Some(frame) = self.collector.take(key) {
                        self.process(now, &frame, effects);
                    }
                }
                Timer::Forgotten(key) => self.collector.forget(key),
                Timer::ReportOverdue(id) => self.report_overdue(now, id, effects),
            }
        }
    }

    /// When [`Input::Tick`] is next needed, if nothing else comes in before.
    pub fn next_deadline(&self) -> Option<Timestamp> {
        self.timers.next()
    }

    /// What is known of a device's session and airtime.
    pub fn device_status(&self, dev_eui: Eui64, now: Timestamp) -> Option<DeviceStatus> {
        self.devices.get(&dev_eui).map(|device| device.status(now))
    }

    /// The devices with a session at an address.
    pub fn devices_at(&self, dev_addr: DevAddr) -> &[Eui64] {
        self.by_addr.get(&dev_addr).map_or(&[], Vec::as_slice)
    }

    /// What a gateway has on its account.
    pub fn gateway_status(&self, gateway: Eui64, now: Timestamp) -> Option<GatewayStatus> {
        self.gateways.get(&gateway).map(|gateway| gateway.status(now))
    }

    fn frame_heard(&mut self, now: Timestamp, frame: FrameHeard) {
        // A gateway that is not registered must not bring frames in, whoever let it through.
        if !self.gateways.contains_key(&frame.reception.gateway) {
            return;
        }
        if let Some(key) = self.collector.add(frame) {
            self.timers.set(now.plus_us(self.config.collection_window_us), Timer::Collected(key));
            self.timers
                .set(now.plus_us(self.config.collection_window_us + collect::REMEMBERED_US), Timer::Forgotten(key));
        }
    }

    fn process(&mut self, now: Timestamp, frame: &Collected, effects: &mut Vec<Effect>) {
        match Frame::parse(&frame.phy_payload) {
            Ok(Frame::JoinRequest(request)) => self.join_request(now, &request, frame, effects),
            Ok(Frame::Data(view)) if view.direction() == lorawan::Direction::Up => {
                self.data_up(now, &view, frame, effects);
            }
            // Another network's downlink, heard by our gateway: nothing of ours.
            Ok(Frame::Data(_) | Frame::JoinAccept(_)) => {}
            Ok(Frame::RejoinRequest(_)) => {
                effects.push(frame.refused(None, Refusal::NotServed { mtype: MType::RejoinRequest }));
            }
            Ok(Frame::Proprietary(_)) => {
                effects.push(frame.refused(None, Refusal::NotServed { mtype: MType::Proprietary }));
            }
            Err(error) => effects.push(frame.refused(None, Refusal::Unreadable { error })),
        }
    }

    fn command(&mut self, command: Command, effects: &mut Vec<Effect>) {
        match command {
            Command::PutGateway(config) => match self.gateways.get_mut(&config.eui) {
                Some(gateway) => gateway.config = config,
                None => {
                    self.gateways.insert(config.eui, Gateway::new(config));
                }
            },
            Command::RemoveGateway(eui) => {
                self.gateways.remove(&eui);
            }
            Command::PutDevice(config) => match self.devices.get_mut(&config.dev_eui) {
                Some(device) => device.config = *config,
                None => self.restore(DeviceRecord::new(*config), effects),
            },
            Command::RestoreDevice(record) => self.restore(*record, effects),
            Command::RemoveDevice(dev_eui) => {
                self.detach(dev_eui);
                self.devices.remove(&dev_eui);
            }
            Command::RestoreAirtime { transmitter, sub_band, minute, airtime_us, frames } => {
                let ledger = match transmitter {
                    Transmitter::Gateway(eui) => self.gateways.get_mut(&eui).map(|g| &mut g.ledger),
                    Transmitter::Device(eui) => self.devices.get_mut(&eui).map(|d| &mut d.ledger),
                };
                if let Some(ledger) = ledger {
                    ledger.restore(&sub_band, minute, airtime_us, frames);
                }
            }
            Command::Enqueue { dev_eui, mut item } => {
                if let Some(device) = self.devices.get_mut(&dev_eui) {
                    let wait = if device.session.is_some() { Wait::NextUplink } else { Wait::Join };
                    item.state = OutboxState::Waiting(wait);
                    device.outbox.push(item, effects, dev_eui);
                }
            }
            Command::Cancel { dev_eui, id } => {
                if let Some(device) = self.devices.get_mut(&dev_eui) {
                    device.outbox.cancel(id, effects, dev_eui);
                }
            }
        }
    }

    fn restore(&mut self, record: DeviceRecord, effects: &mut Vec<Effect>) {
        let dev_eui = record.config.dev_eui;
        self.detach(dev_eui);
        if let Some(session) = &record.session {
            self.by_addr.entry(session.dev_addr).or_default().push(dev_eui);
        }
        let mut device = Device::from_record(record);
        device.outbox.settle(device.session.is_some(), effects, dev_eui);
        self.devices.insert(dev_eui, device);
    }

    /// Takes the device out of the index by address.
    fn detach(&mut self, dev_eui: Eui64) {
        let Some(addr) = self.devices.get(&dev_eui).and_then(|d| d.session.as_ref()).map(|s| s.dev_addr) else {
            return;
        };
        if let Some(sharing) = self.by_addr.get_mut(&addr) {
            sharing.retain(|other| *other != dev_eui);
            if sharing.is_empty() {
                self.by_addr.remove(&addr);
            }
        }
    }
}

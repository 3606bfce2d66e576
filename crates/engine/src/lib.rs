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

mod carry_out;
mod clock_step;
mod device;
mod downlink;
mod estates;
mod gateway;
mod io;
mod ledger;
mod mac;
mod notice;
mod step;
mod time;
mod uplink;

pub use device::adr::{AdrDecision, AdrVerdict, Measured, charge_uah};
pub use device::profile::MAX_ATTEMPTS;
pub use device::profile::{
    AdrAck, AdrLimits, Class, DownlinkChannel, PingChannel, Policy, RadioProfile, Rates, RejoinTimes,
};
pub use device::session::{Counters, Session};
pub use device::settings::Settings;
pub use device::{DeviceAttention, DeviceStatus};
pub use downlink::candidate::AT_ONCE_LATEST_US;
pub use downlink::item::OutboxItem;
pub use downlink::item::{OutboxId, OutboxState, Place, Wait};
pub use downlink::multicast::GroupStatus;
pub use gateway::{CannotSend, GatewayStatus};
pub use io::change::Change;
pub use io::command::Command;
pub use io::config::EstateId;
pub use io::config::GatewayConfig;
pub use io::config::GroupConfig;
pub use io::config::{Activation, DeviceConfig, DeviceRecord, Nonces, RootKeys};
pub use io::event::{
    DownlinkEvent, DownlinkStage, Dropped, Event, HeardFrame, JoinedEvent, RefusedEvent, SentBy, UplinkEvent,
};
pub use io::frame::{FrameHeard, Radio, Reception};
pub use io::transmission::{Transmission, TransmissionId, TxFailure};
pub use io::transmission::{When, WhyRx2, Window};
pub use io::{Effect, Input};
pub use ledger::{BandUse, NEAR_PERCENT, Transmitter, Used};
pub use mac::{Health, Negotiated, RefusedSetting};
pub use notice::Notice;
pub use time::Timestamp;
pub use uplink::join_checks::{JoinCheck, Verdict, join_checks, off_plan};
pub use uplink::refusal::{FleetKey, Refusal};

use std::collections::VecDeque;

use lorawan::wire::{DataView, Frame, FrameError, MType};
use lorawan::{DevAddr, Eui64, NetId};
use rustc_hash::FxHashMap;

use device::Device;
use downlink::frame::InFlight;
use downlink::multicast::Group;
use downlink::outbox::Outbox;
use estates::Estates;
use gateway::Gateways;
use step::Step;
use time::Timers;
use uplink::collect::{Added, Collected, Collector};

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

impl Config {
    /// How long before its time an engine can still need what was heard: to collect, and to know late copies.
    pub const fn looks_back_us(&self) -> i64 {
        self.collection_window_us + uplink::collect::REMEMBERED_US
    }
}

impl Default for Config {
    fn default() -> Self {
        Self { net_id: NetId::new(0), collection_window_us: 200_000, seed: 0 }
    }
}

/// What ends: a collection window, the wait for a transmit report.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Timer {
    ReportOverdue(TransmissionId),
    AckOverdue(Eui64, OutboxId, u32),
    LookAtOutbox(Eui64),
    Expired(Eui64, OutboxId),
    Beacon(Eui64, u32),
    LookAtGroup(Eui64),
}

/// The type of a data frame of a network.
fn down(view: &DataView<'_>) -> MType {
    if view.confirmed() { MType::ConfirmedDown } else { MType::UnconfirmedDown }
}

impl Timers<Timer> {
    /// Sets the end of a downlink's time in its outbox, if it has one.
    fn expiry(&mut self, owner: Eui64, item: &OutboxItem) {
        if let Some(at) = item.expires_at {
            self.set(at, Timer::Expired(owner, item.id));
        }
    }
}

/// One shard of the network.
pub struct Engine {
    config: Config,
    /// Boxed, for a table that grows holds room for twice its entries.
    devices: FxHashMap<Eui64, Box<Device>>,
    /// The estate of the first gateway or device, and whether there is another.
    estates: Estates,
    by_addr: FxHashMap<DevAddr, Vec<Eui64>>,
    gateways: Gateways,
    groups: FxHashMap<Eui64, Group>,
    collector: Collector,
    in_flight: FxHashMap<TransmissionId, InFlight>,
    timers: Timers<Timer>,
    /// Collections to close and frames to forget: as each waits as long as the one before, they stay in
    /// order by themselves.
    collecting: VecDeque<(Timestamp, u64)>,
    forgetting: VecDeque<(Timestamp, u64)>,
    /// What was due until then, an engine before this one has processed.
    processed_until: Timestamp,
    next_transmission: u64,
    addr_choice: u64,
    /// When a join-request's key was last looked for among those of a fleet.
    keys_tried_at: Option<Timestamp>,
}

impl Engine {
    /// An engine that knows no device and no gateway yet.
    pub fn new(config: Config) -> Self {
        Self {
            addr_choice: config.seed,
            keys_tried_at: None,
            next_transmission: config.seed,
            config,
            devices: FxHashMap::default(),
            estates: Estates::default(),
            by_addr: FxHashMap::default(),
            gateways: FxHashMap::default(),
            groups: FxHashMap::default(),
            collector: Collector::default(),
            in_flight: FxHashMap::default(),
            timers: Timers::default(),
            collecting: VecDeque::new(),
            forgetting: VecDeque::new(),
            processed_until: Timestamp(i64::MIN),
        }
    }

    /// Takes in what happened at `now` and appends what follows from it to `effects`.
    pub fn handle(&mut self, now: Timestamp, input: Input, effects: &mut Vec<Effect>) {
        let step = &mut Step::new(now, effects);
        match input {
            Input::FrameHeard(frame) => self.frame_heard(step, frame),
            Input::TxReport { transmission, result } => self.tx_report(step, transmission, result),
            Input::Command(command) => self.command(step, command),
            Input::Tick => {}
        }
        self.close_collections(step, now);
        while let Some(timer) = self.timers.due(step.now) {
            match timer {
                Timer::ReportOverdue(id) => self.report_overdue(step, id),
                Timer::AckOverdue(dev_eui, id, counter) => self.ack_overdue(step, dev_eui, id, counter),
                Timer::LookAtOutbox(dev_eui) => self.time_to_look(step, dev_eui),
                Timer::Expired(owner, id) => {
                    if let Some(outbox) = self.outbox_mut(owner) {
                        outbox.expire(step, id);
                    }
                }
                Timer::LookAtGroup(group) => self.look_at_group(step, group),
                Timer::Beacon(eui, time_s) => self.send_beacon(step, eui, time_s),
            }
        }
    }

    /// Processes what was collected until then, and forgets what is remembered no longer.
    fn close_collections(&mut self, step: &mut Step<'_>, until: Timestamp) {
        while let Some((at, key)) = self.collecting.pop_front_if(|(at, _)| *at <= until) {
            self.forgetting.push_back((at.plus_us(uplink::collect::REMEMBERED_US), key));
            if let Some(frame) = self.collector.take(key)
                && at > self.processed_until
                && let Some(dev_eui) = self.process(step, &frame)
            {
                self.collector.belongs_to(key, dev_eui);
            }
        }
        while let Some((_, key)) = self.forgetting.pop_front_if(|(at, _)| *at <= until) {
            self.collector.forget(key);
        }
    }

    /// When [`Input::Tick`] is next needed, if nothing else comes in before.
    pub fn next_deadline(&self) -> Option<Timestamp> {
        let queued = [&self.collecting, &self.forgetting].map(|queue| queue.front().map(|(at, _)| *at));
        queued.into_iter().chain([self.timers.next()]).flatten().min()
    }

    /// The status of a device's session and airtime.
    pub fn device_status(&self, dev_eui: Eui64, now: Timestamp) -> Option<DeviceStatus> {
        self.devices.get(&dev_eui).map(|device| device.status(now))
    }

    /// Of these devices, those with concerns.
    pub fn attention(&self, devices: &[Eui64], now: Timestamp) -> Vec<DeviceAttention> {
        devices.iter().filter_map(|eui| self.devices.get(eui)?.attention(now)).collect()
    }

    /// The downlinks that wait for a device or a group, in the order in which they go.
    pub fn outbox_line(&self, eui: Eui64) -> Vec<OutboxId> {
        let of_device = self.devices.get(&eui).map(|device| &device.outbox);
        let outbox = of_device.or_else(|| self.groups.get(&eui).map(|group| &group.outbox));
        outbox.map(Outbox::line).unwrap_or_default()
    }

    /// The outbox of a device or a group.
    fn outbox_mut(&mut self, eui: Eui64) -> Option<&mut Outbox> {
        match self.devices.get_mut(&eui) {
            Some(device) => Some(&mut device.outbox),
            None => self.groups.get_mut(&eui).map(|group| &mut group.outbox),
        }
    }

    /// The devices with a session at an address.
    pub fn devices_at(&self, dev_addr: DevAddr) -> &[Eui64] {
        self.by_addr.get(&dev_addr).map_or(&[], Vec::as_slice)
    }

    /// A gateway's airtime.
    pub fn gateway_status(&self, gateway: Eui64, now: Timestamp) -> Option<GatewayStatus> {
        self.gateways.get(&gateway).map(|gateway| gateway.status(now))
    }

    fn frame_heard(&mut self, step: &mut Step<'_>, frame: FrameHeard) {
        // A gateway that is not registered must not bring frames in, even if another check let it through.
        let eui = frame.reception.gateway;
        let Some(gateway) = self.gateways.get_mut(&eui) else {
            return step.publish(Event::Dropped { why: Dropped::UnknownGateway, gateway: eui });
        };
        gateway.follow_clock(&frame.reception);
        if frame.reception.has_gps {
            gateway.saw_gps(step.now);
            self.plan_beacon(step.now, eui);
        }
        let heard_at = frame.reception.heard_at;
        match self.collector.add(frame) {
            Added::First(key) => {
                // From when it was heard, not from when it is looked at: a service that hands in the same frames again
                // finds the same collections.
                self.collecting.push_back((heard_at.plus_us(self.config.collection_window_us), key));
            }
            Added::Late { of, late_us, copy } => self.copy_came_late(step, of, late_us, &copy),
            Added::Another => {}
            Added::Dropped(why) => step.publish(Event::Dropped { why, gateway: eui }),
        }
    }

    /// A copy of a frame that has been processed: too late to answer through its gateway, but it shows who hears the
    /// device.
    fn copy_came_late(&mut self, step: &mut Step<'_>, of: Eui64, late_us: i64, copy: &Reception) {
        let Some(device) = self.devices.get_mut(&of) else { return };
        let estate = device.config.estate;
        if !self.gateways.get(&copy.gateway).is_some_and(|gateway| gateway.serves(estate)) {
            return estates::tell_discarded(step, 1);
        }
        device.link().heard_late(copy);
        step.tell(of, Notice::LateCopy { gateway: copy.gateway, late_us, snr_db: copy.snr_db });
    }

    /// Takes a frame with all its copies; gives the device it turned out to be of.
    fn process(&mut self, step: &mut Step<'_>, frame: &Collected) -> Option<Eui64> {
        match Frame::parse(&frame.phy_payload) {
            Ok(Frame::JoinRequest(request)) => self.join_request(step, &request, frame),
            Ok(Frame::RejoinRequest(request)) => self.rejoin_request(step, &request, frame),
            Ok(Frame::Data(view)) if view.direction() == lorawan::Direction::Up => self.data_up(step, &view, frame),
            Ok(Frame::Data(view)) => {
                let dev_addr = Some(view.dev_addr());
                self.refuse_unknown(step, frame, Refusal::Downlink { mtype: down(&view), dev_addr });
                None
            }
            Ok(Frame::JoinAccept(_)) => {
                self.refuse_unknown(step, frame, Refusal::Downlink { mtype: MType::JoinAccept, dev_addr: None });
                None
            }
            Ok(Frame::Proprietary(_)) => {
                self.refuse_unknown(step, frame, Refusal::NotServed { mtype: MType::Proprietary });
                None
            }
            Err(error) => {
                // Most likely a frame of the device at its address: other systems do not make frames like this.
                let named = self.device_named(frame).filter(|_| error == FrameError::MacCommandsTwice);
                match named {
                    Some(_) => step.publish(frame.refused(named, Refusal::Unreadable { error })),
                    None => self.refuse_unknown(step, frame, Refusal::Unreadable { error }),
                }
                named
            }
        }
    }

    /// The only device with a session at the address that an unreadable data frame names.
    fn device_named(&self, frame: &Collected) -> Option<Eui64> {
        // Behind the type (TS001 §4.2), least significant byte first.
        let address = frame.phy_payload.get(1..5)?.try_into().ok()?;
        let [dev_eui] = self.by_addr.get(&DevAddr(u32::from_le_bytes(address)))?[..] else { return None };
        let estate = self.devices.get(&dev_eui)?.config.estate;
        self.heard_for(frame, estate).then_some(dev_eui)
    }
}

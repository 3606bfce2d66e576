//! Downlinks: what goes into a frame, handing it to a gateway, and what the gateway's report leads to.

use lorawan::Eui64;
use lorawan::wire::{DataRepr, DownlinkFlags};

use crate::Engine;
use crate::device::profile::{Class, Rates};
use crate::downlink::candidate::{Busy, Candidate, To};
use crate::downlink::item::{OutboxId, OutboxItem, Wait};
use crate::downlink::reply::{Commands, Due};
use crate::downlink::schedule;
use crate::downlink::schedule::{HEADER_LEN, NoWay};
use crate::io::Effect;
use crate::io::change::Change;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event, SentBy};
use crate::io::transmission::{WhyRx2, Window};
use crate::time::Timestamp;
use crate::uplink::collect::Collected;

/// What a frame under way carries.
#[derive(Debug, Clone)]
pub(crate) struct Cargo {
    pub(crate) to: To,
    pub(crate) phy_payload: Vec<u8>,
    pub(crate) counter: Option<u32>,
    pub(crate) outbox_id: Option<OutboxId>,
    pub(crate) data: Option<(u8, Vec<u8>)>,
    pub(crate) acknowledges: bool,
    pub(crate) mac_commands: Vec<u8>,
    /// Whether it carries requests that the device is to answer.
    pub(crate) asks: bool,
    /// Whether the device is to acknowledge it.
    pub(crate) confirmed: bool,
}

impl InFlight {
    /// The clock was set by so much. What is under way is sent by the gateway's clock.
    pub(crate) fn shift(&mut self, by_us: i64) {
        for way in std::iter::once(&mut self.taken).chain(&mut self.others) {
            way.at = way.at.plus_us(by_us);
        }
    }
}

impl Cargo {
    /// A frame that is no data frame.
    pub(crate) fn bare(to: To, phy_payload: Vec<u8>) -> Self {
        Self {
            to,
            phy_payload,
            counter: None,
            outbox_id: None,
            data: None,
            acknowledges: false,
            mac_commands: Vec::new(),
            asks: false,
            confirmed: false,
        }
    }
}

/// A frame handed to a gateway, and the other ways it could still go.
#[derive(Debug)]
pub(crate) struct InFlight {
    pub(crate) cargo: Cargo,
    pub(crate) taken: Candidate,
    pub(crate) sent: SentBy,
    pub(crate) others: Vec<Candidate>,
}

impl Engine {
    /// Answers an uplink that was accepted: what is due, and the next downlink from the outbox if one
    /// fits beside it.
    pub(crate) fn answer(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        mut due: Due,
        frame: &Collected,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if due.owed().is_none() && device.outbox.waiting() == 0 {
            return;
        }
        let candidates = device.windows_after(frame);
        let owed = due.owed();
        let acknowledge = due.acknowledge;
        if candidates.is_empty() && device.on_air_until > now {
            let why = NoWay::UnderWay { until: device.on_air_until };
            return self.no_answer(dev_eui, None, owed, acknowledge, &why, effects);
        }
        let widest = candidates.iter().map(|c| c.max_payload).max().unwrap_or(0);
        let commands = due.commands(widest);
        // MAC commands get room first: a payload that does not fit beside them waits.
        let item = if commands.on_port_0 {
            None
        } else {
            self.next_item(now, dev_eui, widest.saturating_sub(commands.bytes.len()), effects)
        };
        if item.is_none() && owed.is_none() {
            return;
        }
        let more = item.is_some() || !commands.bytes.is_empty();
        let result = self.send_data(now, dev_eui, item.as_ref(), acknowledge, commands, candidates, effects);
        let Err(why) = result else { return };
        // The acknowledgement alone is shorter, and may find a way that all together do not.
        let alone = acknowledge && more && {
            let candidates = self.devices.get(&dev_eui).map(|device| device.windows_after(frame)).unwrap_or_default();
            self.send_data(now, dev_eui, None, true, Commands::default(), candidates, effects).is_ok()
        };
        self.no_answer(dev_eui, item.as_ref(), owed.filter(|_| !alone), acknowledge, &why, effects);
    }

    /// The next downlink of the outbox that may go now, if it fits into `largest` bytes. One that does not
    /// is held, and its state says so.
    pub(crate) fn next_item(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        largest: usize,
        effects: &mut Vec<Effect>,
    ) -> Option<OutboxItem> {
        let device = self.devices.get_mut(&dev_eui)?;
        let item = device.outbox.next_waiting()?.clone();
        if item.expires_at.is_some_and(|at| at <= now) {
            device.outbox.expire(item.id, effects, dev_eui);
            return self.next_item(now, dev_eui, largest, effects);
        }
        if let Some(limit) = device.config.policy.downlinks
            && device.towards.day(now).frames >= limit
        {
            let until = device.towards.day_eases_at(now);
            device.outbox.waits(item.id, Wait::Policy { limit, until }, effects, dev_eui);
            return None;
        }
        if item.payload.len() > largest {
            let wait = Wait::SmallerThan { len: item.payload.len(), max: largest };
            device.outbox.waits(item.id, wait, effects, dev_eui);
            return None;
        }
        Some(item)
    }

    /// Writes a data frame and sends it by the best of `candidates`.
    #[allow(clippy::too_many_arguments)] // what a frame is made of
    fn send_data(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        item: Option<&OutboxItem>,
        acknowledge: bool,
        commands: Commands,
        candidates: Vec<Candidate>,
        effects: &mut Vec<Effect>,
    ) -> Result<(), NoWay> {
        let device = self.devices.get_mut(&dev_eui).ok_or(NoWay::Nobody)?;
        let data = match item {
            Some(item) => Some((item.port, item.payload.clone())),
            None if commands.on_port_0 => Some((0, commands.bytes.clone())),
            None => None,
        };
        let fopts = if commands.on_port_0 { &[][..] } else { &commands.bytes };
        let len = fopts.len() + data.as_ref().map_or(0, |(_, payload)| payload.len());
        let frame_len = HEADER_LEN + len + usize::from(data.is_some());
        let (usable, short): (Vec<Candidate>, Vec<Candidate>) =
            candidates.into_iter().partition(|c| c.max_payload >= len);
        let mut ways = schedule::choose(&self.gateways, Some(device.config.estate), now, usable, frame_len)?;
        if let Some(rx1) = short.iter().find(|c| c.window == Window::Rx1) {
            ways.why_rx2 = WhyRx2::TooLong { len, max: rx1.max_payload };
        }

        let port = data.as_ref().map(|(port, _)| *port);
        let session = device.session.as_deref_mut().ok_or(NoWay::Nobody)?;
        let Some(counter) = session.next_down(port) else { return Err(NoWay::Nobody) };
        let pending = device.outbox.waiting() > usize::from(item.is_some());
        let adr = !matches!(device.config.profile.rates, Rates::Device);
        let flags = DownlinkFlags { adr, ack: acknowledge, pending };
        let confirmed = item.is_some_and(|i| i.confirmed);
        let payload = data.as_ref().map(|(port, payload)| (*port, payload.as_slice()));
        let repr = DataRepr::downlink(session.dev_addr, counter, flags, payload);
        let Ok(phy_payload) = session.seal(&repr.confirmed(confirmed).with_fopts(fopts)) else {
            return Err(NoWay::Nobody);
        };
        effects.push(Effect::Persist(Change::Counters { dev_eui, counters: session.counters }));
        if let Some(item) = item {
            device.outbox.under_way(item.id, effects, dev_eui);
        }
        let asks = !commands.asks.is_empty();
        device.link().negotiation.sent(now, commands.asks);
        let cargo = Cargo {
            to: To::Device(dev_eui),
            phy_payload,
            counter: Some(counter),
            outbox_id: item.map(|i| i.id),
            data: item.map(|i| (i.port, i.payload.clone())),
            acknowledges: acknowledge,
            mac_commands: commands.bytes,
            asks,
            confirmed,
        };
        self.transmit(now, cargo, ways, effects);
        Ok(())
    }

    /// Sends the next downlink of a device that listens without having sent, as one of class B or C does.
    pub(crate) fn send_unasked(
        &mut self,
        now: Timestamp,
        dev_eui: Eui64,
        item: &OutboxItem,
        candidates: Vec<Candidate>,
        effects: &mut Vec<Effect>,
    ) -> Result<(), NoWay> {
        self.send_data(now, dev_eui, Some(item), false, Commands::default(), candidates, effects)
    }

    /// Nobody can send: the downlink waits on, and what is due beside it is reported missing.
    fn no_answer(
        &mut self,
        dev_eui: Eui64,
        item: Option<&OutboxItem>,
        owed: Option<&'static str>,
        acknowledge: bool,
        why: &NoWay,
        effects: &mut Vec<Effect>,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if let Some(item) = item {
            let wait = match why {
                NoWay::Airtime { sub_band, until } => Wait::Airtime { sub_band, until: *until },
                other => Wait::again(&label(other), Class::A),
            };
            device.outbox.waits(item.id, wait, effects, dev_eui);
        }
        if let Some(owed) = owed {
            let stage = DownlinkStage::Failed(format!("no {owed} could be sent: {}", label(why)));
            let event = DownlinkEvent { acknowledges: acknowledge, ..DownlinkEvent::off_air(dev_eui, stage) };
            effects.push(Effect::Publish(Event::Downlink(Box::new(event))));
        }
    }
}

/// Why nobody could send, in words.
pub(crate) fn label(why: &NoWay) -> String {
    match why {
        NoWay::Nobody => "no receive window of the last uplink could take it".into(),
        NoWay::UnderWay { until } => format!("another frame to the device was under way until {until}"),
        NoWay::TooLate => {
            "the device's receive windows were too near: a frame would have reached every gateway too late".into()
        }
        NoWay::Busy(Busy { gateway, with, until }) => {
            let with = match with {
                To::Device(eui) => format!("a frame to {eui}"),
                To::Group(eui) => format!("a frame to group {eui}"),
                To::Everyone => "a beacon".into(),
            };
            format!(
                "gateway {gateway}, which hears the device best, was busy with {with} until {until}, and no other was free"
            )
        }
        NoWay::Airtime { sub_band, until } => {
            format!("the duty cycle of sub-band {sub_band} is used up at every gateway that heard it, until {until}")
        }
    }
}

//! Downlinks: what goes into a frame, handing it to a gateway, and what the gateway's report leads to.

use lorawan::Eui64;
use lorawan::wire::{DataRepr, DownlinkFlags};

use crate::Engine;
use crate::device::Device;
use crate::device::profile::{Class, Rates};
use crate::downlink::candidate::{Busy, Candidate, To};
use crate::downlink::item::{OutboxId, OutboxItem, Wait};
use crate::downlink::reply::{Commands, Due};
use crate::downlink::schedule;
use crate::downlink::schedule::{HEADER_LEN, NoWay};
use crate::io::change::Change;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event};
use crate::io::transmission::{Transmission, WhyRx2, Window};
use crate::step::Step;
use crate::uplink::collect::Collected;

/// What a data frame to a device is to carry.
pub(crate) struct Content<'a> {
    pub(crate) item: Option<&'a OutboxItem>,
    pub(crate) acknowledge: bool,
    pub(crate) mac: Commands,
}

impl Content<'_> {
    /// Port and FRMPayload.
    fn data(&self) -> Option<(u8, &[u8])> {
        match self.item {
            Some(item) => Some((item.port, &item.payload)),
            None if self.mac.on_port_0 => Some((0, &self.mac.bytes)),
            None => None,
        }
    }

    /// MAC commands in the header.
    fn fopts(&self) -> &[u8] {
        if self.mac.on_port_0 { &[] } else { &self.mac.bytes }
    }

    /// Bytes of FOpts and FRMPayload together, and whether there is an FPort.
    fn size(&self) -> (usize, bool) {
        let data = self.data();
        (self.fopts().len() + data.map_or(0, |(_, payload)| payload.len()), data.is_some())
    }
}

impl Device {
    /// Writes a data frame with the next counter; nothing if there is no session, or its counters have run out.
    fn write(&mut self, step: &mut Step<'_>, content: Content<'_>) -> Option<Cargo> {
        let dev_eui = self.config.dev_eui;
        let (item, data) = (content.item, content.data());
        let session = self.session.as_deref_mut()?;
        let counter = session.next_down(data.map(|(port, _)| port))?;
        let pending = self.outbox.waiting() > usize::from(item.is_some());
        let adr = !matches!(self.config.profile.rates, Rates::Device);
        let flags = DownlinkFlags { adr, ack: content.acknowledge, pending };
        let confirmed = item.is_some_and(|item| item.confirmed);
        let repr = DataRepr::downlink(session.dev_addr, counter, flags, data);
        let phy_payload = session.seal(&repr.confirmed(confirmed).with_fopts(content.fopts())).ok()?;
        step.persist(Change::Counters { dev_eui, counters: session.counters });
        if let Some(item) = item {
            self.outbox.under_way(step, item.id);
        }
        let Commands { bytes: mac_commands, asks, .. } = content.mac;
        let any_asks = !asks.is_empty();
        self.link().negotiation.sent(step.now, asks);
        Some(Cargo {
            to: To::Device(dev_eui),
            phy_payload,
            counter: Some(counter),
            outbox_id: item.map(|item| item.id),
            reference: item.and_then(|item| item.reference.clone()),
            data: item.map(|item| (item.port, item.payload.clone())),
            acknowledges: content.acknowledge,
            mac_commands,
            asks: any_asks,
            confirmed,
        })
    }
}

/// The content of a frame under way.
#[derive(Debug, Clone)]
pub(crate) struct Cargo {
    pub(crate) to: To,
    pub(crate) phy_payload: Vec<u8>,
    pub(crate) counter: Option<u32>,
    pub(crate) outbox_id: Option<OutboxId>,
    pub(crate) reference: Option<String>,
    pub(crate) data: Option<(u8, Vec<u8>)>,
    pub(crate) acknowledges: bool,
    pub(crate) mac_commands: Vec<u8>,
    /// Whether it carries requests that the device is to answer.
    pub(crate) asks: bool,
    /// Whether the device is to acknowledge it.
    pub(crate) confirmed: bool,
}

impl InFlight {
    /// The clock was set by this much. What is under way is sent by the gateway's clock.
    pub(crate) fn shift(&mut self, by_us: i64) {
        for way in std::iter::once(&mut self.taken).chain(&mut self.others) {
            way.at = way.at.plus_us(by_us);
        }
    }
}

impl Cargo {
    /// A frame that is not a data frame.
    pub(crate) fn bare(to: To, phy_payload: Vec<u8>) -> Self {
        Self {
            to,
            phy_payload,
            counter: None,
            outbox_id: None,
            reference: None,
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
    pub(crate) transmission: Transmission,
    /// Why it is RX2, if it is.
    pub(crate) why_rx2: Option<WhyRx2>,
    pub(crate) others: Vec<Candidate>,
}

impl Engine {
    /// Answers an uplink that was accepted: what is due, and the next downlink from the outbox if one
    /// fits beside it.
    pub(crate) fn answer(&mut self, step: &mut Step<'_>, dev_eui: Eui64, mut due: Due, frame: &Collected) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if due.owed().is_none() && device.outbox.waiting() == 0 {
            return;
        }
        let candidates = device.windows_after(frame);
        let owed = due.owed();
        let acknowledge = due.acknowledge;
        if candidates.is_empty() && device.on_air_until > step.now {
            let why = NoWay::UnderWay { until: device.on_air_until };
            return self.no_answer(step, dev_eui, None, (owed, acknowledge), &why);
        }
        let widest = candidates.iter().map(|c| c.max_payload).max().unwrap_or(0);
        let commands = due.commands(widest);
        // MAC commands get room first: a payload that does not fit beside them waits.
        let item = if commands.on_port_0 {
            None
        } else {
            self.next_item(step, dev_eui, widest.saturating_sub(commands.bytes.len()))
        };
        if item.is_none() && owed.is_none() {
            return;
        }
        let more = item.is_some() || !commands.bytes.is_empty();
        let content = Content { item: item.as_ref(), acknowledge, mac: commands };
        let Err(why) = self.send_data(step, dev_eui, content, candidates) else { return };
        // The acknowledgement alone is shorter, and may find a way that all together do not.
        let alone = acknowledge && more && {
            let candidates = self.devices.get(&dev_eui).map(|device| device.windows_after(frame)).unwrap_or_default();
            let bare = Content { item: None, acknowledge: true, mac: Commands::default() };
            self.send_data(step, dev_eui, bare, candidates).is_ok()
        };
        self.no_answer(step, dev_eui, item.as_ref(), (owed.filter(|_| !alone), acknowledge), &why);
    }

    /// The next downlink of the outbox that may go now, if it fits into `largest` bytes. One that does not
    /// is held, and its state says so.
    pub(crate) fn next_item(&mut self, step: &mut Step<'_>, dev_eui: Eui64, largest: usize) -> Option<OutboxItem> {
        let device = self.devices.get_mut(&dev_eui)?;
        let item = device.outbox.next_waiting()?.clone();
        if item.expires_at.is_some_and(|at| at <= step.now) {
            device.outbox.expire(step, item.id);
            return self.next_item(step, dev_eui, largest);
        }
        if let Some(limit) = device.config.policy.downlinks
            && device.towards.day(step.now).frames >= limit
        {
            let until = device.towards.day_eases_at(step.now);
            device.outbox.waits(step, item.id, Wait::Policy { limit, until });
            return None;
        }
        if item.payload.len() > largest {
            let wait = Wait::SmallerThan { len: item.payload.len(), max: largest };
            device.outbox.waits(step, item.id, wait);
            return None;
        }
        Some(item)
    }

    /// Writes a data frame and sends it by the best of `candidates`.
    pub(crate) fn send_data(
        &mut self,
        step: &mut Step<'_>,
        dev_eui: Eui64,
        content: Content<'_>,
        candidates: Vec<Candidate>,
    ) -> Result<(), NoWay> {
        let device = self.devices.get_mut(&dev_eui).ok_or(NoWay::Nobody)?;
        let (len, has_port) = content.size();
        let (usable, short): (Vec<Candidate>, Vec<Candidate>) =
            candidates.into_iter().partition(|c| c.max_payload >= len);
        let frame_len = HEADER_LEN + len + usize::from(has_port);
        let mut ways = schedule::choose(&self.gateways, Some(device.config.estate), step.now, usable, frame_len)?;
        if let Some(rx1) = short.iter().find(|c| c.window == Window::Rx1) {
            ways.why_rx2 = WhyRx2::TooLong { len, max: rx1.max_payload };
        }
        let cargo = device.write(step, content).ok_or(NoWay::Nobody)?;
        self.transmit(step, cargo, ways);
        Ok(())
    }

    /// Nobody can send: the downlink waits on, and what is due beside it is reported missing.
    fn no_answer(
        &mut self,
        step: &mut Step<'_>,
        dev_eui: Eui64,
        item: Option<&OutboxItem>,
        (owed, acknowledge): (Option<&'static str>, bool),
        why: &NoWay,
    ) {
        let Some(device) = self.devices.get_mut(&dev_eui) else { return };
        if let Some(item) = item {
            let wait = match why {
                NoWay::Airtime { sub_band, until } => Wait::Airtime { sub_band, until: *until },
                other => Wait::again(&label(other), Class::A),
            };
            device.outbox.waits(step, item.id, wait);
        }
        if let Some(owed) = owed {
            let stage = DownlinkStage::Failed(format!("no {owed} could be sent: {}", label(why)));
            let event = DownlinkEvent { acknowledges: acknowledge, ..DownlinkEvent::off_air(dev_eui, stage) };
            step.publish(Event::Downlink(Box::new(event)));
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

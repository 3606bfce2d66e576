//! What happened to devices and frames, for people and programs.

use lorawan::{DevAddr, Eui64};

use crate::downlink::item::OutboxId;
use crate::io::frame::{Radio, Reception};
use crate::io::transmission::{Transmission, WhyRx2};
use crate::notice::Notice;
use crate::time::Timestamp;
use crate::uplink::refusal::Refusal;

/// An event.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A data frame was accepted.
    Uplink(Box<UplinkEvent>),
    /// A join was accepted.
    Joined(JoinedEvent),
    /// A frame was refused, with the reason.
    Refused(RefusedEvent),
    /// A downlink moved on.
    Downlink(Box<DownlinkEvent>),
    /// A frame of another estate's device was heard by gateways that are not open to it.
    Discarded {
        /// How many of them.
        copies: usize,
    },
    /// A copy of a frame was not looked at.
    Dropped {
        /// Why.
        why: Dropped,
        /// The gateway that heard it.
        gateway: Eui64,
    },
    /// A notice about a device.
    Notice {
        /// The device.
        dev_eui: Eui64,
        /// When.
        at: Timestamp,
        /// What.
        notice: Box<Notice>,
    },
}

/// Why a copy of a frame was not looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dropped {
    /// Its gateway is not registered with the engine: it was removed while the frame was on its way.
    UnknownGateway,
    /// More frames are being collected than there is room for.
    TooManyFrames,
    /// More gateways have heard the frame than are kept of one.
    TooManyCopies,
}

impl Dropped {
    /// A stable code for programs.
    pub const fn code(self) -> &'static str {
        match self {
            Dropped::UnknownGateway => "gateway_removed",
            Dropped::TooManyFrames => "too_many_frames",
            Dropped::TooManyCopies => "too_many_copies",
        }
    }
}

impl std::fmt::Display for Dropped {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Dropped::UnknownGateway => "a frame whose gateway was removed while it was on its way",
            Dropped::TooManyFrames => "a frame for which there was no room among those being collected",
            Dropped::TooManyCopies => "one more copy of a frame that 64 other gateways had heard",
        })
    }
}

/// A frame as it was heard.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardFrame {
    /// Its bytes.
    pub phy_payload: Vec<u8>,
    /// How it was sent.
    pub radio: Radio,
    /// Time on air.
    pub airtime_us: u64,
    /// Who heard it, best first.
    pub heard_by: Vec<Reception>,
}

/// An accepted data frame.
#[derive(Debug, Clone, PartialEq)]
pub struct UplinkEvent {
    /// The device.
    pub dev_eui: Eui64,
    /// Its address.
    pub dev_addr: DevAddr,
    /// The full counter.
    pub counter: u32,
    /// The port, if there was one.
    pub port: Option<u8>,
    /// Whether the device wanted an acknowledgement.
    pub confirmed: bool,
    /// Whether the device lets the network choose its data rate.
    pub adr: bool,
    /// The payload in the clear.
    pub payload: Vec<u8>,
    /// MAC commands, from the header or the payload of FPort 0, in the clear.
    pub mac_commands: Vec<u8>,
    /// The frame as heard.
    pub frame: HeardFrame,
    /// Data rate index in the device's region, if it is one of the region's.
    pub data_rate: Option<u8>,
    /// What the device has been told to transmit with (EIRP), in dBm; all that its region allows if nothing was said.
    pub power_dbm: Option<f32>,
    /// Problems that did not prevent its acceptance.
    pub warnings: Vec<String>,
}

/// An accepted join.
#[derive(Debug, Clone, PartialEq)]
pub struct JoinedEvent {
    /// The device.
    pub dev_eui: Eui64,
    /// The address it was given.
    pub dev_addr: DevAddr,
    /// The DevNonce it used, or a rejoin-request's RJcount.
    pub dev_nonce: u16,
    /// Rejoin type, if it was a rejoin-request.
    pub rejoin: Option<u8>,
    /// The request as heard.
    pub frame: HeardFrame,
    /// Whether a join-accept could be scheduled, and if not, why.
    pub unanswered: Option<String>,
}

/// A frame that was not accepted.
#[derive(Debug, Clone, PartialEq)]
pub struct RefusedEvent {
    /// The registered device it concerns, where one can be named.
    pub dev_eui: Option<Eui64>,
    /// Why.
    pub reason: Refusal,
    /// The frame as heard.
    pub frame: HeardFrame,
}

/// A step in a downlink's life.
#[derive(Debug, Clone, PartialEq)]
pub struct DownlinkEvent {
    /// The device.
    pub dev_eui: Eui64,
    /// What happened.
    pub stage: DownlinkStage,
    /// The outbox item it carries; a bare acknowledgement or a join-accept carries none.
    pub outbox_id: Option<OutboxId>,
    /// What the item's sender calls it.
    pub reference: Option<String>,
    /// The frame counter; a join-accept has none.
    pub counter: Option<u32>,
    /// Port and payload, where it carries some.
    pub data: Option<(u8, Vec<u8>)>,
    /// Whether the frame acknowledges a confirmed uplink.
    pub acknowledges: bool,
    /// MAC commands in its header.
    pub mac_commands: Vec<u8>,
    /// Gateway, window, radio and airtime of the transmission, where there was one.
    pub sent: Option<SentBy>,
}

impl DownlinkEvent {
    /// A step that is not a transmission; the caller adds the details.
    pub(crate) fn off_air(dev_eui: Eui64, stage: DownlinkStage) -> Self {
        Self {
            dev_eui,
            stage,
            outbox_id: None,
            reference: None,
            counter: None,
            data: None,
            acknowledges: false,
            mac_commands: Vec::new(),
            sent: None,
        }
    }
}

/// A downlink's step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DownlinkStage {
    /// A gateway took it to send.
    Sent,
    /// The device acknowledged it.
    Acknowledged,
    /// It did not go out, or was not acknowledged, and waits in the outbox again.
    Returned(String),
    /// It is given up.
    Failed(String),
}

/// Where and how a downlink went out.
#[derive(Debug, Clone, PartialEq)]
pub struct SentBy {
    /// As it was handed to the gateway.
    pub transmission: Transmission,
    /// Why it is RX2 and not RX1.
    pub why_rx2: Option<WhyRx2>,
}

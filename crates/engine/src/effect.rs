//! What goes into an engine and what comes out.

use lorawan::{DevAddr, Eui64, Modulation};
use serde::{Deserialize, Serialize};

use crate::command::Command;
use crate::device::Nonces;
use crate::explain::Notice;
use crate::ledger::Transmitter;
use crate::outbox::{OutboxId, OutboxState};
use crate::profile::Class;
use crate::refusal::Refusal;
use crate::schedule::{When, Window};
use crate::session::{Counters, Session};
use crate::settings::Settings;
use crate::time::Timestamp;

/// What happened.
#[derive(Debug, Clone)]
pub enum Input {
    /// A gateway heard a frame.
    FrameHeard(FrameHeard),
    /// A gateway says what became of a transmission.
    TxReport {
        /// Which one.
        transmission: TransmissionId,
        /// Taken to be sent, or why not.
        result: Result<(), TxFailure>,
    },
    /// Someone wants something changed.
    Command(Command),
    /// A deadline has come.
    Tick,
}

/// A frame as one gateway heard it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FrameHeard {
    /// The frame.
    pub phy_payload: Vec<u8>,
    /// How it was heard.
    pub reception: Reception,
}

/// One gateway's reception of a frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Reception {
    /// The gateway.
    pub gateway: Eui64,
    /// When the copy reached the service. Of frames handed in one after another, none was heard before the one
    /// that came before it.
    pub heard_at: Timestamp,
    /// The gateway's own clock at the end of reception, in microseconds; it wraps.
    pub clock_us: u32,
    /// Whether the gateway knows GPS time.
    pub has_gps: bool,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
    /// Signal strength.
    pub rssi_dbm: f32,
    /// Signal-to-noise ratio; FSK has none.
    pub snr_db: Option<f32>,
}

impl Reception {
    /// What copies are compared by: SNR, or strength above a quiet receiver's noise where there is
    /// none.
    pub(crate) fn quality(&self) -> f32 {
        self.snr_db.unwrap_or(self.rssi_dbm + 117.0)
    }
}

/// What is to be done, in this order.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// Make this durable before any later effect takes place.
    Persist(Change),
    /// Hand this frame to its gateway.
    Transmit(Transmission),
    /// Tell whoever listens.
    Publish(Event),
}

/// State that an engine needs back after a restart.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// A session was agreed upon. It is kept beside the running one until the first uplink under it;
    /// `begun`, it takes its place at once.
    Session {
        /// The device.
        dev_eui: Eui64,
        /// The new session.
        session: Box<Session>,
        /// Whether it begins at once.
        begun: bool,
    },
    /// Nonces that are spent.
    Nonces {
        /// The device.
        dev_eui: Eui64,
        /// The DevNonce that may not come again, if there was one.
        dev_nonce: Option<u16>,
        /// All of them as they now are.
        nonces: Nonces,
    },
    /// The first uplink under the session agreed upon last: it takes the place of the one before.
    Began {
        /// The device.
        dev_eui: Eui64,
        /// Its counters.
        counters: Counters,
    },
    /// Its sessions have ended.
    Ended {
        /// The device.
        dev_eui: Eui64,
        /// Whether its DevNonces are forgotten too.
        nonces: bool,
    },
    /// The running session's counters moved.
    Counters {
        /// The device.
        dev_eui: Eui64,
        /// As they now are.
        counters: Counters,
    },
    /// What the device is set to has changed.
    Settings {
        /// The device.
        dev_eui: Eui64,
        /// As they now are.
        settings: Box<Settings>,
    },
    /// A downlink in the outbox moved on.
    Outbox {
        /// The device.
        dev_eui: Eui64,
        /// Which one.
        id: OutboxId,
        /// Where it stands now.
        state: OutboxState,
        /// Transmissions tried.
        attempts: u8,
        /// Its place in line.
        place: i64,
    },
    /// Other gateways hear the device best, or it listens otherwise: how to reach it before it sends again.
    Near {
        /// The device.
        dev_eui: Eui64,
        /// When it listens.
        class: Class,
        /// Gateways and how well they hear it, best first.
        near: Vec<(Eui64, f32)>,
    },
    /// A group's counter moved.
    GroupCounter {
        /// The group.
        group: Eui64,
        /// Its next counter.
        next_down: u32,
    },
    /// A minute of a transmitter's account, as a whole.
    Airtime {
        /// Whose.
        transmitter: Transmitter,
        /// The sub-band's name.
        sub_band: &'static str,
        /// The minute, counted from 1970.
        minute: i64,
        /// Airtime in that minute so far.
        airtime_us: u64,
        /// Frames in that minute so far.
        frames: u32,
    },
}

/// Names one attempt to transmit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TransmissionId(pub u64);

/// A frame for one gateway to send.
#[derive(Debug, Clone, PartialEq)]
pub struct Transmission {
    /// To be named in the report.
    pub id: TransmissionId,
    /// The device or group it is for; a beacon is for nobody alone.
    pub towards: Option<Eui64>,
    /// Who sends.
    pub gateway: Eui64,
    /// When to begin, in the gateway's terms.
    pub when: When,
    /// The same moment by the service's clock.
    pub at: Timestamp,
    /// What it is for.
    pub window: Window,
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
    /// Power at the antenna connector: the lawful EIRP less the antenna's gain.
    pub power_dbm: i32,
    /// Time on air.
    pub airtime_us: u64,
    /// The frame.
    pub phy_payload: Vec<u8>,
}

/// Why a gateway did not send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TxFailure {
    /// The frame reached the gateway too late for its window.
    TooLate,
    /// The service itself did not hand it over in time, so that no gateway had it.
    NotHandedOver,
    /// The frame lies too far ahead for the gateway.
    TooEarly,
    /// The gateway sends another frame at that time.
    CollisionPacket,
    /// The gateway sends a beacon at that time.
    CollisionBeacon,
    /// The gateway cannot send on that frequency.
    Frequency,
    /// The gateway cannot send at that power.
    Power,
    /// The gateway has lost GPS time.
    GpsUnlocked,
    /// Another reason, in the gateway's word.
    Refused(String),
    /// The gateway has no open way down.
    Unreachable,
    /// No report came.
    NoReport,
}

impl std::fmt::Display for TxFailure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            TxFailure::TooLate => f.write_str("it came too late for its window"),
            TxFailure::NotHandedOver => f.write_str("the service did not hand it to the gateway in time"),
            TxFailure::TooEarly => f.write_str("the gateway found it too early to take"),
            TxFailure::CollisionPacket => f.write_str("the gateway sends another frame at that time"),
            TxFailure::CollisionBeacon => f.write_str("the gateway sends a beacon at that time"),
            TxFailure::Frequency => f.write_str("the gateway cannot send on that frequency"),
            TxFailure::Power => f.write_str("the gateway cannot send at that power"),
            TxFailure::GpsUnlocked => f.write_str("the gateway has lost GPS time"),
            TxFailure::Refused(word) => write!(f, "the gateway refused: {word}"),
            TxFailure::Unreachable => f.write_str("the gateway cannot be reached: it has no open way down"),
            TxFailure::NoReport => f.write_str("the gateway did not report whether it sent the frame"),
        }
    }
}

/// Frequency and modulation of a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Radio {
    /// Centre frequency.
    pub frequency_hz: u32,
    /// Modulation.
    pub modulation: Modulation,
}

/// Something worth telling.
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
    /// Something else worth knowing about a device.
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
    /// A stable word for programs.
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
    pub phy_payload: Vec<u8>,
    /// How it was sent.
    pub radio: Radio,
    /// Data rate index in the device's region, if it is one of the region's.
    pub data_rate: Option<u8>,
    /// Time on air.
    pub airtime_us: u64,
    /// Who heard it, best first.
    pub heard_by: Vec<Reception>,
    /// Things that are not right but did not stand in the way.
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
    pub phy_payload: Vec<u8>,
    /// How the request was sent.
    pub radio: Radio,
    /// Time on air of the request.
    pub airtime_us: u64,
    /// Who heard it, best first.
    pub heard_by: Vec<Reception>,
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
    pub phy_payload: Vec<u8>,
    /// How it was sent.
    pub radio: Radio,
    /// Time on air.
    pub airtime_us: u64,
    /// Who heard it, best first.
    pub heard_by: Vec<Reception>,
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
    /// A step that is no transmission; what it concerns is for the caller to add.
    pub(crate) fn off_air(dev_eui: Eui64, stage: DownlinkStage) -> Self {
        Self {
            dev_eui,
            stage,
            outbox_id: None,
            counter: None,
            data: None,
            acknowledges: false,
            mac_commands: Vec::new(),
            sent: None,
        }
    }
}

/// Where and how a downlink went out.
pub type SentBy = crate::downlink::Sent;

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

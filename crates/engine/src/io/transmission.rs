//! Frames for gateways to send, and why one was not sent.

use lorawan::{Eui64, Modulation};

use crate::io::frame::Radio;
use crate::time::Timestamp;

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

impl Transmission {
    /// How it is sent.
    pub const fn radio(&self) -> Radio {
        Radio { frequency_hz: self.frequency_hz, modulation: self.modulation }
    }
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

/// What a transmission is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Window {
    /// The first window after an uplink.
    Rx1,
    /// The second.
    Rx2,
    /// A slot between two beacons.
    PingSlot,
    /// A class C device's window that is always open.
    ClassC,
    /// Everyone who looks for a beacon.
    Beacon,
}

impl Window {
    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            Window::Rx1 => "RX1",
            Window::Rx2 => "RX2",
            Window::PingSlot => "ping slot",
            Window::ClassC => "class C",
            Window::Beacon => "beacon",
        }
    }
}

/// A moment in a gateway's own terms.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum When {
    /// Its clock in microseconds, which wraps.
    Clock(u32),
    /// As soon as it has the frame.
    AtOnce,
    /// Microseconds since the GPS epoch.
    Gps(i64),
}

/// Why RX2 was taken, although RX1 comes first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum WhyRx2 {
    /// RX1 would use up more than twice as much of the airtime that is left.
    Cheaper {
        /// Share of the airtime left that RX1 would take.
        rx1_share: f64,
        /// Share that RX2 takes.
        rx2_share: f64,
    },
    /// The frame does not fit into RX1.
    TooLong {
        /// Bytes to be sent.
        len: usize,
        /// Bytes that RX1's data rate allows.
        max: usize,
    },
    /// RX1 opened too soon for the frame to reach a gateway in time.
    TooLate,
    /// The gateways that hear the device send something else during RX1.
    Busy,
    /// RX1's sub-band has no airtime left.
    Airtime {
        /// The sub-band.
        sub_band: &'static str,
    },
    /// A gateway did not send it in RX1.
    Refused,
    /// There is no RX1 after this uplink: its frequency or data rate has none.
    NoRx1,
}

impl std::fmt::Display for WhyRx2 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            WhyRx2::Cheaper { rx1_share, rx2_share } => write!(
                f,
                "RX1 would take {:.2} % of the airtime left in its sub-band, RX2 takes {:.2} %",
                rx1_share * 100.0,
                rx2_share * 100.0
            ),
            WhyRx2::TooLong { len, max } => write!(f, "{len} bytes do not fit into RX1, which takes {max}"),
            WhyRx2::TooLate => f.write_str("RX1 was too near for the frame to reach a gateway in time"),
            WhyRx2::Busy => f.write_str("every gateway that hears the device sends something else during RX1"),
            WhyRx2::Airtime { sub_band } => write!(f, "sub-band {sub_band} of RX1 has no airtime left"),
            WhyRx2::Refused => f.write_str("the gateway did not send it in RX1"),
            WhyRx2::NoRx1 => f.write_str("there is no RX1 after an uplink on this frequency and data rate"),
        }
    }
}

//! One waiting downlink: its name, its place in the queue, its state, and what it waits for.

use std::fmt;

use crate::device::profile::Class;
use crate::time::{Dated, Timestamp};

/// Names a downlink in an outbox.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct OutboxId(pub u128);

/// A waiting downlink's place in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Before all others.
    First,
    /// After all others.
    Last,
    /// Before this one.
    Before(OutboxId),
}

/// Where a downlink stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OutboxState {
    /// In the outbox.
    Waiting(Wait),
    /// Handed to a gateway.
    UnderWay,
    /// Sent with this counter; the device has yet to acknowledge it.
    AwaitingAck(u32),
    /// A gateway sent it. Done, as no acknowledgement was asked for.
    Sent,
    /// The device acknowledged it. Done.
    Acknowledged,
    /// Given up, with the reason.
    Failed(String),
    /// Taken out before it was sent.
    Cancelled,
}

impl OutboxState {
    /// Whether nothing more will happen.
    pub const fn is_final(&self) -> bool {
        matches!(self, Self::Sent | Self::Acknowledged | Self::Failed(_) | Self::Cancelled)
    }
}

/// What a waiting downlink waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wait {
    /// The device's join: there is no session to send it under.
    Join,
    /// The device's next uplink: a class A device listens only then (TS001 §3.3).
    NextUplink,
    /// A data rate at which the payload fits.
    SmallerThan {
        /// Bytes to be sent.
        len: usize,
        /// Bytes allowed in the largest window of the last uplink.
        max: usize,
    },
    /// Airtime: the sub-band's hourly allowance is used up at every gateway that could send.
    Airtime {
        /// The sub-band.
        sub_band: &'static str,
        /// When there is enough again.
        until: Timestamp,
    },
    /// The fleet's limit on downlinks a day is reached.
    Policy {
        /// Downlinks allowed in 24 hours.
        limit: u32,
        /// When the first of them no longer counts.
        until: Timestamp,
    },
    /// The device's next ping slot.
    PingSlot,
    /// A gateway that hears the device and can send: at once for class C.
    Gateway,
    /// The last try did not work out, for this reason, and another follows.
    Again(String),
}

impl Wait {
    /// What a downlink waits for that has just been added.
    pub const fn first(joined: bool, class: Class) -> Self {
        match class {
            _ if !joined => Wait::Join,
            Class::A => Wait::NextUplink,
            Class::B => Wait::PingSlot,
            Class::C => Wait::Gateway,
        }
    }

    /// Another try, with the reason why the last one did not work out.
    pub(crate) fn again(why: &str, class: Class) -> Self {
        let when = match class {
            Class::A => "after the device's next uplink",
            Class::B => "in a later ping slot",
            Class::C => "soon",
        };
        Wait::Again(format!("{why}; tried again {when}"))
    }
}

impl fmt::Display for Wait {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wait::Join => f.write_str("waits for the device to join: there is no session to send it under"),
            Wait::NextUplink => f.write_str("waits for the device's next uplink: a class A device listens only then"),
            Wait::SmallerThan { len, max } => write!(
                f,
                "{len} bytes do not fit: the data rate of the last uplink allows {max}; waits for a faster one"
            ),
            Wait::Airtime { sub_band, until } => write!(
                f,
                "waits for airtime: the allowance of sub-band {sub_band} is used up at every gateway that hears the device, until {until}"
            ),
            Wait::Policy { limit, until } => {
                write!(f, "waits because of the fleet's limit of {limit} downlinks a day, until {}", Dated(*until))
            }
            Wait::PingSlot => f.write_str("waits for the device's next ping slot"),
            Wait::Gateway => f.write_str("waits for a gateway that hears the device and is free to send"),
            Wait::Again(why) => f.write_str(why),
        }
    }
}

/// A downlink to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutboxItem {
    /// Its name.
    pub id: OutboxId,
    /// FPort, 1 to 223.
    pub port: u8,
    /// The payload in the clear.
    pub payload: Vec<u8>,
    /// Whether the device is to acknowledge it.
    pub confirmed: bool,
    /// Transmissions tried so far.
    pub attempts: u8,
    /// Transmissions allowed; `None` leaves it to the device's radio profile.
    pub max_attempts: Option<u8>,
    /// When it is given up, if it has not been sent by then.
    pub expires_at: Option<Timestamp>,
    /// Its place in the queue: lower numbers go first. There may be gaps.
    pub place: i64,
    /// What its sender calls it.
    pub reference: Option<String>,
    /// Its state.
    pub state: OutboxState,
}

impl OutboxItem {
    /// A new item at the end of the queue: unconfirmed, without a limit of attempts and without an expiry.
    pub fn waiting(id: OutboxId, (port, payload): (u8, Vec<u8>), wait: Wait, now: Timestamp) -> Self {
        Self {
            id,
            port,
            payload,
            confirmed: false,
            attempts: 0,
            max_attempts: None,
            expires_at: None,
            place: now.0,
            reference: None,
            state: OutboxState::Waiting(wait),
        }
    }
}

//! Frames as they stand on air.
//!
//! Each unit has a *view*, which checks its lengths once and then reads fields without panicking,
//! and a *repr*, plain values that know how to write themselves. [`Frame::parse`] tells the units
//! apart.

mod cf_list;
mod data;
mod data_1_1;
mod join_accept;
mod join_request;
mod rejoin_request;

pub use cf_list::CfList;
pub use data::{DataRepr, DataView, DownlinkFlags, FPort, UplinkFlags};
pub use data_1_1::{NetworkKeys11, UplinkMic};
pub use join_accept::{Answered, JoinAccept, JoinAcceptError, JoinKind};
pub use join_request::{JoinRequestRepr, JoinRequestView};
pub use rejoin_request::{RejoinRequestRepr, RejoinRequestView, RejoinTo};

use thiserror::Error;

use crate::Direction;

/// The longest PHYPayload a LoRa modem carries in one packet.
pub const MAX_PHY_PAYLOAD: usize = 255;

pub(crate) const MHDR_LEN: usize = 1;
pub(crate) const MIC_LEN: usize = 4;

/// Why bytes are not a LoRaWAN frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum FrameError {
    /// Fewer bytes than the shortest frame of that type.
    #[error("{len} bytes are too few for a {kind}: at least {needed} are needed")]
    TooShort {
        /// What was read.
        kind: &'static str,
        /// Bytes there.
        len: usize,
        /// Bytes needed.
        needed: usize,
    },
    /// A frame of a fixed length with another length.
    #[error("{len} bytes are not the length of a {kind}")]
    WrongLength {
        /// What was read.
        kind: &'static str,
        /// Bytes there.
        len: usize,
    },
    /// More bytes than a LoRa packet carries.
    #[error("{len} bytes are more than a LoRa packet carries (255)")]
    TooLong {
        /// Bytes there.
        len: usize,
    },
    /// The major version is not LoRaWAN R1 (TS001 §4.2.2).
    #[error("major version {0} is not LoRaWAN R1 (0)")]
    UnknownMajor(u8),
    /// Another type of frame than the one to be read.
    #[error("this is a {}", .0.name())]
    OtherType(MType),
    /// A rejoin type that TS001-1.1 §6.2.4 does not define.
    #[error("rejoin type {0} is not defined: it is 0, 1 or 2")]
    RejoinType(u8),
    /// FOpts and a MAC-only FRMPayload in one frame (TS001 §4.3.1.6).
    #[error("MAC commands stand both in FOpts and in FRMPayload on FPort 0, which is not allowed")]
    MacCommandsTwice,
}

/// The message type, the top three bits of the MHDR (TS001 §4.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum MType {
    /// Join-request.
    JoinRequest = 0,
    /// Join-accept.
    JoinAccept = 1,
    /// Unconfirmed data up.
    UnconfirmedUp = 2,
    /// Unconfirmed data down.
    UnconfirmedDown = 3,
    /// Confirmed data up.
    ConfirmedUp = 4,
    /// Confirmed data down.
    ConfirmedDown = 5,
    /// Rejoin-request (1.1), reserved in 1.0.x.
    RejoinRequest = 6,
    /// Proprietary.
    Proprietary = 7,
}

impl MType {
    /// Reads an MHDR and checks its major version.
    pub fn from_mhdr(mhdr: u8) -> Result<Self, FrameError> {
        match mhdr & 0x03 {
            0 => Ok(Self::of_bits(mhdr)),
            major => Err(FrameError::UnknownMajor(major)),
        }
    }

    /// The type in an MHDR, whatever its major version.
    pub(crate) const fn of_bits(mhdr: u8) -> Self {
        match mhdr >> 5 {
            0 => MType::JoinRequest,
            1 => MType::JoinAccept,
            2 => MType::UnconfirmedUp,
            3 => MType::UnconfirmedDown,
            4 => MType::ConfirmedUp,
            5 => MType::ConfirmedDown,
            6 => MType::RejoinRequest,
            _ => MType::Proprietary,
        }
    }

    /// As written everywhere.
    pub const fn name(self) -> &'static str {
        match self {
            MType::JoinRequest => "join-request",
            MType::JoinAccept => "join-accept",
            MType::UnconfirmedUp => "unconfirmed data up",
            MType::UnconfirmedDown => "unconfirmed data down",
            MType::ConfirmedUp => "confirmed data up",
            MType::ConfirmedDown => "confirmed data down",
            MType::RejoinRequest => "rejoin-request",
            MType::Proprietary => "proprietary frame",
        }
    }

    /// The MHDR of this type with major version R1.
    pub const fn mhdr(self) -> u8 {
        (self as u8) << 5
    }

    pub(crate) const fn data(direction: Direction, confirmed: bool) -> Self {
        match (direction, confirmed) {
            (Direction::Up, false) => MType::UnconfirmedUp,
            (Direction::Up, true) => MType::ConfirmedUp,
            (Direction::Down, false) => MType::UnconfirmedDown,
            (Direction::Down, true) => MType::ConfirmedDown,
        }
    }
}

/// A frame, told apart by its type. A join-accept stays sealed until someone with the key opens it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Frame<'a> {
    /// A join-request.
    JoinRequest(JoinRequestView<'a>),
    /// A sealed join-accept; see [`JoinAccept::open`].
    JoinAccept(&'a [u8]),
    /// A data frame in either direction.
    Data(DataView<'a>),
    /// A rejoin-request (1.1).
    RejoinRequest(RejoinRequestView<'a>),
    /// A proprietary frame: all bytes after the MHDR, whose meaning only its maker knows (TS001 §4.2.1).
    Proprietary(&'a [u8]),
}

impl<'a> Frame<'a> {
    /// Reads a PHYPayload.
    pub fn parse(phy_payload: &'a [u8]) -> Result<Self, FrameError> {
        let Some(&mhdr) = phy_payload.first() else {
            return Err(FrameError::TooShort { kind: "frame", len: 0, needed: MHDR_LEN });
        };
        if phy_payload.len() > MAX_PHY_PAYLOAD {
            return Err(FrameError::TooLong { len: phy_payload.len() });
        }
        match MType::from_mhdr(mhdr)? {
            MType::JoinRequest => JoinRequestView::new_checked(phy_payload).map(Frame::JoinRequest),
            MType::JoinAccept => JoinAccept::check_len(phy_payload).map(|()| Frame::JoinAccept(phy_payload)),
            MType::RejoinRequest => RejoinRequestView::new_checked(phy_payload).map(Frame::RejoinRequest),
            MType::Proprietary => Ok(Frame::Proprietary(&phy_payload[MHDR_LEN..])),
            _ => DataView::new_checked(phy_payload).map(Frame::Data),
        }
    }
}

/// A field of 24 bits at `at`, least significant byte first.
pub(crate) fn u24(bytes: &[u8], at: usize) -> u32 {
    let [a, b, c] = array(bytes, at);
    u32::from_le_bytes([a, b, c, 0])
}

/// A frequency at `at`, as CFLists and MAC commands carry it: 24 bits, in steps of 100 Hz.
pub(crate) fn frequency_hz(bytes: &[u8], at: usize) -> u32 {
    u24(bytes, at) * 100
}

/// The other way; what lies above 24 bits or between the steps is cut off.
pub(crate) fn frequency_bytes(hz: u32) -> [u8; 3] {
    let [a, b, c, _] = (hz / 100).to_le_bytes();
    [a, b, c]
}

/// `N` bytes at `at`; the views have checked their lengths, so a miss reads as zeros.
pub(crate) fn array<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    bytes.get(at..).and_then(|rest| rest.first_chunk::<N>()).copied().unwrap_or([0; N])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_say_what_was_found() {
        assert_eq!(Frame::parse(&[]), Err(FrameError::TooShort { kind: "frame", len: 0, needed: 1 }));
        assert_eq!(Frame::parse(&[0x01; 23]), Err(FrameError::UnknownMajor(1)));
        assert_eq!(Frame::parse(&[0xe0; 12]), Ok(Frame::Proprietary(&[0xe0; 11])));
        assert_eq!(Frame::parse(&[0x00; 22]), Err(FrameError::WrongLength { kind: "join-request", len: 22 }));
        assert_eq!(Frame::parse(&[0x20; 20]), Err(FrameError::WrongLength { kind: "join-accept", len: 20 }));
        assert_eq!(Frame::parse(&[0x40; 11]), Err(FrameError::TooShort { kind: "data frame", len: 11, needed: 12 }));
        assert_eq!(Frame::parse(&[0x40; 256]), Err(FrameError::TooLong { len: 256 }));
    }
}

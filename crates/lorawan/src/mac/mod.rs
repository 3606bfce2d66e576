//! MAC commands in both directions (TS001 §5, and §14, §18 of TS001-1.1 for classes B and C).
//!
//! Commands stand one behind the other in FOpts or, on FPort 0, in FRMPayload. A command has no length
//! of its own on air: a reader that does not know its identifier cannot tell where the next one begins. So
//! reading ends at the first unknown or truncated command, and what was read before it stays good.

mod describe;
mod down;
mod fields;
mod up;

pub(crate) use describe::Mhz;
pub use down::{DownCommand, ForceRejoin, LinkAdr, NewChannel, RxParamSetup, TxParamSetup};
pub use fields::{Battery, DeviceClass};
pub use up::UpCommand;

use thiserror::Error;

use crate::{Direction, MacVersion};

/// A MAC command's identifier. What it means beyond its name depends on the direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[repr(u8)]
pub enum Cid {
    /// ResetInd, ResetConf.
    Reset = 0x01,
    /// LinkCheckReq, LinkCheckAns.
    LinkCheck = 0x02,
    /// LinkADRReq, LinkADRAns.
    LinkAdr = 0x03,
    /// DutyCycleReq, DutyCycleAns.
    DutyCycle = 0x04,
    /// RXParamSetupReq, RXParamSetupAns.
    RxParamSetup = 0x05,
    /// DevStatusReq, DevStatusAns.
    DevStatus = 0x06,
    /// NewChannelReq, NewChannelAns.
    NewChannel = 0x07,
    /// RXTimingSetupReq, RXTimingSetupAns.
    RxTimingSetup = 0x08,
    /// TxParamSetupReq, TxParamSetupAns.
    TxParamSetup = 0x09,
    /// DlChannelReq, DlChannelAns.
    DlChannel = 0x0a,
    /// RekeyInd, RekeyConf.
    Rekey = 0x0b,
    /// ADRParamSetupReq, ADRParamSetupAns.
    AdrParamSetup = 0x0c,
    /// DeviceTimeReq, DeviceTimeAns.
    DeviceTime = 0x0d,
    /// ForceRejoinReq.
    ForceRejoin = 0x0e,
    /// RejoinParamSetupReq, RejoinParamSetupAns.
    RejoinParamSetup = 0x0f,
    /// PingSlotInfoReq, PingSlotInfoAns.
    PingSlotInfo = 0x10,
    /// PingSlotChannelReq, PingSlotChannelAns.
    PingSlotChannel = 0x11,
    /// BeaconTimingReq, BeaconTimingAns; deprecated since 1.0.3 in favour of DeviceTime.
    BeaconTiming = 0x12,
    /// BeaconFreqReq, BeaconFreqAns.
    BeaconFreq = 0x13,
    /// DeviceModeInd, DeviceModeConf.
    DeviceMode = 0x20,
}

impl Cid {
    /// Every command, by identifier.
    pub const ALL: [Self; 20] = [
        Self::Reset,
        Self::LinkCheck,
        Self::LinkAdr,
        Self::DutyCycle,
        Self::RxParamSetup,
        Self::DevStatus,
        Self::NewChannel,
        Self::RxTimingSetup,
        Self::TxParamSetup,
        Self::DlChannel,
        Self::Rekey,
        Self::AdrParamSetup,
        Self::DeviceTime,
        Self::ForceRejoin,
        Self::RejoinParamSetup,
        Self::PingSlotInfo,
        Self::PingSlotChannel,
        Self::BeaconTiming,
        Self::BeaconFreq,
        Self::DeviceMode,
    ];

    /// From the byte on air.
    pub fn from_byte(byte: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|cid| *cid as u8 == byte)
    }

    /// The standard's names: of the uplink, and of the downlink command.
    pub const fn names(self) -> (&'static str, &'static str) {
        match self {
            Cid::Reset => ("ResetInd", "ResetConf"),
            Cid::LinkCheck => ("LinkCheckReq", "LinkCheckAns"),
            Cid::LinkAdr => ("LinkADRAns", "LinkADRReq"),
            Cid::DutyCycle => ("DutyCycleAns", "DutyCycleReq"),
            Cid::RxParamSetup => ("RXParamSetupAns", "RXParamSetupReq"),
            Cid::DevStatus => ("DevStatusAns", "DevStatusReq"),
            Cid::NewChannel => ("NewChannelAns", "NewChannelReq"),
            Cid::RxTimingSetup => ("RXTimingSetupAns", "RXTimingSetupReq"),
            Cid::TxParamSetup => ("TxParamSetupAns", "TxParamSetupReq"),
            Cid::DlChannel => ("DlChannelAns", "DlChannelReq"),
            Cid::Rekey => ("RekeyInd", "RekeyConf"),
            Cid::AdrParamSetup => ("ADRParamSetupAns", "ADRParamSetupReq"),
            Cid::DeviceTime => ("DeviceTimeReq", "DeviceTimeAns"),
            Cid::ForceRejoin => ("(none)", "ForceRejoinReq"),
            Cid::RejoinParamSetup => ("RejoinParamSetupAns", "RejoinParamSetupReq"),
            Cid::PingSlotInfo => ("PingSlotInfoReq", "PingSlotInfoAns"),
            Cid::PingSlotChannel => ("PingSlotChannelAns", "PingSlotChannelReq"),
            Cid::BeaconTiming => ("BeaconTimingReq", "BeaconTimingAns"),
            Cid::BeaconFreq => ("BeaconFreqAns", "BeaconFreqReq"),
            Cid::DeviceMode => ("DeviceModeInd", "DeviceModeConf"),
        }
    }

    /// The name in one direction.
    pub const fn name(self, direction: Direction) -> &'static str {
        match direction {
            Direction::Up => self.names().0,
            Direction::Down => self.names().1,
        }
    }

    /// Bytes that follow the identifier; `None` if there is no such command in this direction.
    pub const fn len(self, direction: Direction) -> Option<usize> {
        let (up, down) = match self {
            Cid::Reset | Cid::Rekey | Cid::DeviceMode => (1, 1),
            Cid::LinkCheck => (0, 2),
            Cid::LinkAdr | Cid::RxParamSetup | Cid::DlChannel | Cid::PingSlotChannel => (1, 4),
            Cid::DutyCycle | Cid::RxTimingSetup | Cid::TxParamSetup | Cid::AdrParamSetup => (0, 1),
            Cid::DevStatus => (2, 0),
            Cid::NewChannel => (1, 5),
            Cid::DeviceTime => (0, 5),
            Cid::RejoinParamSetup => (1, 1),
            Cid::PingSlotInfo => (1, 0),
            Cid::BeaconTiming => (0, 3),
            Cid::BeaconFreq => (1, 3),
            Cid::ForceRejoin => {
                return match direction {
                    Direction::Up => None,
                    Direction::Down => Some(2),
                };
            }
        };
        Some(match direction {
            Direction::Up => up,
            Direction::Down => down,
        })
    }

    /// Whether a device of this version knows the command. Class B's were experimental before 1.0.3
    /// and count as known only from then on.
    pub const fn known_in(self, version: MacVersion) -> bool {
        match self {
            Cid::LinkCheck
            | Cid::LinkAdr
            | Cid::DutyCycle
            | Cid::RxParamSetup
            | Cid::DevStatus
            | Cid::NewChannel
            | Cid::RxTimingSetup => true,
            Cid::TxParamSetup | Cid::DlChannel => !matches!(version, MacVersion::V1_0_0 | MacVersion::V1_0_1),
            Cid::DeviceTime | Cid::PingSlotInfo | Cid::PingSlotChannel | Cid::BeaconTiming | Cid::BeaconFreq => {
                !matches!(version, MacVersion::V1_0_0 | MacVersion::V1_0_1 | MacVersion::V1_0_2)
            }
            Cid::Reset
            | Cid::Rekey
            | Cid::AdrParamSetup
            | Cid::ForceRejoin
            | Cid::RejoinParamSetup
            | Cid::DeviceMode => matches!(version, MacVersion::V1_1),
        }
    }
}

/// Why reading ended before the bytes did. `at` counts from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum MacError {
    /// An identifier the standard does not define in this direction.
    #[error("byte {at}: 0x{cid:02x} is no MAC command; {rest} bytes behind it cannot be read")]
    Unknown {
        /// Where.
        at: usize,
        /// The identifier.
        cid: u8,
        /// Bytes after it.
        rest: usize,
    },
    /// An identifier that the standard leaves to makers (0x80 and above).
    #[error("byte {at}: 0x{cid:02x} is proprietary; {rest} bytes behind it cannot be read")]
    Proprietary {
        /// Where.
        at: usize,
        /// The identifier.
        cid: u8,
        /// Bytes after it.
        rest: usize,
    },
    /// The bytes end within a command.
    #[error("byte {at}: {name} needs {needed} bytes behind it, but the commands end after {there}")]
    Truncated {
        /// Where.
        at: usize,
        /// The command.
        name: &'static str,
        /// Bytes it has after its identifier.
        needed: usize,
        /// Bytes left.
        there: usize,
    },
}

impl MacError {
    /// Where reading ended.
    pub const fn at(&self) -> usize {
        match self {
            MacError::Unknown { at, .. } | MacError::Proprietary { at, .. } | MacError::Truncated { at, .. } => *at,
        }
    }
}

/// A direction's commands.
pub trait Command: Sized {
    /// Which way they travel.
    const DIRECTION: Direction;

    /// Reads the bytes behind the identifier, of which there are as many as [`Cid::len`] says.
    fn read(cid: Cid, body: &[u8]) -> Option<Self>;

    /// Its identifier.
    fn cid(&self) -> Cid;
}

/// A command and where it stood.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed<C> {
    /// Where its identifier stands, counted from 0.
    pub at: usize,
    /// Its bytes with the identifier.
    pub len: usize,
    /// The command.
    pub command: C,
}

/// Reads commands one by one, without allocating. After an error there is nothing more.
#[derive(Debug, Clone)]
pub struct Commands<'a, C> {
    bytes: &'a [u8],
    at: usize,
    of: std::marker::PhantomData<C>,
}

/// The commands in `bytes`, which must be in the clear.
pub fn commands<C: Command>(bytes: &[u8]) -> Commands<'_, C> {
    Commands { bytes, at: 0, of: std::marker::PhantomData }
}

impl<C: Command> Iterator for Commands<'_, C> {
    type Item = Result<Placed<C>, MacError>;

    fn next(&mut self) -> Option<Self::Item> {
        let at = self.at;
        let (cid, rest) = self.bytes.get(at..)?.split_first()?;
        // Until a command has been read, nothing behind it counts.
        self.at = self.bytes.len();
        let known = Cid::from_byte(*cid).and_then(|known| Some((known, known.len(C::DIRECTION)?)));
        let Some((known, needed)) = known else {
            let (cid, rest) = (*cid, rest.len());
            return Some(Err(match cid {
                0x80.. => MacError::Proprietary { at, cid, rest },
                _ => MacError::Unknown { at, cid, rest },
            }));
        };
        let name = known.name(C::DIRECTION);
        let Some(command) = rest.get(..needed).and_then(|body| C::read(known, body)) else {
            return Some(Err(MacError::Truncated { at, name, needed, there: rest.len() }));
        };
        self.at = at + 1 + needed;
        Some(Ok(Placed { at, len: 1 + needed, command }))
    }
}

//! LoRaWAN's link layer as plain values: wire formats, cryptography, regional parameters and
//! time on air.
//!
//! Everything else in the workspace stands on this crate, so it depends on nothing that moves: no
//! clock, no socket, no randomness. Bytes come in as slices and are looked at through checked views
//! that cannot panic; frames are made from small structs that know how to write themselves.
//!
//! Sources are cited beside each rule: *TS001* is the LoRaWAN link-layer specification (section
//! numbers are those of 1.0.4; those of 1.1 are cited as *TS001-1.1*), *RP002* the regional parameters
//! (RP002-1.0.4), *EN 300 220* the European rule for short-range devices.

pub mod airtime;
pub mod class_b;
pub mod counter;
pub mod crypto;
pub mod dissect;
pub mod gps_time;
mod id;
pub mod limits;
pub mod mac;
pub mod modulation;
pub mod region;
pub mod text;
mod version;
pub mod wire;

pub use id::{AesKey, DevAddr, Eui64, NetId};
pub use modulation::{Bandwidth, CodingRate, Modulation, SpreadingFactor};
pub use version::{MacVersion, NonceError, NonceRule, UnknownVersion};

/// Which way a data frame travels; it is part of every MIC and key stream (TS001 §4.3.3, §4.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Direction {
    /// From the end device to the network.
    Up,
    /// From the network to the end device.
    Down,
}

impl Direction {
    /// The `Dir` byte of the B0 and A blocks.
    pub(crate) const fn byte(self) -> u8 {
        match self {
            Direction::Up => 0,
            Direction::Down => 1,
        }
    }
}

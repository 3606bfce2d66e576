//! Fields that several commands share.

use std::fmt;

/// Flags of a status byte, lowest bit first.
pub(super) fn flags<const N: usize>(byte: u8) -> [bool; N] {
    std::array::from_fn(|bit| byte & (1 << bit) != 0)
}

/// The other way.
pub(super) fn flag_byte(flags: &[bool]) -> u8 {
    flags.iter().rev().fold(0, |byte, set| (byte << 1) | u8::from(*set))
}

/// What DevStatusAns says of the battery (TS001 §5.5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Battery {
    /// The device runs on external power.
    External,
    /// 1 (nearly empty) to 254 (full).
    Level(u8),
    /// The device could not measure it.
    Unknown,
}

impl Battery {
    pub(super) const fn from_byte(byte: u8) -> Self {
        match byte {
            0 => Battery::External,
            255 => Battery::Unknown,
            level => Battery::Level(level),
        }
    }

    pub(super) const fn byte(self) -> u8 {
        match self {
            Battery::External => 0,
            Battery::Level(level) => level,
            Battery::Unknown => 255,
        }
    }

    /// Charge in percent, where 1 is empty and 254 full.
    pub fn percent(self) -> Option<f64> {
        match self {
            Battery::Level(level) => Some(f64::from(level.saturating_sub(1)) * 100.0 / 253.0),
            _ => None,
        }
    }
}

impl fmt::Display for Battery {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.percent() {
            Some(percent) => write!(f, "battery {percent:.0} %"),
            None if *self == Battery::External => f.write_str("external power"),
            None => f.write_str("battery not measured"),
        }
    }
}

/// The class a device says it is in (TS001-1.1 §18.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum DeviceClass {
    /// Class A.
    A,
    /// Class C.
    C,
    /// A value the standard reserves.
    Reserved(u8),
}

impl DeviceClass {
    pub(super) const fn from_byte(byte: u8) -> Self {
        match byte {
            0 => DeviceClass::A,
            2 => DeviceClass::C,
            other => DeviceClass::Reserved(other),
        }
    }

    pub(super) const fn byte(self) -> u8 {
        match self {
            DeviceClass::A => 0,
            DeviceClass::C => 2,
            DeviceClass::Reserved(other) => other,
        }
    }
}

impl fmt::Display for DeviceClass {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DeviceClass::A => f.write_str("class A"),
            DeviceClass::C => f.write_str("class C"),
            DeviceClass::Reserved(value) => write!(f, "reserved class {value}"),
        }
    }
}

//! How a packet is modulated: LoRa by spreading factor, bandwidth and coding rate, or FSK by bit
//! rate.

use std::fmt;

use serde::{Deserialize, Serialize};

/// LoRa bandwidths LoRaWAN uses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Bandwidth {
    /// 125 kHz.
    Khz125,
    /// 250 kHz.
    Khz250,
    /// 500 kHz.
    Khz500,
}

impl Bandwidth {
    /// In kilohertz.
    pub const fn khz(self) -> u32 {
        match self {
            Bandwidth::Khz125 => 125,
            Bandwidth::Khz250 => 250,
            Bandwidth::Khz500 => 500,
        }
    }

    /// In hertz.
    pub const fn hz(self) -> u32 {
        self.khz() * 1000
    }

    /// From kilohertz, if it is one of the three.
    pub const fn from_khz(khz: u32) -> Option<Self> {
        match khz {
            125 => Some(Bandwidth::Khz125),
            250 => Some(Bandwidth::Khz250),
            500 => Some(Bandwidth::Khz500),
            _ => None,
        }
    }
}

/// A LoRa spreading factor, 5 to 12. The regions use 7 to 12.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "u8", into = "u8")]
pub struct SpreadingFactor(u8);

impl SpreadingFactor {
    /// Checks the range.
    pub const fn new(value: u8) -> Option<Self> {
        if matches!(value, 5..=12) { Some(Self(value)) } else { None }
    }

    /// The number.
    pub const fn value(self) -> u8 {
        self.0
    }

    /// The SNR a receiver needs to demodulate, in dB (SX1276 datasheet, rev. 7, table 13; for SF5
    /// and SF6 the SX1261/2 datasheet, rev. 1.2, table 6-1).
    pub fn required_snr_db(self) -> f64 {
        -2.5 - 2.5 * f64::from(self.0 - 5)
    }
}

impl TryFrom<u8> for SpreadingFactor {
    type Error = String;
    fn try_from(value: u8) -> Result<Self, String> {
        Self::new(value).ok_or_else(|| format!("spreading factor {value} is not one of 5 to 12"))
    }
}

impl From<SpreadingFactor> for u8 {
    fn from(value: SpreadingFactor) -> u8 {
        value.0
    }
}

/// LoRa forward error correction: 4 bits sent as 5 to 8.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[repr(u8)]
pub enum CodingRate {
    /// 4/5, what LoRaWAN uses (RP002 §4.1).
    Cr4_5 = 1,
    /// 4/6.
    Cr4_6 = 2,
    /// 4/7.
    Cr4_7 = 3,
    /// 4/8.
    Cr4_8 = 4,
}

/// Forward error correction of LR-FHSS payloads (RP002 §4.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum LrFhssCodingRate {
    /// 1/3.
    OneThird,
    /// 2/3.
    TwoThirds,
}

/// A packet's modulation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Modulation {
    /// LoRa.
    Lora {
        /// Spreading factor.
        spreading_factor: SpreadingFactor,
        /// Bandwidth.
        bandwidth: Bandwidth,
    },
    /// Frequency-shift keying.
    Fsk {
        /// Bits a second.
        bit_rate_bps: u32,
    },
    /// Long-range frequency hopping spread spectrum, for uplinks only.
    LrFhss {
        /// Forward error correction.
        coding_rate: LrFhssCodingRate,
        /// Occupied channel width.
        bandwidth_khz: u16,
    },
}

impl Modulation {
    /// The SNR a receiver needs, where one is laid down: for LoRa.
    pub fn required_snr_db(self) -> Option<f64> {
        match self {
            Modulation::Lora { spreading_factor, .. } => Some(spreading_factor.required_snr_db()),
            Modulation::Fsk { .. } | Modulation::LrFhss { .. } => None,
        }
    }

    /// LoRa by plain numbers, if they are in range.
    pub const fn lora(spreading_factor: u8, bandwidth_khz: u32) -> Option<Self> {
        match (SpreadingFactor::new(spreading_factor), Bandwidth::from_khz(bandwidth_khz)) {
            (Some(spreading_factor), Some(bandwidth)) => Some(Modulation::Lora { spreading_factor, bandwidth }),
            _ => None,
        }
    }

    /// Spreading factor and bandwidth in kilohertz, for LoRa.
    pub const fn lora_parts(self) -> Option<(u8, u32)> {
        match self {
            Modulation::Lora { spreading_factor, bandwidth } => Some((spreading_factor.0, bandwidth.khz())),
            Modulation::Fsk { .. } | Modulation::LrFhss { .. } => None,
        }
    }
}

impl fmt::Display for Modulation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Modulation::Lora { spreading_factor, bandwidth } => {
                write!(f, "SF{}/{} kHz", spreading_factor.0, bandwidth.khz())
            }
            Modulation::Fsk { bit_rate_bps } => write!(f, "FSK {} kbit/s", bit_rate_bps / 1000),
            Modulation::LrFhss { coding_rate, bandwidth_khz } => {
                let coding_rate = match coding_rate {
                    LrFhssCodingRate::OneThird => "1/3",
                    LrFhssCodingRate::TwoThirds => "2/3",
                };
                write!(f, "LR-FHSS {coding_rate}, {bandwidth_khz} kHz")
            }
        }
    }
}

//! Regional parameters: one table a region, and one place that interprets them.
//!
//! [`Plan`] is the table. What follows from it, such as the frequency of RX1 or the largest payload,
//! are its methods; sets of channels and the LinkADRReq commands that lead from one to another are in
//! [`ChannelSet`] and [`Plan::link_adr_masks`]. No code outside a region's file asks which region it is.

mod as923;
mod au915;
mod channels;
mod cn470;
mod cn779;
mod eu433;
mod eu868;
mod in865;
mod interpret;
mod kr920;
mod link_adr;
mod masks;
mod plan;
mod revision;
mod ru864;
mod us915;

pub use channels::{BadChannels, ChannelSet};
pub use interpret::{Channel, ClassBFrequencies, JoinChannel, PayloadLimits};
pub use link_adr::{AdrError, AdrSettings};
pub use masks::{ChannelMask, MaskError};
pub use plan::{
    Block, CfListForm, ClassB, DataRate, Dwell, JoinBlock, MaskMeaning, MaxMacPayload, Plan, PowerReference,
    Rx1Channel, SubBand, TxPower, Use,
};
pub use revision::{RegionalRevision, UnknownRevision};

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A region with a channel plan; CN470 has four.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Region {
    /// EU863-870 (RP002 §2.4).
    #[serde(rename = "EU868")]
    Eu868,
    /// US902-928 (RP002 §2.5).
    #[serde(rename = "US915")]
    Us915,
    /// CN779-787 (RP002 §2.6).
    #[serde(rename = "CN779")]
    Cn779,
    /// EU433 (RP002 §2.7).
    #[serde(rename = "EU433")]
    Eu433,
    /// AU915-928 (RP002 §2.8).
    #[serde(rename = "AU915")]
    Au915,
    /// CN470-510, 20 MHz antenna, plan type A (RP002 §2.9).
    #[serde(rename = "CN470-20A")]
    Cn470A20,
    /// CN470-510, 20 MHz antenna, plan type B (RP002 §2.9).
    #[serde(rename = "CN470-20B")]
    Cn470B20,
    /// CN470-510, 26 MHz antenna, plan type A (RP002 §2.9).
    #[serde(rename = "CN470-26A")]
    Cn470A26,
    /// CN470-510, 26 MHz antenna, plan type B (RP002 §2.9).
    #[serde(rename = "CN470-26B")]
    Cn470B26,
    /// AS923, group 1 (RP002 §2.10).
    #[serde(rename = "AS923-1")]
    As923_1,
    /// AS923, group 2 (RP002 §2.10).
    #[serde(rename = "AS923-2")]
    As923_2,
    /// AS923, group 3 (RP002 §2.10).
    #[serde(rename = "AS923-3")]
    As923_3,
    /// AS923, group 4 (RP002 §2.10).
    #[serde(rename = "AS923-4")]
    As923_4,
    /// KR920-923 (RP002 §2.11).
    #[serde(rename = "KR920")]
    Kr920,
    /// IN865-867 (RP002 §2.12).
    #[serde(rename = "IN865")]
    In865,
    /// RU864-870 (RP002 §2.13).
    #[serde(rename = "RU864")]
    Ru864,
}

impl Region {
    /// Every region, in the order of RP002.
    pub const ALL: [Self; 16] = [
        Self::Eu868,
        Self::Us915,
        Self::Cn779,
        Self::Eu433,
        Self::Au915,
        Self::Cn470A20,
        Self::Cn470B20,
        Self::Cn470A26,
        Self::Cn470B26,
        Self::As923_1,
        Self::As923_2,
        Self::As923_3,
        Self::As923_4,
        Self::Kr920,
        Self::In865,
        Self::Ru864,
    ];

    /// The region's common name.
    pub const fn name(self) -> &'static str {
        self.plan().name
    }

    /// Its table.
    pub const fn plan(self) -> &'static Plan {
        match self {
            Region::Eu868 => &eu868::PLAN,
            Region::Us915 => &us915::PLAN,
            Region::Cn779 => &cn779::PLAN,
            Region::Eu433 => &eu433::PLAN,
            Region::Au915 => &au915::PLAN,
            Region::Cn470A20 => &cn470::A20,
            Region::Cn470B20 => &cn470::B20,
            Region::Cn470A26 => &cn470::A26,
            Region::Cn470B26 => &cn470::B26,
            Region::As923_1 => &as923::GROUP_1,
            Region::As923_2 => &as923::GROUP_2,
            Region::As923_3 => &as923::GROUP_3,
            Region::As923_4 => &as923::GROUP_4,
            Region::Kr920 => &kr920::PLAN,
            Region::In865 => &in865::PLAN,
            Region::Ru864 => &ru864::PLAN,
        }
    }
}

impl fmt::Display for Region {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A text that is not a region.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{found:?} is not a region: {}", Region::ALL.map(Region::name).join(", "))]
pub struct UnknownRegion {
    /// The text.
    pub found: String,
}

impl FromStr for Region {
    type Err = UnknownRegion;

    /// By common name, in upper or lower case, with or without the dash.
    fn from_str(s: &str) -> Result<Self, UnknownRegion> {
        let plain = |s: &str| s.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_uppercase();
        Self::ALL
            .into_iter()
            .find(|region| plain(region.name()) == plain(s))
            .ok_or_else(|| UnknownRegion { found: s.to_owned() })
    }
}

/// Delay from the end of an uplink to RX1, in seconds (RP002 §2.3, RECEIVE_DELAY1).
pub const RECEIVE_DELAY1_S: u8 = 1;
/// Delay from the end of a join-request to its first window (RP002 §2.3, JOIN_ACCEPT_DELAY1).
pub const JOIN_ACCEPT_DELAY1_S: u8 = 5;
/// RX2 opens this much after RX1, in seconds (TS001 §3.3.2).
pub const RX2_AFTER_RX1_S: u8 = 1;
/// Uplinks without any downlink after which a device asks for one (RP002 §2.3, ADR_ACK_LIMIT).
pub const ADR_ACK_LIMIT: u16 = 64;
/// Further uplinks it waits for one before it lowers its data rate (RP002 §2.3, ADR_ACK_DELAY).
pub const ADR_ACK_DELAY: u16 = 32;
/// EIRP that MaxEIRP of TxParamSetupReq stands for, in dBm (TS001 §5.8).
pub const MAX_EIRP_DBM: [u8; 16] = [8, 10, 12, 13, 14, 16, 18, 20, 21, 24, 26, 27, 29, 30, 33, 36];

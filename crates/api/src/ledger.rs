//! Airtime accounts: what each transmitter has used, and what is left.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::BandUse;

/// Parts of a day in a strip: quarters of an hour.
pub const STRIP: usize = 96;

/// Airtime and number of frames in a period.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Spent {
    /// Airtime.
    pub airtime_ms: f64,
    /// Frames.
    pub frames: u32,
}

impl std::ops::AddAssign for Spent {
    fn add_assign(&mut self, other: Self) {
        self.airtime_ms += other.airtime_ms;
        self.frames += other.frames;
    }
}

/// Airtime now, in the last hour and in the last 24 hours. Accounts are kept by the minute: now is the running
/// minute and the one before it.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, ToSchema)]
pub struct Spans {
    /// In the running minute and the one before.
    pub now: Spent,
    /// In the last hour.
    pub hour: Spent,
    /// In the last 24 hours.
    pub day: Spent,
}

impl std::ops::AddAssign for Spans {
    fn add_assign(&mut self, other: Self) {
        self.now += other.now;
        self.hour += other.hour;
        self.day += other.day;
    }
}

/// One sub-band's last day, by quarters of an hour.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DayStrip {
    /// The sub-band.
    pub sub_band: String,
    /// Airtime allowed in any hour.
    pub allowance_ms: f64,
    /// Airtime in the last 24 hours.
    pub airtime_ms: f64,
    /// Frames in the last 24 hours.
    pub frames: u32,
    /// Airtime in each of the last 96 quarters of an hour, oldest first.
    pub quarters_ms: Vec<f64>,
}

/// A gateway's account.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayLedger {
    /// Its EUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// The region whose limits it keeps.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// All sub-bands together.
    pub sent: Spans,
    /// The last hour by sub-band, as the engine keeps to it.
    pub hour: Vec<BandUse>,
    /// The last day by sub-band.
    pub day: Vec<DayStrip>,
}

/// A device's account.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceLedger {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its fleet's short name.
    pub fleet: String,
    /// All sub-bands together.
    pub sent: Spans,
    /// The last hour in the sub-band it fills most.
    pub hour: BandUse,
}

/// Airtime of downlinks to one device.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TowardsLedger {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its fleet's short name.
    pub fleet: String,
    /// Airtime of gateways, and downlinks.
    pub sent: Spans,
}

/// All transmitters of an estate together in one sub-band.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BandTotal {
    /// The region it belongs to.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The sub-band.
    pub sub_band: String,
    /// Lower edge.
    pub from_mhz: f64,
    /// Upper edge.
    pub to_mhz: f64,
    /// What devices sent.
    pub up: Spans,
    /// What gateways sent.
    pub down: Spans,
}

/// An estate's airtime accounts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Ledger {
    /// The time of this state.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// Gateways, the one with the least left first.
    pub gateways: Vec<GatewayLedger>,
    /// The devices that were on air most in the last hour, the one that fills a sub-band most first; at most 50.
    pub devices: Vec<DeviceLedger>,
    /// The devices that cost gateways most airtime, at most 50.
    pub towards: Vec<TowardsLedger>,
    /// Sub-bands in use.
    pub sub_bands: Vec<BandTotal>,
}

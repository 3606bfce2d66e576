//! The agreement of device and network: settings agreed upon and refused, decisions on data rate.

use chrono::{DateTime, Utc};
use lorawan::region::AdrSettings;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One setting: what the device is known to be set to, and what is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setting {
    /// Which.
    #[schema(example = "data rate")]
    pub name: String,
    /// The setting that the device has acknowledged, or that follows from its join.
    #[schema(example = "DR0 (SF12 at 125 kHz)")]
    pub known: String,
    /// What the network wants; the same if nothing is to change.
    pub wanted: String,
}

/// A setting that the device refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RefusedSetting {
    /// The request, in words.
    pub what: String,
    /// How often in a row.
    pub times: u8,
    /// When it did so first, of these times.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// When it did so last.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// When it is asked again.
    #[serde(with = "crate::millis")]
    pub again_at: DateTime<Utc>,
}

/// What a device reports.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceHealth {
    /// Its battery, in words.
    pub battery: String,
    /// Its charge, where it told one.
    pub battery_percent: Option<f64>,
    /// SNR at which it heard the question.
    pub margin_db: i8,
    /// When it said so.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
}

/// How far the device's settings agree with the wanted ones.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Agreement {
    /// Every setting.
    pub settings: Vec<Setting>,
    /// Requests that the device's next uplink should answer, in words.
    pub under_way: Vec<String>,
    /// What it refused.
    pub refused: Vec<RefusedSetting>,
    /// Downlinks with requests, in a row, that no answer came to.
    pub unanswered: u8,
    /// What it last said of battery and margin.
    pub health: Option<DeviceHealth>,
}

/// Data rate, power and repetitions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RateAndPower {
    /// Data rate index.
    pub data_rate: u8,
    /// TXPower index.
    pub tx_power: u8,
    /// How often each uplink is sent.
    pub nb_trans: u8,
}

impl From<AdrSettings> for RateAndPower {
    fn from(s: AdrSettings) -> Self {
        Self { data_rate: s.data_rate, tx_power: s.tx_power, nb_trans: s.nb_trans }
    }
}

/// A decision on a device's data rate, with its reasons.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RateDecision {
    /// When.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// The uplink it was made with.
    pub counter: u32,
    /// `change`, `fits`, `strained` or `lossy`.
    pub verdict: String,
    /// In words: what was measured, what was decided, what it saves.
    pub why: String,
    /// Uplinks looked at.
    pub uplinks: u32,
    /// Uplinks between them that were not heard.
    pub lost: u32,
    /// SNR that the decision is planned with.
    pub level_db: f32,
    /// SNR that the data rate needs.
    pub required_snr_db: f32,
    /// The margin wanted.
    pub margin_db: f32,
    /// Whether the device counted as moving.
    pub moving: bool,
    /// What the device was set to.
    pub from: RateAndPower,
    /// What it should be set to.
    pub to: RateAndPower,
    /// Airtime of a message before.
    pub airtime_ms_before: f64,
    /// Airtime of a message after.
    pub airtime_ms_after: f64,
    /// Charge of a message before, from a model of the transmitter.
    pub charge_uah_before: f64,
    /// Charge of a message after.
    pub charge_uah_after: f64,
}

//! What a message costs in airtime at each data rate of a region, and how often it may be sent.

use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// The message.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AirtimeQuestion {
    /// Length of the FRMPayload in bytes, 0 to 242.
    pub payload_bytes: u32,
    /// MAC commands in the header, in bytes, 0 to 15; none if not given.
    pub fopts_bytes: Option<u32>,
    /// Seconds from one message to the next.
    pub interval_s: Option<f64>,
    /// A limit of airtime in seconds a day, beside the region's.
    pub daily_airtime_s: Option<f64>,
    /// Each message is sent this many times (NbTrans), 1 to 15; once if not given.
    pub times: Option<u32>,
    /// Assume a repeater between device and gateway.
    #[serde(default)]
    pub repeater: bool,
    /// The network has switched the dwell-time limit off, where it can.
    #[serde(default)]
    pub dwell_off: bool,
}

/// The answer, data rate by data rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AirtimeTable {
    /// The region.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// Length of the FRMPayload.
    pub payload_bytes: usize,
    /// Length of the whole PHYPayload.
    pub phy_payload_bytes: usize,
    /// Seconds from one message to the next, as asked.
    pub interval_s: Option<f64>,
    /// Seconds of airtime a day, as asked.
    pub daily_airtime_s: Option<f64>,
    /// How often each message is sent.
    pub times: u32,
    /// The longest a single uplink may be, if that is limited.
    pub dwell_ms: Option<u32>,
    /// Whether the network may switch that limit off.
    pub dwell_by_command: bool,
    /// Every uplink data rate.
    pub rows: Vec<AirtimeRow>,
}

/// One data rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AirtimeRow {
    /// Its index.
    pub data_rate: u8,
    /// Its modulation, as text.
    pub modulation: String,
    /// Largest payload at this data rate, less the header's commands; absent if it cannot be used.
    pub max_payload_bytes: Option<usize>,
    /// Whether the message fits; if not, the rest says what it would cost.
    pub fits: bool,
    /// Time on air of one frame.
    pub airtime_ms: f64,
    /// The tightest duty cycle on the channels that carry this data rate, in percent; absent if
    /// there is none.
    pub limit_percent: Option<f64>,
    /// The sub-band that has it.
    pub sub_band: Option<String>,
    /// Share of the time on air at the interval asked for, in percent.
    pub duty_cycle_percent: Option<f64>,
    /// Airtime a day at the interval asked for.
    pub airtime_s_a_day: Option<f64>,
    /// The shortest lawful interval; absent if there is no limit.
    pub shortest_interval_s: Option<f64>,
    /// The most messages a day; absent if there is no limit.
    pub messages_a_day: Option<u64>,
    /// Whether the interval asked for keeps the limits; absent if none was asked for.
    pub keeps_limits: Option<bool>,
    /// The largest payload that keeps the limits at the interval asked for; absent if none was asked
    /// for or none does.
    pub largest_payload_bytes: Option<usize>,
    /// Weakest LoRa signal that is heard, at a noise figure of 6 dB.
    pub sensitivity_dbm: Option<f64>,
}

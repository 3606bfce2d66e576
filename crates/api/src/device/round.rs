//! One downlink for each of many devices, sent one after another.

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::outbox::{NewOutboxItem, OutboxState};

/// A downlink for each device of a fleet, of a model or with a tag; all that is given must fit. Or for devices by name.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRound {
    /// Devices of this fleet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fleet: Option<String>,
    /// Devices of this model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// Devices with this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// These devices: their DevEUIs, at most 10,000.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<String>,
    /// What each is sent.
    pub downlink: NewOutboxItem,
    /// Seconds over which the downlinks are spread, at most 7 days. If not given: so long that they take at most half of the
    /// airtime that gateways may use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 604_800)]
    pub over_s: Option<f64>,
}

/// What adding a round would do.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RoundReadBack {
    /// Devices that would be sent it.
    pub devices: u32,
    /// Seconds over which it would be spread.
    pub over_s: f64,
    /// Airtime of one downlink at the data rate of RX2, the slowest that is likely.
    pub airtime_ms: f64,
    /// Devices that cannot be sent it, with the reason.
    pub refused: Vec<RoundDevice>,
}

/// Where a round stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RoundState {
    /// Some downlinks are still to come, or have not been sent or acknowledged yet.
    Running,
    /// Each device has an outcome.
    Done,
    /// Somebody stopped it; what had been sent stays sent.
    Cancelled,
}

impl RoundState {
    /// As it is stored and shown.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Cancelled => "cancelled",
        }
    }
}

/// A round, with how far it has come.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Round {
    /// Its name.
    pub id: String,
    /// What was asked for.
    pub wanted: NewRound,
    /// Seconds over which it is spread.
    pub over_s: f64,
    /// Its state.
    pub state: RoundState,
    /// How many devices it is for.
    pub devices: u32,
    /// Whose turn is still to come.
    pub planned: u32,
    /// In their outbox, or sent and not acknowledged yet.
    pub open: u32,
    /// Sent, or acknowledged where that was asked for.
    pub done: u32,
    /// Refused, given up or cancelled.
    pub failed: u32,
    /// Who started it.
    pub begun_by: String,
    /// When it began.
    #[serde(with = "crate::millis")]
    pub begun_at: DateTime<Utc>,
    /// When each device had its outcome, or it was stopped.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<DateTime<Utc>>,
}

/// One device of a round.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RoundDevice {
    /// Its DevEUI.
    #[schema(value_type = String, example = "02bb00000000002a")]
    pub dev_eui: Eui64,
    /// Its name; its DevEUI if it has been removed.
    pub name: String,
    /// When its downlink is put into its outbox.
    #[serde(with = "crate::millis")]
    pub due_at: DateTime<Utc>,
    /// The downlink's state; absent while its turn is still to come, or if it was refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<OutboxState>,
    /// What it waits for, or why it was refused or given up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The downlink in its outbox.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outbox_id: Option<String>,
}

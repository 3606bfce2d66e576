//! Requests, responses, messages and problem details, as they go over the wire: one definition of each, shared by
//! service, client and docs. Nothing here decides anything: the rules are in `domain`.

pub mod calculator;
pub mod coverage;
pub mod device;
pub mod diagnosis;
pub mod find;
pub mod fleet;
pub mod gateway;
pub mod ground;
pub mod health;
pub mod heard;
pub mod job;
pub mod ledger;
pub mod message;
pub mod metrics;
pub mod model;
pub mod outlet;
pub mod people;
pub mod problem;
pub mod radio;
pub mod reading;
pub mod secret;
mod time;

pub use time::{elapsed, millis, millis_option};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where all endpoints begin.
pub const BASE: &str = "/api/v1";

/// A page of a list.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The entries.
    pub items: Vec<T>,
    /// Pass this as `after` to get the next page; absent on the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// Airtime in one sub-band over the last hour, against what is allowed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BandUse {
    /// The sub-band, as its regulation calls it.
    pub sub_band: String,
    /// Lower edge.
    pub from_mhz: f64,
    /// Upper edge.
    pub to_mhz: f64,
    /// Airtime in the last hour.
    pub airtime_ms: f64,
    /// Airtime allowed in any hour.
    pub allowance_ms: f64,
    /// Airtime used, in percent of the allowance.
    pub used_percent: f64,
    /// Frames in the last hour.
    pub frames: u32,
    /// When 80 % of the allowance were used up, to the minute; absent while less is used.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "crate::millis_option")]
    pub near_since: Option<DateTime<Utc>>,
}

/// What has come in from gateways since the service started, and what had to be dropped.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct IngestStats {
    /// Datagrams received on the UDP port.
    pub datagrams: u64,
    /// Frames handed to the engine.
    pub frames: u64,
    /// Frames that wait for the engine, for example while the database is away.
    pub waiting: u64,
    /// Size of the journal of heard frames on disk, in bytes.
    pub journal_bytes: u64,
    /// Frames that the journal could not keep, so that a kill would have lost them.
    pub unwritten: u64,
    /// What was dropped, by reason.
    pub dropped: Vec<Dropped>,
}

/// One reason for dropping.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Dropped {
    /// A stable code for the reason.
    pub reason: String,
    /// How many.
    pub count: u64,
    /// The last one, as text.
    pub last: String,
    /// Where the last one came from.
    pub last_from: String,
}

//! Readings over time.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::diagnosis::plausibility::Doubt;
use crate::message::{DeviceRef, Reading};
use crate::reading::ReadingKind;

/// The latest value of a reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceReading {
    /// Its name.
    pub name: String,
    /// Its last value.
    #[serde(flatten)]
    pub reading: Reading,
    /// When it was measured.
    #[serde(with = "crate::millis")]
    pub time: DateTime<Utc>,
    /// What kind of value it is.
    pub kind: ReadingKind,
    /// Its usual interval.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_s: Option<f64>,
    /// Whether its next value is due.
    pub freshness: Freshness,
    /// The lowest, the mean and the highest value of the last day.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day: Option<Day>,
    /// Doubts about its values.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doubt: Option<Doubt>,
}

/// Statistics of the last day's values.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Day {
    /// The lowest.
    pub least: f64,
    /// The mean.
    pub mean: f64,
    /// The highest.
    pub most: f64,
    /// How many.
    pub count: u64,
}

/// Whether a reading's next value is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Freshness {
    /// It is recent.
    Fresh,
    /// It does not come with every uplink, and is not due.
    NowAndThen,
    /// It is overdue.
    Overdue,
}

/// The request for a chart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WantedChart {
    /// Readings of devices, at most 24.
    pub lines: Vec<WantedLine>,
    /// From when on.
    pub from: DateTime<Utc>,
    /// Until when; now if not given.
    #[serde(default)]
    pub until: Option<DateTime<Utc>>,
    /// Points in a line, about: 10 to 2,000; 400 if not given.
    #[serde(default)]
    #[schema(minimum = 10, maximum = 2_000)]
    pub points: Option<u32>,
}

/// One reading of one device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WantedLine {
    /// Its DevEUI.
    #[schema(value_type = String)]
    pub device: Eui64,
    /// The reading's name.
    pub reading: String,
}

/// Readings over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Chart {
    /// From when on.
    #[serde(with = "crate::millis")]
    pub from: DateTime<Utc>,
    /// Until when.
    #[serde(with = "crate::millis")]
    pub until: DateTime<Utc>,
    /// The lines that were asked for, in that order.
    pub lines: Vec<ChartLine>,
}

/// A reading over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChartLine {
    /// Its device.
    pub device: DeviceRef,
    /// The reading's name.
    pub reading: String,
    /// Its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// What kind of value it is.
    pub kind: ReadingKind,
    /// Words for its values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub words: BTreeMap<String, String>,
    /// The period of a point; without it, each point is one value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step_s: Option<u32>,
    /// Oldest first. One without a value stands where values are missing.
    pub points: Vec<ChartPoint>,
    /// Whether values are missing at the end, because there were too many.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub cut: bool,
}

/// A point of a chart.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChartPoint {
    /// Milliseconds since 1970: the beginning of its period.
    pub at_ms: i64,
    /// The value, or the mean of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// The lowest of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The highest of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
    /// A text; it holds until the next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub word: Option<String>,
}

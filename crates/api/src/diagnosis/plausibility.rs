//! Values that look wrong.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::message::DeviceRef;

/// A doubt about a reading's values.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Doubt {
    /// The reading's name.
    pub reading: String,
    /// What was seen.
    #[schema(example = "all 144 values of the last day are between 180 and 260 °C")]
    pub seen: String,
    /// The likely cause.
    #[schema(example = "a factor of 10?")]
    pub question: String,
    /// The factor that would make the values usual, if there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub factor: Option<f64>,
}

/// A doubt about a model's reading, and devices that show it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ModelDoubt {
    /// The model's short name.
    pub model: String,
    /// The doubt.
    #[serde(flatten)]
    pub doubt: Doubt,
    /// One of the devices.
    pub device: DeviceRef,
    /// How many devices show it.
    pub devices: u32,
}

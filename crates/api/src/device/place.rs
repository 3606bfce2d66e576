//! Where a device is.

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

/// Where a device is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// Latitude in degrees (WGS 84), north positive.
    #[schema(minimum = -90, maximum = 90, example = 54.689)]
    pub latitude_deg: f64,
    /// Longitude in degrees (WGS 84), east positive.
    #[schema(minimum = -180, maximum = 180, example = 3.942)]
    pub longitude_deg: f64,
    /// Height of its antenna above the ground in metres; below it negative.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -500, maximum = 10000, example = 2.0)]
    pub height_m: Option<f64>,
    /// Whether it is inside a building, as far as that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub indoor: Option<bool>,
    /// Gain of its antenna as it stands there; 0 dBi is assumed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -20, maximum = 20, example = -1.5)]
    pub antenna_gain_dbi: Option<f64>,
    /// Lost in walls, soil, a lid or a body around it; indoors 15 dB and outdoors nothing is assumed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 60, example = 8.0)]
    pub penetration_loss_db: Option<f64>,
}

impl std::fmt::Display for Place {
    /// For people: `54.68900, 3.94200, 2 m above the ground, outdoors`.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:.5}, {:.5}", self.latitude_deg, self.longitude_deg)?;
        if let Some(height_m) = self.height_m {
            write!(f, ", {height_m} m above the ground")?;
        }
        match self.indoor {
            Some(true) => f.write_str(", indoors")?,
            Some(false) => f.write_str(", outdoors")?,
            None => {}
        }
        if let Some(gain_dbi) = self.antenna_gain_dbi {
            write!(f, ", antenna of {gain_dbi} dBi")?;
        }
        match self.penetration_loss_db {
            Some(loss_db) => write!(f, ", {loss_db} dB lost around it"),
            None => Ok(()),
        }
    }
}

/// A field of a change that tells `null`, which removes, from being left out, which keeps.
///
/// # Errors
/// If the value is neither `null` nor what is wanted.
pub fn given<'de, T: Deserialize<'de>, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Option<T>>, D::Error> {
    Option::deserialize(deserializer).map(Some)
}

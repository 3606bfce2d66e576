//! The ground under maps.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// The ground that the service has files of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GroundInfo {
    /// The box around it; absent if there are no files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<GroundExtent>,
    /// The highest level of tiles.
    #[schema(example = 16)]
    pub max_level: u8,
}

/// A box, in degrees of WGS 84.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GroundExtent {
    /// Its southern edge.
    #[schema(minimum = -90, maximum = 90)]
    pub south_deg: f64,
    /// Its western edge.
    #[schema(minimum = -180, maximum = 180)]
    pub west_deg: f64,
    /// Its northern edge.
    #[schema(minimum = -90, maximum = 90)]
    pub north_deg: f64,
    /// Its eastern edge.
    #[schema(minimum = -180, maximum = 180)]
    pub east_deg: f64,
}

/// The paper that a tile is drawn on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Paper {
    /// Light.
    #[default]
    Light,
    /// Dark.
    Dark,
}

/// How a tile is drawn.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TileQuestion {
    /// `light` or `dark`; light if not given.
    #[param(inline)]
    pub paper: Option<Paper>,
}

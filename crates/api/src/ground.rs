//! The ground under maps and forecasts.

use chrono::{DateTime, Utc};
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
    /// Tiles from elsewhere that lie under maps instead; absent if the operator has named none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tiles: Option<MapTiles>,
}

/// Map tiles from elsewhere, in the scheme of web maps: each browser loads them from there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MapTiles {
    /// Their address, with `{z}` for the level, `{x}` for the column and `{y}` for the row.
    #[schema(example = "https://tiles.example/{z}/{x}/{y}.png")]
    pub address: String,
    /// Whose they are, to be shown on the map.
    pub credit: String,
    /// The highest level that there is.
    #[schema(example = 18)]
    pub max_level: u8,
}

/// What the values of a file are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum GroundKind {
    /// Heights above the sea, in metres.
    Heights,
    /// Numbers of classes of what stands on the ground.
    Cover,
}

impl GroundKind {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Heights => "heights",
            Self::Cover => "cover",
        }
    }
}

/// What a file of the ground holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GroundRaster {
    /// What it says of itself.
    pub description: String,
    /// What its coordinates are.
    #[schema(example = "UTM zone 31 north")]
    pub projection: String,
    /// Cells from west to east.
    pub columns: u32,
    /// Cells from north to south.
    pub rows: u32,
    /// How wide a cell is in the middle.
    pub cell_width_m: f64,
    /// How high a cell is in the middle.
    pub cell_height_m: f64,
    /// The box around it.
    pub extent: GroundExtent,
    /// The least value; absent if all cells are holes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The greatest value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
    /// Cells without a value.
    pub holes: u32,
}

impl GroundRaster {
    /// All of its cells.
    pub const fn cells(&self) -> u64 {
        self.columns as u64 * self.rows as u64
    }

    /// The share of cells without a value, in percent.
    pub fn holes_percent(&self) -> f64 {
        100.0 * f64::from(self.holes) / self.cells().max(1) as f64
    }
}

/// A file of the ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GroundFile {
    /// Its name, which no other file of the estate has.
    #[schema(example = "heights.tif")]
    pub name: String,
    /// What its values are.
    pub kind: GroundKind,
    /// What it holds.
    pub raster: GroundRaster,
    /// How long it is.
    pub size_bytes: u64,
    /// A digest of its content (SHA-256), in hexadecimal; empty for files of the operator.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub sha256: String,
    /// The operator named it at the start of the service: it is part of the ground of all estates.
    #[serde(default)]
    pub by_operator: bool,
    /// Why it does not count at the moment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<String>,
    /// Who added it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub added_by: String,
    /// When.
    #[serde(default, with = "crate::millis_option", skip_serializing_if = "Option::is_none")]
    pub added_at: Option<DateTime<Utc>>,
}

/// The ground of an estate: its own files, and those of the operator.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EstateGround {
    /// Differs whenever the ground does.
    #[schema(example = "5f0c9b21aa03e7d4")]
    pub edition: String,
    /// The box around all heights; absent if there are none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extent: Option<GroundExtent>,
    /// The highest level of tiles.
    #[schema(example = 16)]
    pub max_level: u8,
    /// Cells of the estate's own files.
    pub cells: u64,
    /// The most that they may have.
    pub most_cells: u64,
    /// In the order in which they count: where several have a value, that of the first.
    pub files: Vec<GroundFile>,
}

/// A file that is added to the ground.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct NewGroundFile {
    /// Its name, with the ending: `.hgt` for SRTM height files, whose name says where they are; all others are GeoTIFF.
    #[param(example = "heights.tif", max_length = 80)]
    pub name: String,
    /// What its values are.
    #[param(inline)]
    pub kind: GroundKind,
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

/// What a tile of an estate's ground shows.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum GroundView {
    /// Hills, coasts and cover.
    #[default]
    Relief,
    /// Stripes where files of heights have none.
    Holes,
}

/// How a tile of an estate's ground is drawn.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct EstateTileQuestion {
    /// `light` or `dark`; light if not given.
    #[param(inline)]
    pub paper: Option<Paper>,
    /// `relief` or `holes`; relief if not given.
    #[param(inline)]
    pub view: Option<GroundView>,
    /// The edition of the ground that is wanted: so that a browser does not keep an old tile.
    pub edition: Option<String>,
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

//! Sites and kinds of receiver: what a forecast is made for.

use lorawan::Eui64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An antenna. With `azimuth_deg` and `horizontal_beam_deg` it points somewhere; else it is the same all around.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AntennaAbout {
    /// The most gain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -20, maximum = 30, example = 6.0)]
    pub gain_dbi: Option<f64>,
    /// Where the beam points, from north over east.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 360, example = 140.0)]
    pub azimuth_deg: Option<f64>,
    /// How far it points below the horizon; 0 if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -90, maximum = 90, example = 2.0)]
    pub tilt_deg: Option<f64>,
    /// The beam's width where half of the power is left.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 360, example = 65.0)]
    pub horizontal_beam_deg: Option<f64>,
    /// The beam's height where half of the power is left; if not given 180 all around, and 30 of a beam.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 180, example = 20.0)]
    pub vertical_beam_deg: Option<f64>,
    /// How much weaker it is at the back; 20 dB if not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 60, example = 25.0)]
    pub front_to_back_db: Option<f64>,
    /// The horizontal cut of its data sheet: pairs of an angle in degrees and how many dB it is weaker there. It comes with the
    /// vertical cut, and both go before the beam's widths.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub horizontal_cut: Vec<[f64; 2]>,
    /// The vertical cut, in the same form: 0° is where it points, 90° is above.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub vertical_cut: Vec<[f64; 2]>,
}

/// A site's radio. What is left out of a new site is as in the example; what is left out of a change stays.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SiteRadio {
    /// The antenna; a part of it that is given replaces that part.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub antenna: Option<AntennaAbout>,
    /// The antenna above the ground.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0.5, maximum = 1000, example = 10.0)]
    pub height_m: Option<f64>,
    /// What is transmitted, before the cable.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -10, maximum = 40, example = 14.0)]
    pub power_dbm: Option<f64>,
    /// Lost in the cable.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 30, example = 1.0)]
    pub cable_loss_db: Option<f64>,
    /// Noise of the receiver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 30, example = 6.0)]
    pub noise_figure_db: Option<f64>,
}

/// A place with an antenna: a registered gateway, or a planned one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Site {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its name: a gateway's own.
    #[schema(example = "gull-tower")]
    pub name: String,
    /// The gateway's EUI; absent of a planned one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, example = "0210203040506070")]
    pub gateway: Option<Eui64>,
    /// Latitude, north positive; absent of a gateway whose place is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latitude_deg: Option<f64>,
    /// Longitude, east positive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub longitude_deg: Option<f64>,
    /// Its radio, with all that is known or assumed.
    pub radio: SiteRadio,
}

/// A planned site.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSite {
    /// Its name, which no gateway of the estate has.
    #[schema(max_length = 80, example = "beacon-hill")]
    pub name: String,
    /// Latitude in degrees (WGS 84), north positive.
    #[schema(minimum = -90, maximum = 90, example = 54.689)]
    pub latitude_deg: f64,
    /// Longitude in degrees (WGS 84), east positive.
    #[schema(minimum = -180, maximum = 180, example = 3.942)]
    pub longitude_deg: f64,
    /// Its radio.
    #[serde(default)]
    pub radio: SiteRadio,
}

/// A change of a site; what is left out stays. A gateway's name, place, gain and cable loss are changed on the gateway.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SiteChange {
    /// A new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 80)]
    pub name: Option<String>,
    /// Latitude.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -90, maximum = 90)]
    pub latitude_deg: Option<f64>,
    /// Longitude.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -180, maximum = 180)]
    pub longitude_deg: Option<f64>,
    /// What of its radio is changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub radio: Option<SiteRadio>,
}

/// One change of the radios of many sites.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SitesChange {
    /// Their names.
    #[schema(min_items = 1, max_items = 1000)]
    pub sites: Vec<String>,
    /// What is changed.
    pub radio: SiteRadio,
    /// Only preview what would change.
    #[serde(default)]
    pub preview: bool,
}

/// What a change of many sites does.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SitesEffect {
    /// The sites that change.
    pub sites: Vec<SiteEffect>,
    /// How many stay as they are.
    pub untouched: usize,
    /// Whether it was done, and not only previewed.
    pub done: bool,
}

/// What a change does to one site.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SiteEffect {
    /// Its name.
    pub name: String,
    /// Its radio before.
    pub before: SiteRadio,
    /// Its radio after.
    pub after: SiteRadio,
}

/// The radio of a kind of receiver: of a device, as a forecast sees it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ReceiverRadio {
    /// Above the ground.
    #[schema(minimum = 0, maximum = 1000, example = 1.5)]
    pub height_m: f64,
    /// Its antenna's gain.
    #[schema(minimum = -20, maximum = 20, example = 0.0)]
    pub gain_dbi: f64,
    /// What it transmits.
    #[schema(minimum = -10, maximum = 30, example = 14.0)]
    pub power_dbm: f64,
    /// Lost in walls, soil or a body.
    #[schema(minimum = 0, maximum = 60, example = 0.0)]
    pub penetration_loss_db: f64,
    /// Noise of its receiver.
    #[schema(minimum = 0, maximum = 30, example = 6.0)]
    pub noise_figure_db: f64,
}

impl Default for ReceiverRadio {
    fn default() -> Self {
        Self { height_m: 1.5, gain_dbi: 0.0, power_dbm: 14.0, penetration_loss_db: 0.0, noise_figure_db: 6.0 }
    }
}

/// A kind of receiver. An estate has `outdoors` and `indoors` at first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Receiver {
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its name.
    #[schema(example = "outdoors")]
    pub name: String,
    /// Its radio.
    pub radio: ReceiverRadio,
}

/// A new kind of receiver.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewReceiver {
    /// Its name.
    #[schema(max_length = 80, example = "collar")]
    pub name: String,
    /// Its radio.
    #[serde(default)]
    pub radio: ReceiverRadio,
}

/// A change of a kind of receiver; what is left out stays.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReceiverChange {
    /// Above the ground.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 1000)]
    pub height_m: Option<f64>,
    /// Its antenna's gain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -20, maximum = 20)]
    pub gain_dbi: Option<f64>,
    /// What it transmits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -10, maximum = 30)]
    pub power_dbm: Option<f64>,
    /// Lost in walls, soil or a body.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 60)]
    pub penetration_loss_db: Option<f64>,
    /// Noise of its receiver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 30)]
    pub noise_figure_db: Option<f64>,
}

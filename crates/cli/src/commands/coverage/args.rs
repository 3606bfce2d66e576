//! `heron coverage`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use coverage::geo::Place;
use lorawan::modulation::SpreadingFactor;
use lorawan::region::Region;

#[derive(Subcommand)]
pub(crate) enum CoverageVerb {
    /// Compute one radio path over terrain: what is lost by what, the margin at each data rate, and the profile.
    Path(Box<PathArgs>),
    /// Forecast the area around sites: how much is covered, at which data rate, by how many gateways, and what is lost with
    /// each of them.
    Area(Box<AreaArgs>),
    /// Say what files of heights or cover hold: where they are, how fine, how high, and their holes.
    Terrain {
        /// GeoTIFF files, or SRTM height files named by their corner, such as N54E003.hgt.
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
}

#[derive(Args)]
pub(crate) struct PathArgs {
    /// Where the gateway is: latitude and longitude in degrees, such as 54.712,3.884.
    #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
    pub from: Place,
    /// Where the device is.
    #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
    pub to: Place,
    /// Where to draw the profile: a file that ends with .png or .svg.
    #[arg(long, short, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub ground: GroundArgs,
    #[command(flatten)]
    pub model: ModelArgs,
    #[command(flatten)]
    pub radio: RadioArgs,
}

#[derive(Args)]
pub(crate) struct AreaArgs {
    /// The sites, as CSV. The first line names columns: name, latitude_deg, longitude_deg, and where they differ from the
    /// options height_m, gain_dbi, cable_loss_db, power_dbm and noise_figure_db. An antenna that points somewhere has
    /// azimuth_deg and horizontal_beam_deg, and perhaps tilt_deg, vertical_beam_deg and front_to_back_db; or antenna
    /// names a JSON file of one beside this file.
    #[arg(long, value_name = "FILE")]
    pub sites: PathBuf,
    /// How far around each site, in metres, up to 150,000.
    #[arg(long, value_name = "METRES", default_value_t = 5_000.0)]
    pub radius_m: f64,
    /// The side of a cell, in metres.
    #[arg(long, value_name = "METRES", default_value_t = 50.0)]
    pub cell_m: f64,
    /// What else is sent in a channel: spreading factor and Erlang, such as 9:0.05. Repeat it for more; it lowers SNIR and
    /// reliability.
    #[arg(long, value_name = "FACTOR:ERLANG", value_parser = load)]
    pub load: Vec<(SpreadingFactor, f64)>,
    /// The layer to write.
    #[arg(long, value_enum, default_value = "margin")]
    pub layer: LayerWord,
    /// Where to write the layer: a file that ends with .tif (GeoTIFF), .csv, .geojson (contours), .png (a picture with its legend),
    /// .kmz (for globes) or .html (a page that works from the file).
    #[arg(long, short, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub ground: GroundArgs,
    #[command(flatten)]
    pub model: ModelArgs,
    #[command(flatten)]
    pub radio: RadioArgs,
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum LayerWord {
    /// What the best gateway receives, in dBm.
    Uplink,
    /// What the device receives, in dBm.
    Downlink,
    /// Margin at the slowest data rate, in dB.
    Margin,
    /// The number of the gateway that hears best, in the order of the file, from 0.
    BestSite,
    /// Signal over noise, in dB.
    Snr,
    /// Signal over noise and interference of --load, in dB.
    Snir,
    /// The best data rate.
    DataRate,
    /// How many gateways hear it.
    InReach,
    /// Airtime of a message, in ms.
    Airtime,
    /// The share of places that are heard, 0 to 1.
    Reliability,
}

/// Files of the ground.
#[derive(Args)]
pub(crate) struct GroundArgs {
    /// Files of heights: GeoTIFF or SRTM. The first that has a height counts.
    #[arg(long, required = true, value_name = "FILE", num_args = 1..)]
    pub terrain: Vec<PathBuf>,
    /// Files of cover classes: GeoTIFF. The first that has a class counts.
    #[arg(long, value_name = "FILE", num_args = 1..)]
    pub cover: Vec<PathBuf>,
    /// The classes' heights and losses, as JSON: {"8": {"name": "wood", "height_m": 20, "loss_db": 8, "shield":
    /// "trees_or_town"}}. Without it the usual ones.
    #[arg(long, value_name = "FILE")]
    pub classes: Option<PathBuf>,
    /// How places without a height are treated.
    #[arg(long, value_enum, default_value = "refuse")]
    pub no_data: NoDataWord,
    /// Between samples of the ground, in metres, 1 to 10,000.
    #[arg(long, value_name = "METRES", default_value_t = 30.0)]
    pub step_m: f64,
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum NoDataWord {
    /// It is the sea.
    Sea,
    /// Holes are filled from what lies around them on the path.
    Interpolate,
    /// The path is refused.
    Refuse,
}

/// The model, and what it is asked.
#[derive(Args)]
pub(crate) struct ModelArgs {
    /// The propagation model.
    #[arg(long, value_enum, default_value = "p1812")]
    pub model: ModelWord,
    /// Not exceeded in this share of the time, in percent: 1 to 50 for p1812.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    pub time: f64,
    /// Nor at this share of places nearby, in percent, 1 to 99.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    pub places: f64,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ModelWord {
    /// Nothing in the way: ITU-R P.525.
    FreeSpace,
    /// Okumura and Hata in a city.
    HataCity,
    /// The same in a suburb.
    HataSuburban,
    /// The same in open country.
    HataOpen,
    /// Diffraction over the terrain: ITU-R P.526.
    Diffraction,
    /// All mechanisms: ITU-R P.1812.
    P1812,
    /// Longley and Rice, point to point.
    IrregularTerrain,
}

/// Both radios.
#[derive(Args)]
pub(crate) struct RadioArgs {
    /// The gateway's antenna above the ground, in metres.
    #[arg(long, value_name = "METRES", default_value_t = 10.0)]
    pub gateway_height_m: f64,
    /// Its gain, in dBi.
    #[arg(long, value_name = "DBI", default_value_t = 3.0, allow_hyphen_values = true)]
    pub gateway_gain_dbi: f64,
    /// Its antenna as a JSON file, if it is not the same all around; its gain then counts.
    #[arg(long, value_name = "FILE")]
    pub gateway_antenna: Option<PathBuf>,
    /// Lost in its cable, in dB.
    #[arg(long, value_name = "DB", default_value_t = 1.0)]
    pub cable_loss_db: f64,
    /// What it transmits, in dBm.
    #[arg(long, value_name = "DBM", default_value_t = 14.0, allow_hyphen_values = true)]
    pub gateway_power_dbm: f64,
    /// The device's antenna above the ground, in metres.
    #[arg(long, value_name = "METRES", default_value_t = 1.5)]
    pub device_height_m: f64,
    /// Its gain, in dBi.
    #[arg(long, value_name = "DBI", default_value_t = 0.0, allow_hyphen_values = true)]
    pub device_gain_dbi: f64,
    /// What it transmits, in dBm.
    #[arg(long, value_name = "DBM", default_value_t = 14.0, allow_hyphen_values = true)]
    pub device_power_dbm: f64,
    /// Lost in walls, soil or a body around it, in dB.
    #[arg(long, value_name = "DB", default_value_t = 0.0)]
    pub penetration_loss_db: f64,
    /// The frequency, in MHz. Without it the region's first channel.
    #[arg(long, value_name = "MHZ")]
    pub frequency_mhz: Option<f64>,
    /// The region, for data rates and frequency.
    #[arg(long, default_value = "EU868")]
    pub region: Region,
    /// The share of places that look the same where it is to work, 0.01 to 0.999.
    #[arg(long, value_name = "SHARE", default_value_t = 0.9)]
    pub reliability: f64,
    /// How losses differ between such places, as a standard deviation in dB.
    #[arg(long, value_name = "DB", default_value_t = 6.0)]
    pub shadowing_db: f64,
    /// The device's payload, in bytes.
    #[arg(long, value_name = "BYTES", default_value_t = 20)]
    pub payload_bytes: usize,
    /// Time from one message to the next: seconds, or with a unit as in 90s, 15min, 2h.
    #[arg(long, default_value = "10min", value_parser = crate::args::seconds)]
    pub interval: f64,
}

/// A spreading factor and what is sent with it.
pub(crate) fn load(text: &str) -> Result<(SpreadingFactor, f64), String> {
    let wrong = || format!("{text:?} is not FACTOR:ERLANG, such as 9:0.05");
    let (factor, erlang) = text.split_once(':').ok_or_else(wrong)?;
    let factor = factor.trim_start_matches("SF").parse().map_err(|_| wrong())?;
    let factor = SpreadingFactor::new(factor).ok_or_else(|| format!("{text:?}: spreading factors are 5 to 12"))?;
    let erlang: f64 = erlang.parse().map_err(|_| wrong())?;
    if (0.0..=10.0).contains(&erlang) {
        Ok((factor, erlang))
    } else {
        Err(format!("{text:?}: 0 to 10 Erlang are allowed"))
    }
}

/// Two numbers of degrees.
pub(crate) fn place(text: &str) -> Result<Place, String> {
    let wrong = || format!("{text:?} is not latitude,longitude in degrees, such as 54.712,3.884");
    let (latitude, longitude) = text.split_once([',', ' ']).ok_or_else(wrong)?;
    let degrees = |text: &str| text.trim().parse::<f64>().map_err(|_| wrong());
    let (latitude, longitude) = (degrees(latitude)?, degrees(longitude)?);
    Place::new(latitude, longitude).ok_or_else(|| format!("{text:?}: latitudes are -90 to 90, longitudes -180 to 180"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_two_numbers_of_degrees() {
        let chapel = Place { latitude_deg: 54.712, longitude_deg: -3.884 };
        assert_eq!((place("54.712,-3.884"), place("54.712, -3.884")), (Ok(chapel), Ok(chapel)));
        assert!(place("54.712").unwrap_err().contains("is not latitude,longitude"));
        assert!(place("154.7,3.8").unwrap_err().contains("latitudes are -90 to 90"));
        assert!(place("NaN,3").is_err());
    }

    #[test]
    fn a_load_is_a_spreading_factor_and_erlang() {
        let nine = SpreadingFactor::new(9).unwrap();
        assert_eq!((load("9:0.05"), load("SF9:0")), (Ok((nine, 0.05)), Ok((nine, 0.0))));
        assert!(load("9").unwrap_err().contains("is not FACTOR:ERLANG"));
        assert!(load("13:0.1").unwrap_err().contains("spreading factors are"));
        assert!(load("9:11").unwrap_err().contains("0 to 10 Erlang") && load("9:NaN").is_err());
    }
}

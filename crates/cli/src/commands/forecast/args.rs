//! `heron forecast`: its verbs and options.

use std::path::PathBuf;

use api::coverage::forecast::{Load, PathModel};
use clap::{Args, Subcommand};
use coverage::geo::Place;
use lorawan::modulation::SpreadingFactor;
use lorawan::region::Region;

use crate::args::moment::Moment;
use crate::args::{ListArgs, seconds};
use crate::commands::coverage::args::{LayerWord, ModelWord, load, place};
use crate::commands::coverage::layer_file::Frame;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ForecastVerb {
    /// List forecasts, the latest first.
    List(ListArgs),
    /// Show one: how far it has come, and its figures; or what it says of a place.
    Show {
        /// The forecast's id, as `heron forecast list` shows it.
        id: String,
        /// A place: latitude and longitude in degrees. Shows each layer there, and the link to each site.
        #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
        at: Option<Place>,
        /// Rank the sites: what each planned one would add to the gateways, and which gateway could go.
        #[arg(long, conflicts_with = "at")]
        next: bool,
    },
    /// Forecast coverage around sites, on the service. Waits until it is whole, unless told not to.
    Add(Box<ForecastAddArgs>),
    /// Write a layer to a file that ends with .tif (GeoTIFF with values), .csv, .geojson (contours), .png (a picture with its
    /// legend), .kmz (for globes) or .html (a page that works from the file).
    Export {
        /// The forecast's id, as `heron forecast list` shows it.
        id: String,
        /// The layer.
        #[arg(long, value_enum, default_value = "margin")]
        layer: LayerWord,
        /// Only the cells of this frame: south, west, north and east in degrees.
        #[arg(long, value_name = "SOUTH,WEST,NORTH,EAST", allow_hyphen_values = true)]
        frame: Option<Frame>,
        /// How many times as large the picture is.
        #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=4))]
        scale: u32,
        /// The file.
        #[arg(long, short, value_name = "FILE")]
        output: PathBuf,
    },
    /// Write a report to a file that ends with .xlsx or .html: sites, parameters, figures, and the links of devices.
    Report {
        /// The forecast's id, as `heron forecast list` shows it.
        id: String,
        /// The file.
        #[arg(long, short, value_name = "FILE")]
        output: PathBuf,
    },
    /// Hold a forecast against the survey: by how much it is off, and where reality is much worse; or against another forecast:
    /// what differs, and what is gained and lost.
    Compare {
        /// The forecast's id, as `heron forecast list` shows it.
        id: String,
        /// The id of another forecast; the survey if not given.
        #[arg(long, value_name = "ID")]
        with: Option<String>,
        /// With the survey: only as this gateway heard it, by name or EUI.
        #[arg(long, add = complete::gateways(), conflicts_with = "with")]
        gateway: Option<String>,
        /// With the survey, from when on: RFC 3339, a date, or how long ago.
        #[arg(long, value_name = "TIME", default_value = "7d", conflicts_with = "with")]
        since: Moment,
    },
    /// Stop one that is computed and keep what is done; remove one that has ended.
    Remove {
        /// The forecast's id, as `heron forecast list` shows it.
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct ForecastAddArgs {
    /// A site, by name; may be given several times. All gateways with a place if none is.
    #[arg(long = "site", value_name = "SITE", add = complete::sites())]
    pub sites: Vec<String>,
    /// The kind of receiver.
    #[arg(long, default_value = "outdoors", add = complete::receivers())]
    pub receiver: String,
    /// How the loss of a path is computed.
    #[arg(long = "path-model", value_enum, default_value = "p1812")]
    pub model: ModelWord,
    /// For this share of the time losses are no greater, in percent, 1 to 99; of models that know it.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    pub time: f64,
    /// At this share of places losses are no greater, in percent, 1 to 99; of models that know it.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    pub places: f64,
    /// The share of places where a link is to work, 0.01 to 0.999.
    #[arg(long, value_name = "SHARE", default_value_t = 0.9)]
    pub reliability: f64,
    /// How losses differ between places that look the same, as a standard deviation in dB, 0 to 20.
    #[arg(long, value_name = "DB", default_value_t = 6.0)]
    pub shadowing_db: f64,
    /// The region, whose data rates and first frequency count.
    #[arg(long, default_value = "EU868")]
    pub region: Region,
    /// The frequency in MHz, if it is another than the region's first.
    #[arg(long, value_name = "MHZ")]
    pub frequency_mhz: Option<f64>,
    /// How far around each site, in metres, 100 to 150,000.
    #[arg(long, value_name = "METRES", default_value_t = 12_000.0)]
    pub radius_m: f64,
    /// The side of a cell, in metres, 5 to 10,000.
    #[arg(long, value_name = "METRES", default_value_t = 50.0)]
    pub cell_m: f64,
    /// Bytes of a message.
    #[arg(long, value_name = "BYTES", default_value_t = 20)]
    pub payload_bytes: u16,
    /// How often a device sends: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds, default_value = "10min")]
    pub interval: f64,
    /// What else is sent in a channel: spreading factor and Erlang, such as 9:0.05. Repeat it for more.
    #[arg(long, value_name = "FACTOR:ERLANG", value_parser = load)]
    pub load: Vec<(SpreadingFactor, f64)>,
    /// The calibration of the model that is taken into account.
    #[arg(long, add = complete::calibrations())]
    pub calibration: Option<String>,
    /// A name for people.
    #[arg(long, default_value = "")]
    pub name: String,
    /// Do not wait until it is whole.
    #[arg(long)]
    pub no_wait: bool,
}

/// The word of the interface for a model.
pub(crate) const fn path_model(word: ModelWord) -> PathModel {
    match word {
        ModelWord::FreeSpace => PathModel::FreeSpace,
        ModelWord::HataCity => PathModel::HataCity,
        ModelWord::HataSuburban => PathModel::HataSuburban,
        ModelWord::HataOpen => PathModel::HataOpen,
        ModelWord::Diffraction => PathModel::Diffraction,
        ModelWord::P1812 => PathModel::P1812,
        ModelWord::IrregularTerrain => PathModel::IrregularTerrain,
    }
}

/// Loads as the interface has them.
pub(super) fn loads(all: &[(SpreadingFactor, f64)]) -> Vec<Load> {
    all.iter().map(|(factor, erlang)| Load { spreading_factor: factor.value(), erlang: *erlang }).collect()
}

//! `heron site`: its verbs and options.

use std::path::PathBuf;

use api::coverage::site::{AntennaAbout, SiteRadio};
use clap::{Args, Subcommand};
use coverage::geo::Place;

use crate::args::ListArgs;
use crate::commands::coverage::args::place;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum SiteVerb {
    /// List sites: the gateways, and those that are planned.
    List(ListArgs),
    /// Show one with its radio.
    Show {
        /// Its name.
        #[arg(add = complete::sites())]
        site: String,
    },
    /// Plan a site.
    Add {
        /// Its name, which no gateway has.
        name: String,
        /// Where it is: latitude and longitude in degrees, such as 54.712,3.884.
        #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
        at: Place,
        #[command(flatten)]
        radio: SiteRadioArgs,
    },
    /// Change sites: the place and the name of a planned one, and the radios of one or of many. Of a gateway the height, the
    /// beam, the power and the noise figure are changed here; all else with `heron gateway set`.
    Set {
        /// Their names.
        #[arg(required = true, value_name = "SITE", add = complete::sites())]
        sites: Vec<String>,
        /// A new name, of one planned site.
        #[arg(long)]
        name: Option<String>,
        /// A new place, of one planned site.
        #[arg(long, value_name = "PLACE", value_parser = place, allow_hyphen_values = true)]
        at: Option<Place>,
        #[command(flatten)]
        radio: SiteRadioArgs,
        /// Only show what would change.
        #[arg(long = "dry-run", conflicts_with_all = ["name", "at"])]
        check: bool,
    },
    /// Plan the sites of a CSV file, whose columns are those of `heron coverage area --sites`.
    Import {
        /// The file.
        file: PathBuf,
        /// Only show what would be planned.
        #[arg(long = "dry-run")]
        check: bool,
    },
    /// Write the sites as CSV, to be read by `heron site import` or `heron coverage area`.
    Export {
        /// The file; standard output if not given.
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Remove a planned site.
    Remove {
        /// Its name.
        #[arg(add = complete::sites())]
        site: String,
    },
}

/// A site's radio.
#[derive(Args)]
pub(crate) struct SiteRadioArgs {
    /// The antenna above the ground, in metres, 0.5 to 1,000; 10 if it was never given.
    #[arg(long, value_name = "METRES")]
    pub height_m: Option<f64>,
    /// The antenna's gain, in dBi, -20 to 30; 3 if it was never given.
    #[arg(long, value_name = "DBI", allow_hyphen_values = true)]
    pub gain_dbi: Option<f64>,
    /// Where the beam points, in degrees from north over east. Without it the antenna is the same all around.
    #[arg(long, value_name = "DEGREES")]
    pub azimuth_deg: Option<f64>,
    /// How far the beam points below the horizon, in degrees.
    #[arg(long, value_name = "DEGREES", allow_hyphen_values = true)]
    pub tilt_deg: Option<f64>,
    /// The beam's width where half of the power is left, in degrees.
    #[arg(long, value_name = "DEGREES")]
    pub horizontal_beam_deg: Option<f64>,
    /// The beam's height where half of the power is left, in degrees.
    #[arg(long, value_name = "DEGREES")]
    pub vertical_beam_deg: Option<f64>,
    /// How much weaker it is at the back, in dB.
    #[arg(long, value_name = "DB")]
    pub front_to_back_db: Option<f64>,
    /// Lost in the cable, in dB; 1 if it was never given.
    #[arg(long, value_name = "DB")]
    pub cable_loss_db: Option<f64>,
    /// What is transmitted before the cable, in dBm; 14 if it was never given.
    #[arg(long, value_name = "DBM", allow_hyphen_values = true)]
    pub power_dbm: Option<f64>,
    /// Noise of the receiver, in dB; 6 if it was never given.
    #[arg(long, value_name = "DB")]
    pub noise_figure_db: Option<f64>,
}

impl SiteRadioArgs {
    /// What was given, and nothing else.
    pub(crate) fn radio(&self) -> SiteRadio {
        let antenna = AntennaAbout {
            gain_dbi: self.gain_dbi,
            azimuth_deg: self.azimuth_deg,
            tilt_deg: self.tilt_deg,
            horizontal_beam_deg: self.horizontal_beam_deg,
            vertical_beam_deg: self.vertical_beam_deg,
            front_to_back_db: self.front_to_back_db,
            ..AntennaAbout::default()
        };
        SiteRadio {
            antenna: Some(antenna).filter(|antenna| *antenna != AntennaAbout::default()),
            height_m: self.height_m,
            power_dbm: self.power_dbm,
            cable_loss_db: self.cable_loss_db,
            noise_figure_db: self.noise_figure_db,
        }
    }
}

//! `heron readings`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use crate::args::moment::Moment;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ReadingsVerb {
    /// List a device's readings as they are now, and what looks wrong about them.
    List {
        /// Its DevEUI or name.
        #[arg(add = complete::devices())]
        device: String,
    },
    /// Draw how a reading was over time.
    Chart(ChartArgs),
    /// Write every value to a file.
    Export(ExportArgs),
}

#[derive(Args)]
pub(crate) struct ChartArgs {
    /// The device's DevEUI or name.
    #[arg(add = complete::devices())]
    pub device: String,
    /// The reading's name.
    pub reading: String,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME", default_value = "1d")]
    pub since: Moment,
    /// Until when; now if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Points in a line, about: 10 to 2,000.
    #[arg(long, value_name = "N", default_value_t = 24)]
    pub points: u32,
}

/// How a file is written.
#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum ExportForm {
    Csv,
    /// JSON, an object a line.
    Jsonl,
    Parquet,
}

#[derive(Args)]
pub(crate) struct ExportArgs {
    /// Where to write: a file that ends with .csv, .jsonl or .parquet; standard output if not given.
    #[arg(long, short, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// The format; that of the file's name if not given, else CSV.
    #[arg(long)]
    pub form: Option<ExportForm>,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME", default_value = "30d")]
    pub since: Moment,
    /// Until when; now if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Only of this device: its DevEUI or name.
    #[arg(long, add = complete::devices())]
    pub device: Option<String>,
    /// Only of devices of this fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// Only of devices of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// Only readings of these names, separated by commas.
    #[arg(long, value_name = "NAMES")]
    pub reading: Option<String>,
}

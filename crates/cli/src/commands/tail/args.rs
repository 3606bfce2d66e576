//! `heron tail`: its options.

use std::path::PathBuf;

use clap::Args;

use crate::args::moment::Moment;
use crate::complete;

#[derive(Args)]
pub(crate) struct TailArgs {
    /// Only messages of this fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// Only these types, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES")]
    pub types: Option<String>,
    /// Only those of devices of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// What is printed of each: `message` as it is documented, or `flat`, one object without objects in it.
    #[arg(long, value_parser = ["message", "flat"], default_value = "message", conflicts_with_all = ["field", "script"])]
    pub shape: String,
    /// Print only this field, like readings.water_level.value; may be given several times.
    #[arg(long, value_name = "PATH")]
    pub field: Vec<String>,
    /// Print what a script makes of each: a file of JavaScript with `transform(message)`. It runs in the service, and takes the
    /// right to outlets.
    #[arg(long, value_name = "FILE", conflicts_with = "field")]
    pub script: Option<PathBuf>,
    /// From when on: RFC 3339, a date, or so long ago, like 2h; from now on if not given.
    #[arg(long, value_name = "WHEN")]
    pub since: Option<Moment>,
    /// End after so many messages; without an end if not given.
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
}

//! `heron fleet`: its verbs and options.

use clap::{Args, Subcommand};

use crate::args::{ListArgs, OrNone, days_or_forever, number_or_none, seconds, seconds_or_none};
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum FleetVerb {
    /// List fleets.
    List(ListArgs),
    /// Show one.
    Show {
        /// Its short name.
        #[arg(value_name = "FLEET", add = complete::fleets())]
        slug: String,
    },
    /// Add one.
    Add {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        limits: FleetLimitArgs,
    },
    /// Change one; what is not given stays.
    Set(Box<FleetSetArgs>),
    /// Remove one that has no devices.
    Remove {
        /// Its short name.
        #[arg(value_name = "FLEET", add = complete::fleets())]
        slug: String,
    },
}

#[derive(Args)]
pub struct FleetLimitArgs {
    /// Airtime of a device's uplinks a day: seconds, or with a unit.
    #[arg(long, value_name = "AIRTIME", value_parser = seconds)]
    pub airtime_a_day: Option<f64>,
    /// Downlinks to a device a day.
    #[arg(long, value_name = "N")]
    pub downlinks_a_day: Option<u32>,
}

#[derive(Args)]
pub(crate) struct FleetSetArgs {
    /// Its short name.
    #[arg(value_name = "FLEET", add = complete::fleets())]
    pub slug: String,
    /// Another name.
    #[arg(long)]
    pub name: Option<String>,
    /// Another short name. Messages that are stored keep the one they have.
    #[arg(long = "slug", value_name = "SLUG")]
    pub new_slug: Option<String>,
    /// Airtime of each device's uplinks a day: seconds, or with a unit; `none` lifts the limit.
    #[arg(long, value_name = "AIRTIME", value_parser = seconds_or_none)]
    pub airtime_a_day: Option<OrNone<f64>>,
    /// Downlinks to each device a day; `none` lifts the limit.
    #[arg(long, value_name = "N", value_parser = number_or_none)]
    pub downlinks_a_day: Option<OrNone<u32>>,
    /// Days for which every value of a reading is kept, or `forever`. Older values are removed within hours.
    #[arg(long, value_name = "DAYS", value_parser = days_or_forever)]
    pub keep_values: Option<OrNone<u32>>,
    /// Days for which summaries of hours and days are kept, or `forever`.
    #[arg(long, value_name = "DAYS", value_parser = days_or_forever)]
    pub keep_summaries: Option<OrNone<u32>>,
    /// Days for which messages are kept, or `forever`: frames as they were heard and sent.
    #[arg(long, value_name = "DAYS", value_parser = days_or_forever)]
    pub keep_messages: Option<OrNone<u32>>,
    /// The AppKey that its devices ship with; they are registered with `--app-key fleet`.
    #[arg(long, value_name = "KEY")]
    pub app_key: Option<String>,
    /// Read that AppKey from standard input.
    #[arg(long, conflicts_with = "app_key")]
    pub app_key_stdin: bool,
    /// Take that AppKey away.
    #[arg(long, conflicts_with_all = ["app_key", "app_key_stdin"])]
    pub remove_app_key: bool,
}

//! `heron fleet`: its verbs and options.

use clap::{Args, Subcommand};

use crate::args::seconds;

#[derive(Subcommand)]
pub(crate) enum FleetVerb {
    /// List fleets.
    List,
    /// Show one.
    Show { slug: String },
    /// Make one.
    Add {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        limits: FleetLimitArgs,
    },
    /// Set what each of its devices may use in any 24 hours; a limit that is not given is lifted.
    Limit {
        slug: String,
        #[command(flatten)]
        limits: FleetLimitArgs,
    },
    /// Set for how many days its history is kept; what is not given is kept for ever.
    Keep(FleetKeepArgs),
    /// Give it the AppKey that its devices ship with, which is asked for; devices are registered with --app-key fleet.
    Key {
        slug: String,
        /// The key; asked for if not given, so that it stays out of the shell's history.
        #[arg(long, env = "HERON_APP_KEY", hide_env_values = true)]
        app_key: Option<String>,
        /// Take it away instead.
        #[arg(long, conflicts_with = "app_key")]
        remove: bool,
    },
    /// Remove one that has no devices.
    Remove { slug: String },
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
pub(crate) struct FleetKeepArgs {
    pub slug: String,
    /// Every value of a reading.
    #[arg(long, value_name = "DAYS")]
    pub values: Option<u32>,
    /// Summaries of hours and days.
    #[arg(long, value_name = "DAYS")]
    pub summaries: Option<u32>,
    /// Messages: frames as they were heard and sent.
    #[arg(long, value_name = "DAYS")]
    pub messages: Option<u32>,
}

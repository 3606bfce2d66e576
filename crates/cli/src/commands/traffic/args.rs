//! `heron traffic`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::moment::Moment;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum TrafficVerb {
    /// List past messages, the newest last.
    List(TrafficListArgs),
    /// Print messages as they come, after the last ones of the past, until it is stopped.
    Follow(TrafficFollowArgs),
    /// Write messages to a file, the oldest first.
    Export {
        #[command(flatten)]
        which: WhichArgs,
        #[command(flatten)]
        past: PastArgs,
        /// Where to write: a file that ends with .csv or .jsonl; CSV on standard output if not given.
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
}

/// Which messages, of those that come and those of the past.
#[derive(Args)]
pub(crate) struct WhichArgs {
    /// Only this device: its DevEUI or name.
    #[arg(long, add = complete::devices())]
    pub device: Option<String>,
    /// Only what this gateway heard or sent: its EUI or name.
    #[arg(long, add = complete::gateways())]
    pub gateway: Option<String>,
    /// Only these types, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES", default_value = "uplink,join,refused,downlink,notice")]
    pub kind: String,
}

/// Which messages of the past.
#[derive(Args)]
pub(crate) struct PastArgs {
    /// Only devices of this fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: Option<String>,
    /// Only devices of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// Only devices with this tag.
    #[arg(long)]
    pub tag: Option<String>,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME")]
    pub since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
}

#[derive(Args)]
pub(crate) struct TrafficListArgs {
    #[command(flatten)]
    pub which: WhichArgs,
    #[command(flatten)]
    pub past: PastArgs,
    /// How many at most: 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub limit: u32,
    /// Show each frame's bytes as well, for `heron frame show`.
    #[arg(long)]
    pub bytes: bool,
}

#[derive(Args)]
pub(crate) struct TrafficFollowArgs {
    #[command(flatten)]
    pub which: WhichArgs,
    /// Messages of the past to begin with: from this time on. RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME")]
    pub since: Option<Moment>,
    /// Messages of the past to begin with, at most 500.
    #[arg(long, value_name = "N", default_value_t = 20, value_parser = clap::value_parser!(u32).range(0..=500))]
    pub limit: u32,
    /// Show each frame's bytes as well, for `heron frame show`.
    #[arg(long)]
    pub bytes: bool,
}

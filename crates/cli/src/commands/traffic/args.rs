//! `heron traffic`: its options.

use std::path::PathBuf;

use clap::Args;

use crate::args::moment::Moment;

#[derive(Args)]
pub(crate) struct TrafficArgs {
    /// Go on with what happens from now on.
    #[arg(long)]
    pub follow: bool,
    /// Only this device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
    /// Only devices of this fleet.
    #[arg(long, conflicts_with = "follow")]
    pub fleet: Option<String>,
    /// Only devices of this model.
    #[arg(long, conflicts_with = "follow")]
    pub model: Option<String>,
    /// Only devices with this tag.
    #[arg(long, conflicts_with = "follow")]
    pub tag: Option<String>,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME")]
    pub since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME", conflicts_with = "follow")]
    pub until: Option<Moment>,
    /// Write all of it to a file instead, oldest first: .csv or .jsonl.
    #[arg(long, short, value_name = "FILE", conflicts_with_all = ["follow", "limit"])]
    pub output: Option<PathBuf>,
    /// Only these types, separated by commas: uplink, join, refused, downlink, notice.
    #[arg(long = "type", value_name = "TYPES")]
    pub kind: Option<String>,
    /// Show each frame's bytes as well, for `heron frame`.
    #[arg(long)]
    pub bytes: bool,
    /// How many past messages to show, at most 500.
    #[arg(long, default_value_t = 20)]
    pub limit: u32,
}

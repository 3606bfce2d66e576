//! `heron traffic`: its options.

use clap::Args;

#[derive(Args)]
pub(crate) struct TrafficArgs {
    /// Go on with what happens from now on.
    #[arg(long)]
    pub follow: bool,
    /// Only this device: its DevEUI or name.
    #[arg(long)]
    pub device: Option<String>,
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

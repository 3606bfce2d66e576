//! `heron region`: its verbs.

use clap::Subcommand;
use lorawan::region::Region;

#[derive(Clone, Copy, Subcommand)]
pub(crate) enum RegionVerb {
    /// List them.
    List,
    /// Show one: band, channels, data rates, power, receive windows and limits, from RP002.
    Show {
        /// Its common name, such as EU868.
        #[arg(value_name = "REGION")]
        region: Region,
    },
}

//! Radio profiles.

use clap::Subcommand;
use lorawan::region::Region;

use crate::args::radio;

#[derive(Subcommand)]
pub(crate) enum ProfileVerb {
    /// List them.
    List,
    /// Show one.
    Show {
        /// Its short name.
        slug: String,
    },
    /// Add one, or change what is given; devices that stand on it follow.
    Put {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if it is new and none is given.
        #[arg(long)]
        name: Option<String>,
        /// Where its devices are used; EU868 if it is new and none is given.
        #[arg(long)]
        region: Option<Region>,
        /// Only report which devices would change, and what they would be sent.
        #[arg(long = "dry-run")]
        preview: bool,
        #[command(flatten)]
        radio: Box<radio::RadioArgs>,
    },
    /// Remove one that no device stands on.
    Remove {
        /// Its short name.
        slug: String,
    },
}

//! `heron profile`: its verbs and options.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::args::{ListArgs, radio};
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ProfileVerb {
    /// List them.
    List(ListArgs),
    /// Show one.
    Show {
        /// Its short name.
        #[arg(value_name = "PROFILE", add = complete::profiles())]
        slug: String,
    },
    /// Add one.
    Add {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        /// Where its devices are used; EU868 if not given.
        #[arg(long)]
        region: Option<Region>,
        #[command(flatten)]
        radio: Box<radio::RadioArgs>,
    },
    /// Change one; what is not given stays. Devices that stand on it follow.
    Set(Box<ProfileSetArgs>),
    /// Remove one that no device stands on.
    Remove {
        /// Its short name.
        #[arg(value_name = "PROFILE", add = complete::profiles())]
        slug: String,
    },
}

#[derive(Args)]
pub(crate) struct ProfileSetArgs {
    /// Its short name.
    #[arg(value_name = "PROFILE", add = complete::profiles())]
    pub slug: String,
    /// Its name.
    #[arg(long)]
    pub name: Option<String>,
    /// Where its devices are used.
    #[arg(long)]
    pub region: Option<Region>,
    /// Only show which devices would change, and what they would be sent.
    #[arg(long = "dry-run")]
    pub preview: bool,
    #[command(flatten)]
    pub radio: radio::RadioArgs,
}

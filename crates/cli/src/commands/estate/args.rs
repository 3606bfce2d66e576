//! `heron estate`: its verbs and options.

use clap::Subcommand;

use crate::complete;

#[derive(Subcommand)]
pub(crate) enum EstateVerb {
    /// List those one belongs to, or where something is shared with one.
    List {
        /// List all of the installation, with their owners (for the installation's keeper).
        #[arg(long)]
        all: bool,
    },
    /// Show one.
    Show {
        /// Its short name.
        #[arg(value_name = "ESTATE", add = complete::estates())]
        slug: String,
    },
    /// Found an estate (for the installation's keeper); its owner's invitation is printed once.
    Add {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        /// Whom the owner's invitation is for, in your own words.
        #[arg(long, value_name = "WHOM")]
        owner: String,
    },
    /// Remove an estate with its people, tokens and messages; its owners only.
    Remove {
        /// Its short name.
        #[arg(value_name = "ESTATE", add = complete::estates())]
        slug: String,
        /// Its devices, gateways and groups as well.
        #[arg(long)]
        everything: bool,
    },
}

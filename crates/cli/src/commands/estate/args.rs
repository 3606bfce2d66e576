//! `heron estate`: its verbs and options.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum EstateVerb {
    /// List those one belongs to, or where something is shared with one.
    List,
    /// List all of the installation (for the installation's keeper).
    All,
    /// Found an estate (for the installation's keeper); its owner's invitation is printed once.
    Found {
        /// Its short name: lower-case letters, digits and dashes.
        slug: String,
        /// Its name; the short name if not given.
        #[arg(long)]
        name: Option<String>,
        /// Whom the owner's invitation is for, in your own words.
        #[arg(long, value_name = "WHOM")]
        owner: String,
    },
}

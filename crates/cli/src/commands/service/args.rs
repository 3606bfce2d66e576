//! `heron service`: its verbs.

use clap::Subcommand;

use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ServiceVerb {
    /// List them.
    List,
    /// Use another one from now on, for commands without `--service`.
    Use {
        /// The name it was signed in to with.
        #[arg(add = complete::services())]
        name: String,
    },
}

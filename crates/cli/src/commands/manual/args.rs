//! `heron manual`: its options.

use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
pub(crate) struct ManualArgs {
    /// The folder to write the pages to, one for each command; only that of `heron` on standard output if not given.
    #[arg(long, short, value_name = "FOLDER")]
    pub output: Option<PathBuf>,
    /// Print the examples of all commands instead, in an order in which they can be run in the demo.
    #[arg(long, conflicts_with = "output")]
    pub examples: bool,
}

//! `heron audit`: its verbs and options.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use crate::args::moment::Moment;

/// What kind of entry.
#[derive(Clone, Copy, ValueEnum)]
pub enum Kind {
    /// Something was changed.
    Change,
    /// Somebody signed in or out, or failed to.
    Sign,
    /// Something was not allowed.
    Refusal,
    /// A secret was shown.
    Secret,
}

#[derive(Subcommand)]
pub(crate) enum AuditVerb {
    /// List entries, the newest first.
    List(AuditListArgs),
    /// Write entries to a file, the oldest first.
    Export {
        #[command(flatten)]
        which: AuditFilterArgs,
        /// Where to write: a file that ends with .csv or .jsonl; CSV on standard output if not given.
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
}

/// Which entries.
#[derive(Args)]
pub(crate) struct AuditFilterArgs {
    /// Only entries of this kind.
    #[arg(long)]
    pub kind: Option<Kind>,
    /// Only by who has this in their name, or their token's.
    #[arg(long, value_name = "TEXT")]
    pub who: Option<String>,
    /// Only with this in the action, or in what it was done to.
    #[arg(long, value_name = "TEXT")]
    pub what: Option<String>,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME")]
    pub since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
}

#[derive(Args)]
pub(crate) struct AuditListArgs {
    #[command(flatten)]
    pub which: AuditFilterArgs,
    /// How many at most: 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=500))]
    pub limit: u32,
    /// What concerns the installation instead: sign-ins, accounts, estates.
    #[arg(long)]
    pub installation: bool,
}

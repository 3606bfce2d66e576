//! `heron audit`: its options.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

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

#[derive(Args)]
pub(crate) struct AuditArgs {
    /// Only entries of this kind.
    #[arg(long)]
    pub kind: Option<Kind>,
    /// Only by who has this in their name, or their token's.
    #[arg(long)]
    pub who: Option<String>,
    /// Only with this in the action, or in what it was done to.
    #[arg(long)]
    pub what: Option<String>,
    /// From when on: RFC 3339, a date, or how long ago (2h).
    #[arg(long, value_name = "TIME")]
    pub since: Option<Moment>,
    /// Until when; a date to its end.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Entries, the newest first: 1 to 500.
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=500))]
    pub limit: u32,
    /// What concerns the installation instead: sign-ins, accounts, estates.
    #[arg(long)]
    pub installation: bool,
    /// Write all of it to this file instead: .csv or .jsonl.
    #[arg(long, short, value_name = "FILE", conflicts_with = "installation")]
    pub output: Option<PathBuf>,
}

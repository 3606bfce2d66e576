//! `heron ingest`: its verb.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum IngestVerb {
    /// Count what came in on the gateways' ports, and what was dropped, with the reason.
    Show,
}

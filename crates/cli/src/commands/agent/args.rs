//! `heron agent`: its options.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Args;

#[derive(Args)]
pub(crate) struct AgentArgs {
    /// The gateway's connection kit.
    #[arg(long, value_name = "FILE")]
    pub kit: PathBuf,
    /// Where the gateway's packet forwarder calls.
    #[arg(long, default_value = "127.0.0.1:1700", value_name = "ADDRESS")]
    pub listen: SocketAddr,
    /// Messages kept while the link is down; the oldest gives way.
    #[arg(long, default_value_t = 10_000, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub keep: u32,
}

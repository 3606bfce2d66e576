//! `herond`: the network service. It connects the pure crates to sockets, clock and database; no rule
//! of the job lives here.

mod committer;
mod config;
mod decode;
mod directory;
mod first_start;
mod http;
mod intake;
mod live;
mod network;
mod presence;
mod run;
mod tell;
mod udp;

use std::io::IsTerminal as _;

use anyhow::Result;
use clap::Parser as _;
use tracing_subscriber::EnvFilter;

use config::{Cli, Verb};

fn main() -> Result<()> {
    match Cli::parse().verb {
        Verb::Serve(options) => {
            let filter = EnvFilter::try_from_env("HEROND_LOG").unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn"));
            tracing_subscriber::fmt()
                .with_env_filter(filter)
                .with_writer(std::io::stderr)
                .with_ansi(std::io::stderr().is_terminal())
                .init();
            tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(run::run(options))
        }
        Verb::Openapi => {
            println!("{}", http::document().to_pretty_json()?);
            Ok(())
        }
    }
}

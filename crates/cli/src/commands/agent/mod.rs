//! `heron agent`.

pub(crate) mod args;

use std::fs;

use agent::Options;
use agent::kit::Kit;
use anyhow::{Context as _, Result};
use tokio::net::UdpSocket;

use crate::commands::agent::args::AgentArgs;
use crate::terminal;

pub(crate) async fn run(args: AgentArgs) -> Result<()> {
    let reading = || format!("reading {}", args.kit.display());
    let kit = Kit::from_zip(&fs::read(&args.kit).with_context(reading)?).with_context(reading)?;
    let socket = UdpSocket::bind(args.listen).await.with_context(|| format!("listening on {} (UDP)", args.listen))?;
    let stop = terminal::until_the_end()?;
    // It runs for months, its words go to a log, and nobody may be there to read them.
    let tell = Box::new(|text: String| eprintln!("{text}"));
    agent::run(Options { kit, socket, keep: args.keep as usize, tell }, stop).await.with_context(reading)
}

//! `heron`: the command-line client. `heron NOUN VERB`, tables for people, `--json` for programs.
//!
//! Exit codes: 0 done; 1 refused (the reason on stderr), or something needs attention; 2 wrong usage.

mod args;
mod client;
mod commands;
mod session;
mod show;

use std::process::ExitCode;

use clap::Parser as _;

use commands::{Cli, Context};

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    let Cli { global, noun } = Cli::parse();
    if global.utc {
        show::use_utc();
    }
    let out = show::Out { json: global.json };
    match commands::run(&Context { global, out }, noun).await {
        Ok(()) => ExitCode::SUCCESS,
        // The reader of the output has left, as `head` does: that is no failure of ours.
        Err(error) if is_broken_pipe(&error) => ExitCode::SUCCESS,
        // What that is has been written already.
        Err(error) if error.is::<show::NeedsAttention>() => ExitCode::from(1),
        Err(error) => {
            eprintln!("heron: {error:#}");
            ExitCode::from(1)
        }
    }
}

fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error.downcast_ref::<std::io::Error>().is_some_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe)
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    #[test]
    fn the_command_line_is_consistent() {
        Cli::command().debug_assert();
    }
}

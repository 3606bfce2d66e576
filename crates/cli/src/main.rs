//! `heron`: the command-line client. `heron NOUN VERB`, tables for people, `--json` for programs.
//!
//! Exit codes: 0 done; 1 refused (the reason on stderr), or something needs attention; 2 wrong usage; 3 not found; 4 not
//! allowed; 5 the service cannot be reached.

mod args;
mod client;
mod commands;
mod failure;
mod save;
mod session;
mod show;
mod table;

use std::process::ExitCode;

use clap::Parser as _;

use commands::{Cli, Context};

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    let Cli { global, noun } = Cli::parse();
    if global.utc {
        show::use_utc();
    }
    if global.wide {
        show::use_wide();
    }
    let out = show::Out { json: global.json };
    let as_json = global.json;
    failure::end(commands::run(&Context { global, out }, noun).await, as_json)
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

//! `heron`: the command-line client. `heron NOUN VERB`, tables for people, `--json` for programs.
//!
//! Exit codes: 0 done; 1 refused (the reason on stderr), or something needs attention; 2 wrong usage; 3 not found; 4 not
//! allowed; 5 the service cannot be reached.

mod args;
mod client;
mod commands;
mod complete;
mod examples;
mod failure;
#[cfg(test)]
mod mentions;
mod save;
mod session;
mod sheet;
mod show;
mod table;
mod terminal;

use std::process::ExitCode;

use anyhow::Context as _;
use clap::FromArgMatches as _;
use clap_complete::CompleteEnv;

use commands::{Cli, Context};

fn main() -> ExitCode {
    // A shell that completes a line calls us with COMPLETE set: that is answered here, and nothing else is done.
    CompleteEnv::with_factory(examples::command).complete();
    let matches = examples::command().get_matches();
    let Cli { global, noun } = match Cli::from_arg_matches(&matches) {
        Ok(cli) => cli,
        Err(error) => error.exit(),
    };
    if global.utc {
        show::use_utc();
    }
    terminal::set_up(&global);
    let out = show::Out { json: global.json };
    let as_json = global.json;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().context("starting");
    let done = runtime.and_then(|runtime| runtime.block_on(commands::run(&Context { global, out }, noun)));
    failure::end(done, as_json)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_consistent() {
        examples::command().debug_assert();
    }
}

//! `heron`: the command-line client. `heron NOUN VERB`, tables for people, `--json` for programs.
//!
//! Exit codes: 0 done, 1 refused (the reason on stderr), 2 wrong usage.

mod args;
mod client;
mod noun;
mod show;
mod sign_in;

use std::process::ExitCode;

use clap::{CommandFactory as _, Parser as _};

use args::{AirtimeVerb, CatalogueVerb, Cli, DecoderVerb, GatewayVerb, Noun, PeopleVerb};
use client::Client;

#[tokio::main(flavor = "current_thread")]
async fn main() -> ExitCode {
    let cli = Cli::parse();
    match run(cli).await {
        Ok(()) => ExitCode::SUCCESS,
        // Whoever read the output has left, as `head` does: that is no failure of ours.
        Err(error) if is_broken_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("heron: {error:#}");
            ExitCode::from(1)
        }
    }
}

async fn run(cli: Cli) -> anyhow::Result<()> {
    let out = show::Out { json: cli.global.json };
    match cli.noun {
        Noun::SignIn(verb) => sign_in::sign_in(&cli.global, verb).await,
        Noun::People { verb: PeopleVerb::Take(args) } if args.new_account.is_some() => {
            sign_in::take_invitation(&cli.global, args).await
        }
        Noun::SignOut => sign_in::sign_out(&cli.global).await,
        Noun::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "heron", &mut std::io::stdout());
            Ok(())
        }
        Noun::Frame(args) => noun::frame::run(&cli.global, &out, *args).await,
        Noun::Region { region } => noun::region::run(&out, region),
        Noun::Airtime { verb: AirtimeVerb::Calc(args) } => noun::airtime::calc(&out, &args),
        Noun::Gateway { verb: GatewayVerb::Layout(args) } => noun::layout::run(&out, args),
        Noun::Relay(args) => noun::relay::run(args).await,
        Noun::Decoder { verb: DecoderVerb::Read(args) } => noun::decoder::read(&out, &args),
        Noun::Decoder { verb: DecoderVerb::Write(args) } => noun::decoder::write(&out, &args),
        Noun::Catalogue { verb: CatalogueVerb::Check { folder } } => noun::catalogue::check(&out, &folder),
        other => {
            let client = Client::signed_in(&cli.global)?;
            let yes = cli.global.yes;
            match other {
                Noun::Account { verb } => noun::account::run(&client, &out, verb, yes).await,
                Noun::People { verb } => noun::people::run(&client, &out, verb, yes).await,
                Noun::Token { verb } => noun::token::run(&client, &out, verb, yes).await,
                Noun::Audit(args) => noun::audit::run(&client, &out, args).await,
                Noun::Estate { verb } => noun::estate::run(&client, &out, &verb).await,
                Noun::Find { text } => noun::find::run(&client, &out, text.join(" ")).await,
                Noun::Watch => noun::watch::run(&client, &out).await,
                Noun::Gateway { verb } => noun::gateway::run(&client, &out, verb, yes).await,
                Noun::Fleet { verb } => noun::fleet::run(&client, &out, verb, yes).await,
                Noun::Model { verb } => noun::model::run(&client, &out, verb).await,
                Noun::Decoder { verb } => noun::workbench::run(&client, &out, verb, yes).await,
                Noun::Readings { verb } => noun::readings::run(&client, &out, verb).await,
                Noun::Rehearse(args) => noun::rehearse::run(&client, &out, *args).await,
                Noun::Catalogue { verb } => noun::catalogue::run(&client, &out, verb).await,
                Noun::Profile { verb } => noun::profile::run(&client, &out, verb, yes).await,
                Noun::Device { verb } => noun::device::run(&client, &out, verb, yes).await,
                Noun::Group { verb } => noun::group::run(&client, &out, verb, yes).await,
                Noun::Outbox { verb } => noun::outbox::run(&client, &out, verb).await,
                Noun::Traffic(verb) => noun::traffic::run(&client, &out, &verb).await,
                Noun::Intake => noun::intake::run(&client, &out).await,
                Noun::Bench { verb } => noun::bench::run(&client, &out, &verb, yes).await,
                Noun::Scenario { verb } => noun::scenario::run(&client, &out, verb).await,
                Noun::SignIn(_)
                | Noun::SignOut
                | Noun::Completions { .. }
                | Noun::Frame(_)
                | Noun::Relay(_)
                | Noun::Region { .. }
                | Noun::Airtime { verb: AirtimeVerb::Calc(_) } => Ok(()),
                Noun::Airtime { verb: AirtimeVerb::Ledger { by } } => noun::ledger::run(&client, &out, by).await,
            }
        }
    }
}

fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error.downcast_ref::<std::io::Error>().is_some_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_consistent() {
        Cli::command().debug_assert();
    }
}

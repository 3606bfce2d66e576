//! `herond`: the network service. It connects the pure crates to sockets, clock and database; no rule
//! of the job lives here.

mod clock;
mod data_files;
mod decoding;
mod downlinks;
mod gateways;
mod ground;
mod history;
mod http;
mod import;
mod ingest;
mod net;
mod outlets;
mod pipeline;
mod planning;
mod rounds;
mod startup;

use std::io::IsTerminal as _;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

use anyhow::{Context as _, Result};
use clap::Parser as _;
use tracing_subscriber::EnvFilter;

use mimalloc::MiMalloc;
use startup::config::{Cli, InsertRate, MakeHistory, Options, ScenarioHistory, Verb};
use startup::operator;
use store::{Store, Vault};

/// The engine makes and drops small things of some few sizes, from several threads: the system's allocator
/// takes a third of its time.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    let verb = Cli::parse().verb;
    if !matches!(verb, Verb::Serve(_) | Verb::DecodeWorker(_)) {
        // A reader that leaves, as `head` does, ends a small command quietly.
        sigpipe::reset();
    }
    let done = match verb {
        Verb::Serve(options) => serve(*options),
        Verb::DecodeWorker(options) => return decoding::workers::run(options.niceness),
        Verb::Openapi => document(),
        Verb::Problems => {
            print!("{}", api::problem::kinds::markdown());
            Ok(())
        }
        Verb::MessageSchemas { folder } => write_schemas(&folder),
        Verb::BrokerFiles(options) => gateways::broker_files::write(&options),
        Verb::InsertRate(options) => insert_rate(&options),
        Verb::MakeHistory(options) => make_history(&options),
        Verb::ScenarioHistory(options) => scenario_history(&options),
        Verb::ResetPassword(options) => alone(operator::reset_password(&options)),
        Verb::Restored(options) => alone(operator::restored(&options)),
        Verb::RotateMasterKey(options) => alone(operator::rotate_master_key(&options)),
        Verb::Migrate(options) => alone(operator::migrate(&options.database)),
        Verb::Grants(options) => alone(operator::grants(&options)),
        Verb::PruneAudit(options) => alone(operator::prune_audit(&options)),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("herond: {error:#}");
            ExitCode::from(1)
        }
    }
}

fn serve(options: Options) -> Result<()> {
    // What brokers refuse is told by whom it concerns; the library says it once more, as a warning.
    let log = match options.log.contains("rumqttc") {
        true => options.log.clone(),
        false => format!("{},rumqttc=error", options.log),
    };
    let filter = EnvFilter::try_new(&log).with_context(|| format!("--log {}", options.log))?;
    let colours = std::io::stderr().is_terminal();
    // What outlets call with over TLS. An error would say that there is one already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(colours).init();
    let outlets = outlets::runtime().context("starting threads for outlets")?;
    let handle = outlets.handle().clone();
    let done =
        tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(startup::run::run(options, handle));
    outlets.shutdown_background();
    done
}

/// A small command that needs no running service.
fn alone(work: impl Future<Output = Result<()>>) -> Result<()> {
    tokio::runtime::Builder::new_current_thread().enable_all().build()?.block_on(work)
}

fn make_history(options: &MakeHistory) -> Result<()> {
    let make = async {
        let store = Store::open(&options.database, Vault::from_key(rand::random())).await?;
        store.make_history(&options.reading, &options.unit, options.days, options.interval_s).await
    };
    let values = tokio::runtime::Builder::new_current_thread().enable_all().build()?.block_on(make)?;
    println!("{values}");
    Ok(())
}

fn scenario_history(options: &ScenarioHistory) -> Result<()> {
    tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(startup::past::make(options))
}

fn insert_rate(options: &InsertRate) -> Result<()> {
    let measure = async {
        // Nothing is sealed here, so any key will do.
        let store = Store::open(&options.database, Vault::from_key(rand::random())).await?;
        store.insert_rate(Duration::from_secs(options.seconds), options.row_bytes).await
    };
    let rows_per_s = tokio::runtime::Builder::new_current_thread().enable_all().build()?.block_on(measure)?;
    println!("{rows_per_s:.0}");
    Ok(())
}

fn write_schemas(folder: &Path) -> Result<()> {
    std::fs::create_dir_all(folder).with_context(|| format!("making {}", folder.display()))?;
    let document = serde_json::to_value(http::document())?;
    for (kind, schema) in http::message_schemas(&document) {
        let file = folder.join(format!("{kind}.schema.json"));
        let text = serde_json::to_string_pretty(&schema)? + "\n";
        std::fs::write(&file, text).with_context(|| format!("writing {}", file.display()))?;
    }
    Ok(())
}

fn document() -> Result<()> {
    println!("{}", http::document().to_pretty_json()?);
    Ok(())
}

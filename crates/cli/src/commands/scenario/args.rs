//! `heron scenario`: its verbs and options.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum ScenarioVerb {
    /// Register what the scenario names and is not registered yet.
    Import {
        /// The folder.
        folder: PathBuf,
        /// Where to put connection kits of gateways that need one, and have none there yet.
        #[arg(long, value_name = "FOLDER")]
        kits: Option<PathBuf>,
    },
    /// Run its stand-in gateways and devices until interrupted.
    Run {
        /// The folder.
        folder: PathBuf,
        /// Where its gateways call: the service's UDP port.
        #[arg(long, default_value = "127.0.0.1:1700", value_name = "ADDRESS")]
        gateways_call: SocketAddr,
        /// Where the connection kits of its gateways are, each named EUI.zip.
        #[arg(long, value_name = "FOLDER")]
        kits: Option<PathBuf>,
        /// File with the state of its devices: sessions, counters, next uplinks. They continue from it, and it is saved every
        /// minute and at the end. A file that is not there is made.
        #[arg(long, value_name = "FILE")]
        state: Option<PathBuf>,
    },
}

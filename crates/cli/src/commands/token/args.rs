//! `heron token`: its verbs and options.

use api::people::rights::Right;
use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub(crate) enum TokenVerb {
    /// List access tokens: your own, and everybody's if you look after people.
    List,
    /// Make an access token; its secret is printed once.
    Add(TokenAddArgs),
    /// Revoke an access token; what it is used for ends at once.
    Revoke {
        /// Its number.
        id: u32,
    },
}

#[derive(Args)]
pub(crate) struct TokenAddArgs {
    /// What it is for.
    pub name: String,
    /// What it allows: view, send, devices, decoders, gateways, keys, audit.
    #[arg(long, value_delimiter = ',', default_value = "view")]
    pub rights: Vec<Right>,
    /// It reaches only this fleet.
    #[arg(long, value_name = "SLUG", conflicts_with = "device")]
    pub fleet: Option<String>,
    /// It reaches only this device.
    #[arg(long, value_name = "DEVICE")]
    pub device: Option<String>,
    /// Days it is valid; without an end if not given.
    #[arg(long, value_name = "DAYS")]
    pub days: Option<u32>,
}

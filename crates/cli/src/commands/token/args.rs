//! `heron token`: its verbs and options.

use api::people::rights::Right;
use clap::{Args, Subcommand};

use crate::args::ListArgs;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum TokenVerb {
    /// List access tokens: your own, and everybody's if you look after people.
    List(ListArgs),
    /// Make an access token; its secret is printed once.
    Add(TokenAddArgs),
    /// Show one, without its secret.
    Show {
        /// Its number.
        id: u32,
    },
    /// Revoke an access token; what it is used for ends at once.
    Remove {
        /// Its number.
        id: u32,
    },
}

#[derive(Args)]
pub(crate) struct TokenAddArgs {
    /// What it is for.
    pub name: String,
    /// What it allows: view, send, devices, decoders, gateways, outlets, keys, audit.
    #[arg(long, value_delimiter = ',', default_value = "view")]
    pub rights: Vec<Right>,
    /// Reach only this fleet; the whole estate if neither fleet nor device is given.
    #[arg(long, value_name = "FLEET", conflicts_with = "device", add = complete::fleets())]
    pub fleet: Option<String>,
    /// Reach only this device.
    #[arg(long, value_name = "DEVICE", add = complete::devices())]
    pub device: Option<String>,
    /// Days it is valid; without an end if not given.
    #[arg(long, value_name = "DAYS")]
    pub days: Option<u32>,
}

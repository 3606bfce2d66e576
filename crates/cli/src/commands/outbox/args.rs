//! `heron outbox`.

use clap::{Args, Subcommand};

use crate::args::seconds;

#[derive(Subcommand)]
pub(crate) enum OutboxVerb {
    /// List a device's downlinks: those that wait in the order in which they go, then those that are done, newest first.
    List {
        /// The device's DevEUI or name.
        device: String,
    },
    /// Put a downlink into a device's outbox: bytes, or values for the encoder of its model.
    Add(OutboxAddArgs),
    /// Put a downlink that waits elsewhere in its line.
    Move {
        /// The device's DevEUI or name.
        device: String,
        /// The downlink's name, as `heron outbox list` shows it.
        id: String,
        #[command(flatten)]
        to: MoveTo,
    },
    /// Take a downlink out that still waits.
    Cancel {
        /// The device's DevEUI or name.
        device: String,
        /// The downlink's name, as `heron outbox list` shows it.
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct OutboxAddArgs {
    /// The device's DevEUI or name.
    pub device: String,
    /// FPort, 1 to 223. For values the encoder chooses one, if none is given.
    #[arg(long)]
    pub port: Option<u32>,
    #[command(flatten)]
    pub cargo: CargoArgs,
    /// Ask the device to acknowledge it.
    #[arg(long)]
    pub confirmed: bool,
    /// Send it before all others that wait.
    #[arg(long)]
    pub first: bool,
    /// Transmissions allowed; the device's radio settings say so if not given.
    #[arg(long, value_name = "N")]
    pub attempts: Option<u32>,
    /// It expires if it has not been sent within this time: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub expires_in: Option<f64>,
    /// Only show what would be sent, and when.
    #[arg(long = "dry-run")]
    pub check: bool,
}

#[derive(Args)]
#[group(required = true, multiple = false)]
pub(crate) struct CargoArgs {
    /// The payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: Option<String>,
    /// The payload in base64.
    #[arg(long, value_name = "BASE64")]
    pub base64: Option<String>,
    /// The payload as text, sent as UTF-8.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// A value for the encoder of the device's model; may be given several times. A dot in the name leads into an object.
    #[arg(long = "value", value_name = "NAME=VALUE")]
    pub values: Vec<String>,
    /// All values for the encoder, as an object of JSON.
    #[arg(long, value_name = "OBJECT")]
    pub json_values: Option<String>,
}

#[derive(Args)]
#[group(required = true, multiple = false)]
pub(crate) struct MoveTo {
    /// Before all others.
    #[arg(long)]
    pub first: bool,
    /// After all others.
    #[arg(long)]
    pub last: bool,
    /// Before this one.
    #[arg(long, value_name = "ID")]
    pub before: Option<String>,
}

//! `heron outbox`.

use clap::{Args, Subcommand};

use crate::args::seconds;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum OutboxVerb {
    /// List downlinks: those that wait in the order in which they go, then those that are done, newest first.
    List {
        /// A device's or group's name, or its EUI.
        #[arg(add = complete::devices())]
        target: String,
    },
    /// Show one.
    Show {
        /// A device's or group's name, or its EUI.
        #[arg(add = complete::devices())]
        target: String,
        /// The downlink's id, as `heron outbox list` shows it.
        id: String,
    },
    /// Queue a downlink for a device or a group: bytes, or values for the encoder of its model.
    Add(Box<OutboxAddArgs>),
    /// Put a downlink that waits elsewhere in its line.
    Set {
        /// A device's or group's name, or its EUI.
        #[arg(add = complete::devices())]
        target: String,
        /// The downlink's id, as `heron outbox list` shows it.
        id: String,
        #[command(flatten)]
        to: MoveTo,
    },
    /// Cancel a downlink that still waits.
    Remove {
        /// A device's or group's name, or its EUI.
        #[arg(add = complete::devices())]
        target: String,
        /// The downlink's id, as `heron outbox list` shows it.
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct OutboxAddArgs {
    /// A device's or group's name, or its EUI.
    #[arg(add = complete::devices())]
    pub target: String,
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
    /// A command that the model has, by its name, such as "open to 40 %".
    #[arg(long, value_name = "NAME")]
    pub command: Option<String>,
    /// A value for the encoder of the model; may be given several times. A dot in the name leads into an object.
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

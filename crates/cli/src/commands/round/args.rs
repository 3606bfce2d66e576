//! `heron round`: its verbs and options.

use clap::{Args, Subcommand};

use crate::args::seconds;
use crate::commands::outbox::args::CargoArgs;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum RoundVerb {
    /// List rounds, the latest first.
    List,
    /// Show one: how far it has come, and the outcome of each device.
    Show {
        /// The round's id, as `heron round list` shows it.
        id: String,
        /// Only devices whose downlink is refused, given up or cancelled.
        #[arg(long)]
        failed: bool,
    },
    /// Send a downlink to each device of a fleet, of a model or with a tag, spread over time. All that is given must fit.
    Add(Box<RoundAddArgs>),
    /// Stop one: what still waits is cancelled, what was sent stays sent.
    Remove {
        /// The round's id, as `heron round list` shows it.
        id: String,
    },
}

#[derive(Args)]
pub(crate) struct RoundAddArgs {
    /// To devices of this fleet.
    #[arg(long, required_unless_present_any = ["model", "tag", "devices"], add = complete::fleets())]
    pub fleet: Option<String>,
    /// To devices of this model.
    #[arg(long, add = complete::models())]
    pub model: Option<String>,
    /// To devices with this tag.
    #[arg(long)]
    pub tag: Option<String>,
    /// To this device, by name or DevEUI; may be given several times.
    #[arg(long = "device", value_name = "DEVICE", conflicts_with_all = ["fleet", "model", "tag"], add = complete::devices())]
    pub devices: Vec<String>,
    /// FPort, 1 to 223. For values the encoder chooses one, if none is given.
    #[arg(long)]
    pub port: Option<u32>,
    #[command(flatten)]
    pub cargo: CargoArgs,
    /// Ask each device to acknowledge it.
    #[arg(long)]
    pub confirmed: bool,
    /// Transmissions allowed; the device's radio settings say so if not given.
    #[arg(long, value_name = "N")]
    pub attempts: Option<u32>,
    /// A downlink expires if it has not been sent within this time of its turn: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub expires_in: Option<f64>,
    /// Spread them over this time, at most 7d: seconds, or with a unit. If not given, so long that they take at most half of
    /// the airtime that gateways may use.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub over: Option<f64>,
    /// Only show how many devices it is for, how long it takes, and which cannot be sent it.
    #[arg(long = "dry-run")]
    pub check: bool,
}

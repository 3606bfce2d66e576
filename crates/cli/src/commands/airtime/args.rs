//! `heron airtime`: its verbs and options.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::args::seconds;

#[derive(Subcommand)]
pub(crate) enum AirtimeVerb {
    /// Show the ledger: who has used how much, by gateway, device and sub-band, in the last hour and the last day.
    Show {
        /// Only one of the accounts.
        #[arg(long, value_enum)]
        by: Option<LedgerBy>,
    },
    /// Airtime, duty cycle and lawful interval of a message, for all data rates of a region.
    Calc(AirtimeCalcArgs),
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum LedgerBy {
    /// What each gateway sent, with a day drawn as a strip.
    Gateway,
    /// Devices that are on air most, and those that cost gateways most.
    Device,
    /// All of them together.
    SubBand,
}

#[derive(Args)]
pub(crate) struct AirtimeCalcArgs {
    /// Length of the payload in bytes, 0 to 242.
    #[arg(long, value_name = "BYTES", required_unless_present = "payload")]
    pub payload_bytes: Option<u32>,
    /// The payload in hex, in any pasted form, instead of its length.
    #[arg(long, value_name = "HEX", conflicts_with = "payload_bytes")]
    pub payload: Option<String>,
    /// The region.
    #[arg(long, default_value = "EU868")]
    pub region: Region,
    /// Time from one message to the next: seconds, or with a unit as in 90s, 15min, 2h, 1d.
    #[arg(long, value_parser = seconds)]
    pub interval: Option<f64>,
    /// A limit of airtime a day that you set yourself: seconds, or with a unit.
    #[arg(long, value_name = "AIRTIME", value_parser = seconds)]
    pub daily_airtime: Option<f64>,
    /// MAC commands in the header, in bytes, 0 to 15.
    #[arg(long, value_name = "BYTES", default_value_t = 0)]
    pub fopts: u32,
    /// How often each message is sent (NbTrans), 1 to 15.
    #[arg(long, default_value_t = 1)]
    pub times: u32,
    /// Assume a repeater between device and gateway.
    #[arg(long)]
    pub repeater: bool,
    /// The network has switched the dwell-time limit off, where the region lets it.
    #[arg(long)]
    pub dwell_off: bool,
}

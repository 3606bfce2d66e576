//! Multicast groups.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::args::{radio, seconds};

#[derive(Subcommand)]
pub(crate) enum GroupVerb {
    /// List groups.
    List,
    /// Show one: its members, and the gateways that would send.
    Show { group: String },
    /// Make one.
    Add(Box<GroupAddArgs>),
    /// Change one; what is not given stays.
    Set {
        group: String,
        /// Another name.
        #[arg(long)]
        name: Option<String>,
        /// A device that becomes a member, by name or DevEUI; may be given several times.
        #[arg(long = "add-member", value_name = "DEVICE")]
        add: Vec<String>,
        /// A device that is a member no longer; may be given several times.
        #[arg(long = "remove-member", value_name = "DEVICE")]
        remove: Vec<String>,
    },
    /// Show its address and keys, to be set in its members. Each look is written to the service's log.
    Keys { group: String },
    /// Put a downlink into its outbox.
    Send(GroupSendArgs),
    /// List its downlinks, newest first.
    Outbox { group: String },
    /// Remove one; its members stay.
    Remove { group: String },
}

#[derive(Args)]
pub(crate) struct GroupAddArgs {
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    #[arg(long)]
    pub fleet: String,
    /// B or C.
    #[arg(long, value_parser = radio::class)]
    pub class: api::radio::settings::Class,
    /// A member's DevEUI or name; may be given several times.
    #[arg(long = "member", value_name = "DEVICE")]
    pub members: Vec<String>,
    /// Where its members are; EU868 if not given.
    #[arg(long)]
    pub region: Option<Region>,
    /// Its address; one of the network's is taken if not given.
    #[arg(long)]
    pub address: Option<String>,
    /// McNwkSKey; made if not given.
    #[arg(long, value_name = "KEY")]
    pub nwk_s_key: Option<String>,
    /// McAppSKey; made if not given.
    #[arg(long, value_name = "KEY")]
    pub app_s_key: Option<String>,
    /// Where its members listen, if not where the region has RX2 or ping slots.
    #[arg(long, value_name = "HZ")]
    pub frequency_hz: Option<u32>,
    /// Data rate index, likewise.
    #[arg(long, value_name = "DR")]
    pub data_rate: Option<u8>,
    /// Ping slots every 2^N seconds, for class B.
    #[arg(long, value_name = "N")]
    pub ping_periodicity: Option<u8>,
}

#[derive(Args)]
pub(crate) struct GroupSendArgs {
    pub group: String,
    /// FPort, 1 to 223.
    #[arg(long)]
    pub port: u32,
    /// The payload in hex, in any pasted form.
    #[arg(long, value_name = "HEX")]
    pub payload: String,
    /// It expires if it has not been sent within this time: seconds, or with a unit.
    #[arg(long, value_name = "TIME", value_parser = seconds)]
    pub expires_in: Option<f64>,
}

//! `heron group`: its verbs and options.

use clap::{Args, Subcommand};
use lorawan::region::Region;

use crate::args::{ListArgs, radio};
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum GroupVerb {
    /// List groups.
    List(ListArgs),
    /// Show one: its members, and the gateways that would send. Its downlinks: `heron outbox list GROUP`.
    Show {
        /// Its name or EUI.
        #[arg(add = complete::groups())]
        group: String,
    },
    /// Add one.
    Add(Box<GroupAddArgs>),
    /// Change one; what is not given stays.
    Set {
        /// Its name or EUI.
        #[arg(add = complete::groups())]
        group: String,
        /// Another name.
        #[arg(long)]
        name: Option<String>,
        /// A device that becomes a member, by name or DevEUI; may be given several times.
        #[arg(long = "add-member", value_name = "DEVICE", add = complete::devices())]
        add: Vec<String>,
        /// A device that is a member no longer; may be given several times.
        #[arg(long = "remove-member", value_name = "DEVICE", add = complete::devices())]
        remove: Vec<String>,
    },
    /// Remove one; its members stay.
    Remove {
        /// Its name or EUI.
        #[arg(add = complete::groups())]
        group: String,
    },
    /// Show its address and keys, to be set in its members. Each look is written to the audit log.
    Keys {
        /// Its name or EUI.
        #[arg(add = complete::groups())]
        group: String,
    },
}

#[derive(Args)]
pub(crate) struct GroupAddArgs {
    /// Its name.
    pub name: String,
    /// The short name of its fleet.
    #[arg(long, add = complete::fleets())]
    pub fleet: String,
    /// B or C.
    #[arg(long, value_parser = radio::class)]
    pub class: api::radio::settings::Class,
    /// A member's DevEUI or name; may be given several times.
    #[arg(long = "member", value_name = "DEVICE", add = complete::devices())]
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

//! `heron share`: its verbs and options.

use api::people::rights::ShareLevel;
use clap::{Args, Subcommand};

use crate::args::ListArgs;
use crate::args::moment::Moment;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum ShareVerb {
    /// List what is shared with others.
    List(ListArgs),
    /// Invite somebody to have a fleet or a device shared; the link is printed once.
    Add(ShareAddArgs),
    /// Change the rights of a share, and until when it lasts; what is not given stays.
    Set {
        /// The share's number.
        id: u32,
        /// The rights that they get: read or operate.
        #[arg(long, value_parser = level)]
        may: Option<ShareLevel>,
        /// Until when: RFC 3339, or a date, to its end; `never` for no end.
        #[arg(long, value_name = "TIME", value_parser = until, required_unless_present = "may")]
        until: Option<Until>,
    },
    /// End a share.
    Remove {
        /// Its number.
        id: u32,
    },
}

#[derive(Args)]
pub(crate) struct ShareAddArgs {
    /// Whom it is for, in your own words.
    #[arg(long = "for", value_name = "WHOM")]
    pub for_whom: String,
    /// Share this fleet.
    #[arg(long, value_name = "FLEET", conflicts_with = "device", required_unless_present = "device", add = complete::fleets())]
    pub fleet: Option<String>,
    /// Share this device.
    #[arg(long, value_name = "DEVICE", add = complete::devices())]
    pub device: Option<String>,
    /// What they may do with it: read or operate.
    #[arg(long, default_value = "read", value_parser = level)]
    pub may: ShareLevel,
    /// Until when: RFC 3339, or a date, to its end; without an end if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Days the invitation is good for; 7 if not given.
    #[arg(long, value_name = "DAYS")]
    pub days: Option<u32>,
}

/// When something ends; none for never.
#[derive(Clone, Copy)]
pub(crate) struct Until(pub Option<Moment>);

fn until(text: &str) -> Result<Until, String> {
    if text.trim() == "never" { Ok(Until(None)) } else { text.parse().map(|moment| Until(Some(moment))) }
}

fn level(text: &str) -> Result<ShareLevel, String> {
    match text {
        "read" => Ok(ShareLevel::Read),
        "operate" => Ok(ShareLevel::Operate),
        other => Err(format!("{other:?}: read or operate are allowed")),
    }
}

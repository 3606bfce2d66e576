//! People, tokens, the audit log and one's own account.

use api::people::rights::{Role, ShareLevel};
use clap::{Args, Subcommand};

use crate::args::moment::Moment;

/// The verbs of `heron people`.
#[derive(Subcommand)]
pub(crate) enum PeopleVerb {
    #[command(flatten)]
    Remote(RemotePeopleVerb),
    #[command(flatten)]
    Local(LocalPeopleVerb),
}

/// Those that need no sign-in.
#[derive(Subcommand)]
pub(crate) enum LocalPeopleVerb {
    /// Take an invitation: with the account that is signed in, or with a new one, which is then signed in.
    Take(TakeArgs),
}

/// Those that ask the service.
#[derive(Subcommand)]
pub(crate) enum RemotePeopleVerb {
    /// List the members of the estate.
    List,
    /// What each role may do.
    Roles,
    /// Write an invitation to be a member; its link is printed once.
    Invite {
        /// What they are to be: viewer, operator, engineer or owner.
        role: Role,
        /// Whom it is for, in your own words.
        #[arg(long = "for", value_name = "WHOM")]
        for_whom: String,
        /// Days it is good for.
        #[arg(long, value_name = "DAYS")]
        days: Option<u32>,
    },
    /// Write an invitation to have a fleet or a device shared; its link is printed once.
    Share(ShareArgs),
    /// List invitations that nobody has taken yet.
    Invitations,
    /// Withdraw an invitation.
    Withdraw {
        /// Its number.
        id: u32,
    },
    /// Give a member another role.
    Role {
        /// The account's name.
        name: String,
        /// What they are to be.
        role: Role,
    },
    /// Take a member out of the estate. What they made stays; their tokens end.
    Remove {
        /// The account's name.
        name: String,
    },
    /// List what is shared with others.
    Shares,
    /// Change the rights of a share, and until when it lasts.
    Reshare {
        /// The share's number.
        id: u32,
        /// The rights that they get.
        #[arg(long, value_parser = level)]
        may: ShareLevel,
        /// Until when: RFC 3339, or a date, to its end; without an end if not given.
        #[arg(long, value_name = "TIME")]
        until: Option<Moment>,
    },
    /// End a share.
    Unshare {
        /// Its number.
        id: u32,
    },
    /// Leave the estate.
    Leave,
}

#[derive(Args)]
pub(crate) struct TakeArgs {
    /// The invitation's link.
    pub link: String,
    /// Make an account of this name for it; its password is asked for.
    #[arg(long, value_name = "NAME")]
    pub new_account: Option<String>,
    /// Read the password from standard input instead of asking.
    #[arg(long, requires = "new_account")]
    pub password_stdin: bool,
}

#[derive(Args)]
pub(crate) struct ShareArgs {
    /// Whom it is for, in your own words.
    #[arg(long = "for", value_name = "WHOM")]
    pub for_whom: String,
    /// Share this fleet.
    #[arg(long, value_name = "SLUG", conflicts_with = "device", required_unless_present = "device")]
    pub fleet: Option<String>,
    /// Share this device.
    #[arg(long, value_name = "DEVICE")]
    pub device: Option<String>,
    /// What they may do with it: read or operate.
    #[arg(long, default_value = "read", value_parser = level)]
    pub may: ShareLevel,
    /// Until when: RFC 3339, or a date, to its end; without an end if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<Moment>,
    /// Days the invitation is good for.
    #[arg(long, value_name = "DAYS")]
    pub days: Option<u32>,
}

fn level(text: &str) -> Result<ShareLevel, String> {
    match text {
        "read" => Ok(ShareLevel::Read),
        "operate" => Ok(ShareLevel::Operate),
        other => Err(format!("{other:?}: read or operate are allowed")),
    }
}

//! People, tokens, the audit log and one's own account.

use std::path::PathBuf;

use api::people::rights::{Right, Role, ShareLevel};
use chrono::{DateTime, Utc};
use clap::{Args, Subcommand, ValueEnum};

#[derive(Subcommand)]
pub enum PeopleVerb {
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
    /// Take an invitation: as whoever is signed in, or with a new account, which is then signed in.
    Take(TakeArgs),
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
    /// Change what somebody may do with what is shared with them, and until when.
    Reshare {
        /// The share's number.
        id: u32,
        /// What they may do with it.
        #[arg(long, value_parser = level)]
        may: ShareLevel,
        /// Until when (RFC 3339); without an end if not given.
        #[arg(long, value_name = "TIME")]
        until: Option<DateTime<Utc>>,
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
pub struct TakeArgs {
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
pub struct ShareArgs {
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
    /// Until when (RFC 3339); without an end if not given.
    #[arg(long, value_name = "TIME")]
    pub until: Option<DateTime<Utc>>,
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

#[derive(Subcommand)]
pub enum TokenVerb {
    /// List access tokens: your own, and everybody's if you look after people.
    List,
    /// Make an access token; its secret is printed once.
    Add {
        /// What it is for.
        name: String,
        /// What it allows: view, send, devices, decoders, gateways, keys, audit.
        #[arg(long, value_delimiter = ',', default_value = "view")]
        rights: Vec<Right>,
        /// It reaches only this fleet.
        #[arg(long, value_name = "SLUG", conflicts_with = "device")]
        fleet: Option<String>,
        /// It reaches only this device.
        #[arg(long, value_name = "DEVICE")]
        device: Option<String>,
        /// Days it is good for; without an end if not given.
        #[arg(long, value_name = "DAYS")]
        days: Option<u32>,
    },
    /// Revoke an access token; what it is used for ends at once.
    Revoke {
        /// Its number.
        id: u32,
    },
}

/// What kind of entry.
#[derive(Clone, Copy, ValueEnum)]
pub enum Kind {
    /// Something was changed.
    Change,
    /// Somebody signed in or out, or failed to.
    Sign,
    /// Something was not allowed.
    Refusal,
    /// A secret was shown.
    Secret,
}

#[derive(Args)]
pub struct AuditArgs {
    /// Only entries of this kind.
    #[arg(long)]
    pub kind: Option<Kind>,
    /// Only by who has this in their name, or their token's.
    #[arg(long)]
    pub who: Option<String>,
    /// Only with this in the action, or in what it was done to.
    #[arg(long)]
    pub what: Option<String>,
    /// From when on (RFC 3339).
    #[arg(long, value_name = "TIME")]
    pub from: Option<DateTime<Utc>>,
    /// Until when.
    #[arg(long, value_name = "TIME")]
    pub until: Option<DateTime<Utc>>,
    /// Entries, the newest first.
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u32).range(1..=500))]
    pub last: u32,
    /// What concerns the installation instead: sign-ins, accounts, estates.
    #[arg(long)]
    pub installation: bool,
    /// Write all of it to this file instead: .csv or .jsonl.
    #[arg(long, value_name = "FILE", conflicts_with = "installation")]
    pub export: Option<PathBuf>,
}

#[derive(Subcommand)]
pub enum AccountVerb {
    /// Who is signed in, and what they may do.
    Show,
    /// List one's own sign-ins.
    SignIns,
    /// End one of them, or all but this one.
    End {
        /// Its number; all others if not given.
        id: Option<String>,
    },
    /// Set a new password; both are asked for.
    Password {
        /// Read the password until now and the new one from standard input, a line each.
        #[arg(long)]
        stdin: bool,
    },
    /// Begin two-step sign-in: shows the secret for an app, and asks for its first code.
    TwoStep {
        /// Read the password and then the code from standard input, a line each.
        #[arg(long)]
        stdin: bool,
    },
    /// End two-step sign-in.
    TwoStepEnd {
        /// Read the password from standard input.
        #[arg(long)]
        stdin: bool,
    },
}

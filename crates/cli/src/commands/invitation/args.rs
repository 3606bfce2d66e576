//! `heron invitation`: its verbs and options.

use api::people::rights::Role;
use clap::{Args, Subcommand};

use crate::args::ListArgs;

#[derive(Subcommand)]
pub(crate) enum InvitationVerb {
    /// List those that nobody has taken yet.
    List(ListArgs),
    /// Invite somebody to be a member; the link is printed once. `heron share add` invites to a fleet or a device.
    Add {
        /// What they are to be: viewer, operator, engineer or owner.
        role: Role,
        /// Whom it is for, in your own words.
        #[arg(long = "for", value_name = "WHOM")]
        for_whom: String,
        /// Days it is good for; 7 if not given.
        #[arg(long, value_name = "DAYS")]
        days: Option<u32>,
    },
    /// Withdraw one.
    Remove {
        /// Its number.
        id: u32,
    },
    /// Take one: with the account that is signed in, or with a new one, which is then signed in.
    Take(TakeArgs),
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

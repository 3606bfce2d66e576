//! `heron people`: its verbs and options.

use api::people::rights::Role;
use clap::Subcommand;

use crate::args::ListArgs;
use crate::complete;

#[derive(Subcommand)]
pub(crate) enum PeopleVerb {
    /// List the members of the estate. `heron invitation add` invites more.
    List(ListArgs),
    /// Show one.
    Show {
        /// The account's name.
        #[arg(add = complete::people())]
        name: String,
    },
    /// Give a member another role.
    Set {
        /// The account's name.
        #[arg(add = complete::people())]
        name: String,
        /// What they are to be: viewer, operator, engineer or owner.
        #[arg(long)]
        role: Role,
    },
    /// Take a member out of the estate. What they made stays; their tokens end.
    Remove {
        /// The account's name.
        #[arg(add = complete::people())]
        name: String,
    },
    /// Leave the estate oneself.
    Leave,
    /// List what each role may do.
    Roles,
}

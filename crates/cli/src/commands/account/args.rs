//! `heron account`: its verbs and options.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum AccountVerb {
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

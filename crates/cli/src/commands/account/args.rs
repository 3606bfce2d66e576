//! `heron account`: its verbs and options.

use clap::Subcommand;

#[derive(Subcommand)]
pub(crate) enum AccountVerb {
    /// Show who is signed in, and what they may do.
    Show,
    /// Set a new password; both are asked for. All other sign-ins and all access tokens end.
    Password {
        /// Keep the access tokens.
        #[arg(long)]
        keep_tokens: bool,
        /// Read the password until now and the new one from standard input, a line each.
        #[arg(long)]
        stdin: bool,
    },
    /// Remove your own account; the password is asked for. What it made and did stays.
    Remove {
        /// Read the password from standard input.
        #[arg(long)]
        stdin: bool,
    },
    /// Your own sign-ins.
    SignIn {
        #[command(subcommand)]
        verb: SignInVerb,
    },
    /// Two-step sign-in: a code of an app beside the password.
    TwoStep {
        #[command(subcommand)]
        verb: TwoStepVerb,
    },
}

#[derive(Subcommand)]
pub(crate) enum SignInVerb {
    /// List them, with where they come from and when they were last used.
    List,
    /// End one of them, or all but this one.
    Remove {
        /// Its number; all others if not given.
        id: Option<String>,
    },
}

#[derive(Subcommand)]
pub(crate) enum TwoStepVerb {
    /// Begin it: shows the secret for an app, and asks for its first code.
    Add {
        /// Read the password and then the code from standard input, a line each.
        #[arg(long)]
        stdin: bool,
    },
    /// End it: signing in takes no code any more.
    Remove {
        /// Read the password from standard input.
        #[arg(long)]
        stdin: bool,
    },
}

//! `heron sign-in`: its options.

use clap::Args;

#[derive(Args)]
pub(crate) struct SignInArgs {
    /// The service's address.
    #[arg(value_name = "URL", default_value = "http://127.0.0.1:8680")]
    pub address: String,
    /// The account's name.
    #[arg(long, default_value = "owner")]
    pub name: String,
    /// Read the password from standard input instead of asking.
    #[arg(long)]
    pub password_stdin: bool,
    /// The six digits of two-step sign-in, or a recovery code; asked for if they are wanted.
    #[arg(long, value_name = "CODE")]
    pub code: Option<String>,
}

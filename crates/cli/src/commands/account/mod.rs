//! One's own account.

pub(crate) mod args;
mod show;
mod sign_ins;
mod two_step;

use std::io::BufRead as _;

use anyhow::Result;
use api::people::{NewPassword, PasswordAgain};

use crate::client::Client;
use crate::commands::account::args::AccountVerb;
use crate::show::{Out, confirm};

/// A secret, asked for or read from standard input.
fn asked(stdin: bool, prompt: &str) -> Result<String> {
    if stdin {
        let mut line = String::new();
        std::io::stdin().lock().read_line(&mut line)?;
        return Ok(line.trim_end_matches(['\r', '\n']).to_owned());
    }
    Ok(rpassword::prompt_password(format!("{prompt}: "))?)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: AccountVerb, yes: bool) -> Result<()> {
    match verb {
        AccountVerb::Show => show::run(client, out).await,
        AccountVerb::SignIns => sign_ins::run(client, out).await,
        AccountVerb::End { id: Some(id) } => {
            client.delete(&format!("/me/sign-ins/{id}")).await?;
            out.line(format!("Sign-in {id} has ended."))
        }
        AccountVerb::End { id: None } => {
            confirm(yes, "All your other sign-ins will end.")?;
            client.delete("/me/sign-ins").await?;
            out.line("All other sign-ins have ended.")
        }
        AccountVerb::Password { stdin } => {
            let current = asked(stdin, "Password until now")?;
            let new = asked(stdin, "New password")?;
            client.tell("/me/password", &NewPassword { current, new }).await?;
            out.line("The password is set; all other sign-ins have ended.")
        }
        AccountVerb::TwoStep { stdin } => two_step::run(client, out, stdin).await,
        AccountVerb::TwoStepEnd { stdin } => {
            let password = asked(stdin, "Password")?;
            client.act_with("/me/two-step/end", &PasswordAgain { password }).await?;
            out.line("Signing in no longer takes a code.")
        }
    }
}

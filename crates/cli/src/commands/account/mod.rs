//! One's own account.

pub(crate) mod args;
mod show;
mod sign_ins;
mod two_step;

use anyhow::Result;
use api::people::{NewPassword, PasswordAgain, PasswordChanged};

use crate::args::secret;
use crate::client::{Client, segment};
use crate::commands::account::args::{AccountVerb, SignInVerb, TwoStepVerb};
use crate::show::{Out, confirm};
use crate::terminal;

/// A secret, asked for or read from standard input.
fn asked(stdin: bool, prompt: &str) -> Result<String> {
    if stdin {
        return secret::line();
    }
    terminal::release()?;
    Ok(rpassword::prompt_password(format!("{prompt}: "))?)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: AccountVerb, yes: bool) -> Result<()> {
    match verb {
        AccountVerb::Show => show::run(client, out).await,
        AccountVerb::SignIn { verb: SignInVerb::List } => sign_ins::run(client, out).await,
        AccountVerb::SignIn { verb: SignInVerb::Remove { id: Some(id) } } => {
            client.delete(&format!("/me/sign-ins/{}", segment(&id))).await?;
            out.said(format!("Sign-in {id} has ended."))
        }
        AccountVerb::SignIn { verb: SignInVerb::Remove { id: None } } => {
            confirm(yes, "All your other sign-ins will end.")?;
            client.delete("/me/sign-ins").await?;
            out.said("All other sign-ins have ended.")
        }
        AccountVerb::Password { stdin, keep_tokens } => {
            let current = asked(stdin, "Password until now")?;
            let new = asked(stdin, "New password")?;
            let changed: PasswordChanged = client
                .put("/me/password", &NewPassword { current: current.into(), new: new.into(), keep_tokens })
                .await?;
            if out.json {
                return out.json(&changed);
            }
            let PasswordChanged { sign_ins_ended, tokens_ended } = changed;
            out.said(format!(
                "The password is set. {sign_ins_ended} other sign-ins and {tokens_ended} access tokens ended."
            ))
        }
        AccountVerb::Remove { stdin } => {
            confirm(yes, "Your account will be removed: its sign-ins and tokens end, and you are no member any more.")?;
            let password = asked(stdin, "Password")?;
            client.act_with("/me/remove", &PasswordAgain { password: password.into() }).await?;
            out.said("The account was removed.")
        }
        AccountVerb::TwoStep { verb: TwoStepVerb::Add { stdin } } => two_step::run(client, out, stdin).await,
        AccountVerb::TwoStep { verb: TwoStepVerb::Remove { stdin } } => {
            let password = asked(stdin, "Password")?;
            client.act_with("/me/two-step/end", &PasswordAgain { password: password.into() }).await?;
            out.said("Signing in no longer takes a code.")
        }
    }
}

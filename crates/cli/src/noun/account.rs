//! One's own account.

use std::io::BufRead as _;

use anyhow::Result;
use api::people::rights::Right;
use api::people::{Me, NewPassword, PasswordAgain, RecoveryCodes, SignInRecord, TwoStepCode, TwoStepSecret};

use crate::args::AccountVerb;
use crate::client::Client;
use crate::show::{self, Out, ago};

/// A secret, asked for or read from standard input.
fn asked(stdin: bool, prompt: &str) -> Result<String> {
    if stdin {
        let mut line = String::new();
        std::io::stdin().lock().read_line(&mut line)?;
        return Ok(line.trim_end_matches(['\r', '\n']).to_owned());
    }
    Ok(rpassword::prompt_password(format!("{prompt}: "))?)
}

pub async fn run(client: &Client, out: &Out, verb: AccountVerb, yes: bool) -> Result<()> {
    match verb {
        AccountVerb::Show => {
            let me: Me = client.get("/me", &[]).await?;
            out.one(&me, |me| {
                let two_step = match me.two_step {
                    true => format!("in use; {} recovery codes are left", me.recovery_codes),
                    false => "not in use; begin with `heron account two-step`".into(),
                };
                let mut lines = vec![("account", me.name.clone())];
                lines.extend(me.token.clone().map(|token| ("by token", token)));
                lines.push(("two steps", two_step));
                if me.given_password {
                    lines.push((
                        "password",
                        "the one that was printed; set another with `heron account password`".into(),
                    ));
                }
                if me.keeps_installation {
                    lines.push(("installation", "you look after it".into()));
                }
                for estate in &me.estates {
                    let rights: Vec<_> = estate.rights.iter().map(Right::to_string).collect();
                    lines.push(("estate", format!("{}: {} ({})", estate.slug, estate.standing(), rights.join(", "))));
                }
                lines
            })
        }
        AccountVerb::SignIns => {
            let all: Vec<SignInRecord> = client.get("/me/sign-ins", &[]).await?;
            out.list(&all, "", &["NUMBER", "SINCE", "LAST USED", "FROM", "PROGRAM", "UNTIL", ""], |s| {
                let (since, until) = (s.since.format("%Y-%m-%d %H:%M"), s.expires_at.format("%Y-%m-%d"));
                let this = if s.this_one { "this one" } else { "" };
                let used = ago(Some(s.last_used));
                let (from, program) = (s.address.clone(), s.program.clone());
                vec![s.id.clone(), since.to_string(), used, from, program, until.to_string(), this.into()]
            })
        }
        AccountVerb::End { id: Some(id) } => {
            client.delete(&format!("/me/sign-ins/{id}")).await?;
            out.line(format!("Sign-in {id} has ended."))
        }
        AccountVerb::End { id: None } => {
            show::confirm(yes, "All your other sign-ins will end.")?;
            client.delete("/me/sign-ins").await?;
            out.line("All other sign-ins have ended.")
        }
        AccountVerb::Password { stdin } => {
            let current = asked(stdin, "Password until now")?;
            let new = asked(stdin, "New password")?;
            client.tell("/me/password", &NewPassword { current, new }).await?;
            out.line("The password is set; all other sign-ins have ended.")
        }
        AccountVerb::TwoStep { stdin } => {
            let password = asked(stdin, "Password")?;
            let secret: TwoStepSecret = client.post("/me/two-step", &PasswordAgain { password }).await?;
            eprintln!("Enter this in an app that makes codes: {}", secret.secret);
            eprintln!("Or, for apps that take an address:     {}", secret.uri);
            let code = asked(stdin, "The six digits it shows")?;
            let codes: RecoveryCodes = client.put("/me/two-step", &TwoStepCode { code }).await?;
            if out.json {
                return out.json(&codes);
            }
            out.line("From now on signing in takes a code. Keep these recovery codes; each is good once:")?;
            codes.codes.iter().try_for_each(|code| out.line(format!("  {code}")))
        }
        AccountVerb::TwoStepEnd { stdin } => {
            let password = asked(stdin, "Password")?;
            client.act_with("/me/two-step/end", &PasswordAgain { password }).await?;
            out.line("Signing in takes no code any more.")
        }
    }
}

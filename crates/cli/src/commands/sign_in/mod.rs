//! `heron sign-in` and `heron sign-out`, and taking an invitation with a new account.

pub(crate) mod args;

use crate::show;
use std::fs;
use std::io::IsTerminal as _;

use anyhow::{Context as _, Result, bail};
use api::people::{NewAccount, SignIn, SignedIn, TakeInvitation};
use api::problem::Problem;

use crate::args::secret;
use crate::client::Client;
use crate::commands::Context;
use crate::commands::invitation::args::TakeArgs;
use crate::commands::sign_in::args::SignInArgs;
use crate::session::{self, Stored};

/// A password, asked for or read from standard input.
fn password(stdin: bool, of: &str) -> Result<String> {
    if !stdin {
        return Ok(rpassword::prompt_password(format!("Password of {of}: "))?);
    }
    secret::line()
}

pub(crate) async fn sign_in(context: &Context, args: SignInArgs) -> Result<()> {
    let global = &context.global;
    let password = password(args.password_stdin, &args.name)?;
    let client = Client::anonymous(global, global.url.as_deref().unwrap_or(&args.address))?;
    let mut given = SignIn { name: args.name, password: password.into(), code: args.code };
    let mut answer: Result<SignedIn> = client.post("/sign-in", &given).await;
    if let Err(why) = &answer
        && why.downcast_ref::<Problem>().is_some_and(|problem| problem.code == "code_wanted")
        && std::io::stdin().is_terminal()
    {
        given.code = Some(rpassword::prompt_password("Code of the app, or a recovery code: ")?);
        answer = client.post("/sign-in", &given).await;
    }
    keep(context, client.url(), &answer?)
}

/// Takes an invitation with a new account, and keeps its sign-in.
pub(crate) async fn take_invitation(context: &Context, args: TakeArgs) -> Result<()> {
    let global = &context.global;
    let (service, code) = args.link.split_once("/invitation#").context("the whole link is wanted, from http on")?;
    let name = args.new_account.unwrap_or_default();
    let password = password(args.password_stdin, &name)?;
    let client = Client::anonymous(global, global.url.as_deref().unwrap_or(service))?;
    let take = TakeInvitation { code: code.to_owned(), account: Some(NewAccount { name, password: password.into() }) };
    let signed_in: SignedIn = client.post("/invitations/take", &take).await?;
    keep(context, client.url(), &signed_in)
}

/// Keeps a sign-in where only its owner can read it, and says what it is.
fn keep(context: &Context, url: &str, signed_in: &SignedIn) -> Result<()> {
    let (global, out) = (&context.global, &context.out);
    let trust = match &global.trust {
        Some(file) => Some(fs::read_to_string(file).with_context(|| format!("reading {}", file.display()))?),
        None => None,
    };
    session::keep(global, Stored { url: url.into(), token: signed_in.token.to_string(), trust })?;
    if out.json {
        return out.json(&signed_in.me);
    }
    let estates: Vec<_> = signed_in.me.estates.iter().map(|e| format!("{} ({})", e.slug, e.role_label())).collect();
    out.line(format!("Signed in at {url} as {}, until {}.", signed_in.me.name, show::day(signed_in.expires_at)))?;
    out.line(format!("Estates: {}", estates.join(", ")))?;
    if signed_in.me.given_password {
        out.line("The password is the one that was printed; set another with `heron account password`.")?;
    }
    Ok(())
}

pub(crate) async fn sign_out(context: &Context) -> Result<()> {
    let global = &context.global;
    if session::load(global)?.is_none() {
        bail!("not signed in");
    }
    let ended = Client::signed_in(global)?.act("/sign-out").await;
    session::forget(global)?;
    ended.context("the token is gone from this machine, but the service could not be told")?;
    context.out.said("Signed out.")
}

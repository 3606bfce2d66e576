//! Access tokens.

mod add;
pub(crate) mod args;
mod list;

use anyhow::Result;
use api::people::rights::Right;
use api::people::token::AccessToken;

use crate::client::Client;
use crate::commands::token::args::TokenVerb;
use crate::show::{self, Out};

fn rights(token: &AccessToken) -> String {
    token.rights.iter().map(Right::to_string).collect::<Vec<_>>().join(", ")
}

fn ends(token: &AccessToken) -> String {
    token.expires_at.map_or_else(|| "never".into(), show::moment)
}

fn lines(token: &AccessToken) -> Vec<(&'static str, String)> {
    vec![
        ("token", format!("{}: {}", token.id, token.name)),
        ("allows", rights(token)),
        ("reaches", token.scope.to_string()),
        ("until", ends(token)),
    ]
}

pub(crate) async fn run(client: &Client, out: &Out, verb: TokenVerb, yes: bool) -> Result<()> {
    match verb {
        TokenVerb::List(which) => list::run(client, out, which).await,
        TokenVerb::Add(args) => add::run(client, out, args).await,
        TokenVerb::Show { id } => {
            let token: AccessToken = client.get(&client.in_estate(&format!("tokens/{id}")).await?, &[]).await?;
            out.one(&token, lines)
        }
        TokenVerb::Remove { id } => {
            show::confirm(yes, &format!("What token {id} is used for will end at once."))?;
            client.delete(&client.in_estate(&format!("tokens/{id}")).await?).await?;
            out.said(format!("Token {id} was revoked."))
        }
    }
}

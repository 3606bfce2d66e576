//! Access tokens.

use anyhow::Result;
use api::people::rights::Right;
use api::people::token::{AccessToken, MadeToken, NewToken};

use super::people::scope;
use crate::args::TokenVerb;
use crate::client::Client;
use crate::show::{self, Out, ago};

fn rights(token: &AccessToken) -> String {
    token.rights.iter().map(Right::to_string).collect::<Vec<_>>().join(", ")
}

fn ends(token: &AccessToken) -> String {
    token.expires_at.map_or_else(|| "no end".into(), |at| at.format("%Y-%m-%d %H:%M UTC").to_string())
}

pub async fn run(client: &Client, out: &Out, verb: TokenVerb, yes: bool) -> Result<()> {
    match verb {
        TokenVerb::List => {
            let tokens: Vec<AccessToken> = client.get(&client.in_estate("tokens").await?, &[]).await?;
            let empty = "There is no access token. Next: `heron token add NAME --rights view`.";
            let head = ["NUMBER", "NAME", "BY", "ALLOWS", "REACHES", "UNTIL", "LAST USED", "FROM"];
            out.list(&tokens, empty, &head, |t| {
                let from = t.last_from.clone().unwrap_or_else(|| "–".into());
                let (number, scope) = (t.id.to_string(), t.scope.to_string());
                let used = ago(t.last_used);
                vec![number, t.name.clone(), t.by.clone(), rights(t), scope, ends(t), used, from]
            })
        }
        TokenVerb::Add { name, rights: wanted, fleet, device, days } => {
            let scope = scope(client, fleet, device).await?;
            let new = NewToken { name, rights: wanted, scope, days };
            let made: MadeToken = client.post(&client.in_estate("tokens").await?, &new).await?;
            out.one(&made, |made| {
                vec![
                    ("token", format!("{}: {}", made.token.id, made.token.name)),
                    ("allows", rights(&made.token)),
                    ("reaches", made.token.scope.to_string()),
                    ("until", ends(&made.token)),
                    ("secret", made.secret.clone()),
                    ("", "It is shown only now. Use it with --token, HERON_TOKEN or `Authorization: Bearer`.".into()),
                ]
            })
        }
        TokenVerb::Revoke { id } => {
            show::confirm(yes, &format!("What token {id} is used for will end at once."))?;
            client.delete(&client.in_estate(&format!("tokens/{id}")).await?).await?;
            out.line(format!("Token {id} was revoked."))
        }
    }
}

//! `heron token add`.

use crate::commands::token::args::TokenAddArgs;
use anyhow::Result;
use api::people::token::{MadeToken, NewToken};

use super::{ends, rights};
use crate::client::Client;
use crate::commands::people::scope;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: TokenAddArgs) -> Result<()> {
    let TokenAddArgs { name, rights: wanted, fleet, device, days } = args;
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

//! `heron token add`.

use crate::commands::token::args::TokenAddArgs;
use anyhow::Result;
use api::people::token::{MadeToken, NewToken};

use super::lines;
use crate::client::Client;
use crate::commands::people::scope;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: TokenAddArgs) -> Result<()> {
    let TokenAddArgs { name, rights, fleet, device, days } = args;
    let scope = scope(client, fleet, device).await?;
    let new = NewToken { name, rights, scope, days };
    let made: MadeToken = client.post(&client.in_estate("tokens").await?, &new).await?;
    out.one(&made, |made| {
        let mut lines = lines(&made.token);
        lines.push(("secret", made.secret.to_string()));
        lines.push(("", "It is shown only now. Use it with --token, HERON_TOKEN or `Authorization: Bearer`.".into()));
        lines
    })
}

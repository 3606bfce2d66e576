//! `heron token list`.

use anyhow::Result;
use api::people::token::AccessToken;

use super::{ends, rights};
use crate::args::ListArgs;
use crate::client::Client;
use crate::show::{Out, ago};

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let tokens: Vec<AccessToken> = client.all(&client.in_estate("tokens").await?, &which.query()).await?;
    let empty = "There is no access token. Next: `heron token add NAME --rights view`.";
    let head = ["NUMBER", "NAME", "BY", "ALLOWS", "REACHES", "UNTIL", "LAST USED", "FROM"];
    out.list(&tokens, empty, &head, |t| {
        let from = t.last_from.clone().unwrap_or_else(|| "–".into());
        let (number, scope) = (t.id.to_string(), t.scope.to_string());
        let used = ago(t.last_used);
        vec![number, t.name.clone(), t.by.clone(), rights(t), scope, ends(t), used, from]
    })
}

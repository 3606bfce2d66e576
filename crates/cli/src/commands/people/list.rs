//! `heron people list`.

use crate::show;
use anyhow::Result;
use api::people::EstateMember;

use crate::args::ListArgs;
use crate::client::Client;
use crate::show::{Out, ago};

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let members: Vec<EstateMember> = client.all(&client.in_estate("people").await?, &which.query()).await?;
    let head = ["NAME", "ROLE", "SINCE", "INVITED BY", "TWO STEPS", "LAST SEEN"];
    out.list(&members, "Nobody is a member.", &head, |m| {
        let since = show::day(m.since);
        let two_step = if m.two_step { "yes" } else { "no" };
        let by = m.by.clone().unwrap_or_else(|| "–".into());
        vec![m.name.clone(), m.role.to_string(), since, by, two_step.into(), ago(m.last_seen)]
    })
}

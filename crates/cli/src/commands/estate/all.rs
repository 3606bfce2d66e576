//! `heron estate list --all`.

use crate::show;
use anyhow::Result;
use api::people::EstateOutline;

use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let all: Vec<EstateOutline> = client.all("/installation/estates", &[]).await?;
    out.list(&all, "There is no estate.", &["ESTATE", "NAME", "OWNERS", "SINCE"], |e| {
        let owners = if e.owners.is_empty() { "invited".into() } else { e.owners.join(", ") };
        vec![e.slug.clone(), e.name.clone(), owners, show::day(e.added_at)]
    })
}

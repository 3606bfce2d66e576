//! `heron estate`.

mod all;
pub(crate) mod args;
mod found;

use anyhow::Result;
use api::fleet::Estate;

use crate::client::Client;
use crate::commands::estate::args::EstateVerb;
use crate::show::Out;

pub(crate) async fn run(client: &Client, out: &Out, verb: EstateVerb) -> Result<()> {
    match verb {
        EstateVerb::List => {
            let estates: Vec<Estate> = client.all("/estates", &[]).await?;
            out.list(&estates, "You belong to no estate.", &["ESTATE", "NAME", "YOUR ROLE"], |e| {
                vec![e.slug.clone(), e.name.clone(), e.role_label()]
            })
        }
        EstateVerb::All => all::run(client, out).await,
        EstateVerb::Found { slug, name, owner } => found::run(client, out, slug, name, owner).await,
    }
}

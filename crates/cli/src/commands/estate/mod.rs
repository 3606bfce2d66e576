//! `heron estate`.

mod add;
mod all;
pub(crate) mod args;

use anyhow::Result;
use api::fleet::Estate;

use crate::client::{Client, segment};
use crate::commands::estate::args::EstateVerb;
use crate::show::{self, Out};

pub(crate) async fn run(client: &Client, out: &Out, verb: EstateVerb, yes: bool) -> Result<()> {
    match verb {
        EstateVerb::List { all: true } => all::run(client, out).await,
        EstateVerb::List { all: false } => {
            let estates: Vec<Estate> = client.all("/estates", &[]).await?;
            out.list(&estates, "You belong to no estate.", &["ESTATE", "NAME", "YOUR ROLE"], |e| {
                vec![e.slug.clone(), e.name.clone(), e.role_label()]
            })
        }
        EstateVerb::Show { slug } => {
            let estate: Estate = client.get(&format!("/estates/{}", segment(&slug)), &[]).await?;
            out.one(&estate, |e| {
                let rights: Vec<String> = e.rights.iter().map(ToString::to_string).collect();
                vec![
                    ("estate", e.slug.clone()),
                    ("name", e.name.clone()),
                    ("your role", e.role_label()),
                    ("you may", rights.join(", ")),
                ]
            })
        }
        EstateVerb::Remove { slug, everything } => {
            let what = if everything { "with its devices, gateways, people and messages" } else { "with its people" };
            show::confirm(
                yes,
                &format!("The estate {slug} will be removed {what}. Nothing of it can be brought back."),
            )?;
            client.delete(&format!("/estates/{}?everything={everything}", segment(&slug))).await?;
            out.said(format!("{slug} was removed."))
        }
        EstateVerb::Add { slug, name, owner } => add::run(client, out, slug, name, owner).await,
    }
}

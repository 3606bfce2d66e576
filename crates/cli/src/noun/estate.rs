use anyhow::Result;
use api::fleet::Estate;
use api::people::{EstateOutline, FoundedEstate, NewEstate};

use super::people::shown;
use crate::args::EstateVerb;
use crate::client::Client;
use crate::show::Out;

pub async fn run(client: &Client, out: &Out, verb: &EstateVerb) -> Result<()> {
    match verb {
        EstateVerb::List => {
            let estates: Vec<Estate> = client.get("/estates", &[]).await?;
            out.list(&estates, "You belong to no estate.", &["ESTATE", "NAME", "YOUR ROLE"], |e| {
                vec![e.slug.clone(), e.name.clone(), e.standing()]
            })
        }
        EstateVerb::All => {
            let all: Vec<EstateOutline> = client.get("/installation/estates", &[]).await?;
            out.list(&all, "There is no estate.", &["ESTATE", "NAME", "OWNERS", "SINCE"], |e| {
                let owners = if e.owners.is_empty() { "invited".into() } else { e.owners.join(", ") };
                vec![e.slug.clone(), e.name.clone(), owners, e.added_at.format("%Y-%m-%d").to_string()]
            })
        }
        EstateVerb::Found { slug, name, owner } => {
            let new = NewEstate { slug: slug.clone(), name: name.clone(), owner: owner.clone() };
            let founded: FoundedEstate = client.post("/installation/estates", &new).await?;
            if out.json {
                return out.json(&founded);
            }
            out.line(format!("The estate {} was founded. Its owner's invitation:", founded.estate.slug))?;
            shown(client, out, &founded.owner)
        }
    }
}

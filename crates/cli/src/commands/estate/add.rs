//! `heron estate add`.

use anyhow::Result;
use api::people::{FoundedEstate, NewEstate};

use crate::client::Client;
use crate::commands::invitation::shown;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, slug: String, name: Option<String>, owner: String) -> Result<()> {
    let new = NewEstate { slug: slug.clone(), name: name.clone(), owner: owner.clone() };
    let founded: FoundedEstate = client.post("/installation/estates", &new).await?;
    if out.json {
        return out.json(&founded);
    }
    out.line(format!("The estate {} was founded. Its owner's invitation:", founded.estate.slug))?;
    shown(client, out, &founded.owner)
}

use anyhow::Result;
use api::fleet::Estate;

use crate::args::EstateVerb;
use crate::client::Client;
use crate::show::Out;

pub async fn run(client: &Client, out: &Out, verb: &EstateVerb) -> Result<()> {
    match verb {
        EstateVerb::List => {
            let estates: Vec<Estate> = client.get("/estates", &[]).await?;
            out.list(&estates, "You belong to no estate.", &["ESTATE", "NAME", "YOUR ROLE"], |e| {
                vec![e.slug.clone(), e.name.clone(), e.role.clone()]
            })
        }
    }
}

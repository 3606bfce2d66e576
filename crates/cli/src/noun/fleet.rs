use anyhow::Result;
use api::fleet::{Fleet, NewFleet};

use crate::args::FleetVerb;
use crate::client::Client;
use crate::show::{self, Out};

fn lines(f: &Fleet) -> Vec<(&'static str, String)> {
    vec![("fleet", f.slug.clone()), ("name", f.name.clone()), ("devices", f.devices.to_string())]
}

pub async fn run(client: &Client, out: &Out, verb: FleetVerb, yes: bool) -> Result<()> {
    match verb {
        FleetVerb::List => {
            let fleets: Vec<Fleet> = client.all(&client.in_estate("fleets").await?, &[]).await?;
            out.list(&fleets, "There is no fleet. Next: `heron fleet add SLUG`.", &["FLEET", "NAME", "DEVICES"], |f| {
                vec![f.slug.clone(), f.name.clone(), f.devices.to_string()]
            })
        }
        FleetVerb::Show { slug } => {
            let fleet: Fleet = client.get(&client.in_estate(&format!("fleets/{slug}")).await?, &[]).await?;
            out.one(&fleet, lines)
        }
        FleetVerb::Add { slug, name } => {
            let fleet: Fleet = client.post(&client.in_estate("fleets").await?, &NewFleet { slug, name }).await?;
            out.one(&fleet, lines)
        }
        FleetVerb::Remove { slug } => {
            show::confirm(yes, &format!("The fleet {slug} will be removed."))?;
            client.delete(&client.in_estate(&format!("fleets/{slug}")).await?).await?;
            out.line(format!("{slug} was removed."))
        }
    }
}

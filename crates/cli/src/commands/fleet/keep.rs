//! `heron fleet keep`.

use crate::commands::fleet::args::FleetKeepArgs;
use anyhow::Result;
use api::fleet::{Fleet, FleetRetention};

use super::{kept, lines};
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, args: FleetKeepArgs, yes: bool) -> Result<()> {
    let FleetKeepArgs { slug, values, summaries, messages } = args;
    let retention = FleetRetention { values_days: values, summaries_days: summaries, messages_days: messages };
    let what = format!("Of {slug}, {} are kept; what is older will be gone.", kept(retention));
    show::confirm(yes, &what)?;
    let fleet: Fleet = client.put(&client.in_estate(&format!("fleets/{slug}/retention")).await?, &retention).await?;
    out.one(&fleet, lines)
}

//! `heron gateway list`.

use anyhow::Result;
use api::gateway::Gateway;

use super::{NONE, address, headroom};
use crate::args::ListArgs;
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let gateways: Vec<Gateway> = client.all(&client.in_estate("gateways").await?, &which.query()).await?;
    out.list(
        &gateways,
        NONE,
        &["NAME", "EUI", "STATE", "LAST HEARD", "HEARD", "SENT", "AIRTIME LEFT", "CONNECTION", "ADDRESS"],
        |g| {
            vec![
                g.name.clone(),
                g.eui.to_string(),
                g.state.label().into(),
                show::ago(g.last_heard),
                g.frames.to_string(),
                g.airtime.iter().map(|band| band.frames).sum::<u32>().to_string(),
                headroom(g),
                g.protocol.label().into(),
                address(g),
            ]
        },
    )
}

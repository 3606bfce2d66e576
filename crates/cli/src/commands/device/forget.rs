//! `heron device forget`.

use anyhow::Result;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, device: String, nonces: bool, yes: bool) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let also = if nonces { " Recorded joins of it can be played back afterwards." } else { "" };
    show::confirm(yes, &format!("The session of {device} ({eui}) will end: it has to join again.{also}"))?;
    let path = client.in_estate(&format!("devices/{eui}/session?nonces={nonces}")).await?;
    client.delete(&path).await?;
    out.line(format!("The session of {device} has ended."))
}

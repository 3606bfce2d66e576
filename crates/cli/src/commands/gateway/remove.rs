//! `heron gateway remove`.

use anyhow::Result;
use api::gateway::Gateway;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, gateway: String, yes: bool) -> Result<()> {
    let path = client.one("gateways", &gateway).await?;
    let gateway: Gateway = client.get(&path, &[]).await?;
    let what = format!("{} ({}) will be removed; its frames are no longer accepted.", gateway.name, gateway.eui);
    show::confirm(yes, &what)?;
    client.delete(&path).await?;
    out.said(format!("{} was removed.", gateway.name))
}

//! `heron gateway adopt`.

use crate::commands::gateway::args::GatewayAdoptArgs;
use anyhow::Result;
use api::gateway::{Gateway, Stranger};

use super::{lines, which};
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: GatewayAdoptArgs) -> Result<()> {
    let claim: Vec<(&str, String)> = args.eui.iter().map(|eui| ("claim", eui.clone())).collect();
    let strangers: Vec<Stranger> = client.all(&client.in_estate("strangers").await?, &claim).await?;
    let stranger = which(&strangers, args.eui.as_deref())?;
    let new = args.about.of(stranger.eui.to_string());
    let gateway: Gateway = client.post(&client.in_estate("gateways").await?, &new).await?;
    out.one(&gateway, lines)
}

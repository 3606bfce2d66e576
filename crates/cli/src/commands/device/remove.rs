//! `heron device remove`.

use anyhow::Result;
use api::device::DeviceDetail;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, device: String, yes: bool) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let path = client.in_estate(&format!("devices/{eui}")).await?;
    let detail: DeviceDetail = client.get(&path, &[]).await?;
    let what = format!(
        "{} ({eui}) will be removed with its keys, its session and what waits in its outbox.",
        detail.device.name
    );
    show::confirm(yes, &what)?;
    client.delete(&path).await?;
    out.said(format!("{} was removed.", detail.device.name))
}

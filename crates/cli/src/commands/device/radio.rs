//! `heron device radio`.

use anyhow::{Result, bail};
use api::device::DeviceDetail;

use super::{detail, radio_lines};
use crate::client::Client;
use crate::commands::device::args::RadioVerb;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, verb: RadioVerb) -> Result<()> {
    match verb {
        RadioVerb::Show { device } => radio_lines(out, &detail(client, &device).await?),
        RadioVerb::Set { device, radio } => {
            if radio.is_empty() {
                bail!("nothing is to be changed; `heron device radio set --help` says what can be");
            }
            let before = detail(client, &device).await?;
            let path = client.in_estate(&format!("devices/{}/radio", before.device.dev_eui)).await?;
            let detail: DeviceDetail = client.put(&path, &radio.over(before.radio)).await?;
            radio_lines(out, &detail)
        }
    }
}

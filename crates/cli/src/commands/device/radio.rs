//! `heron device radio`.

use crate::args::radio::RadioArgs;
use anyhow::Result;
use api::device::DeviceDetail;

use super::radio_lines;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, device: String, radio: Box<RadioArgs>) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let path = client.in_estate(&format!("devices/{eui}")).await?;
    let mut detail: DeviceDetail = client.get(&path, &[]).await?;
    if !radio.is_empty() {
        let radio = radio.over(detail.radio);
        detail = client.put(&format!("{path}/radio"), &radio).await?;
    }
    radio_lines(out, &detail)
}

//! `heron device counters`.

use anyhow::Result;
use api::device::{DeviceDetail, SetCounters};

use super::show_detail;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(
    client: &Client,
    out: &Out,
    device: String,
    last_up: Option<u32>,
    next_down: Option<u32>,
) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let path = client.in_estate(&format!("devices/{eui}/counters")).await?;
    let wanted = SetCounters { last_counter_up: last_up, next_counter_down: next_down };
    let detail: DeviceDetail = client.put(&path, &wanted).await?;
    show_detail(out, &detail)
}

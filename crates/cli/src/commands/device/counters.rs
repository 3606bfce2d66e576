//! `heron device counters`.

use anyhow::Result;
use api::device::{DeviceDetail, SetCounters};

use super::show_detail;
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(
    client: &Client,
    out: &Out,
    device: String,
    (last_up, next_down): (Option<u32>, Option<u32>),
    yes: bool,
) -> Result<()> {
    let eui = client.dev_eui(&device).await?;
    let path = client.in_estate(&format!("devices/{eui}/counters")).await?;
    let wanted = SetCounters { last_counter_up: last_up, next_counter_down: next_down };
    let before: DeviceDetail = client.get(&client.in_estate(&format!("devices/{eui}")).await?, &[]).await?;
    if let Some(what) = set_back(&before, &wanted) {
        show::confirm(yes, &what)?;
    }
    let detail: DeviceDetail = client.patch(&path, &wanted).await?;
    show_detail(out, &detail)
}

/// What would happen if a counter was set back.
fn set_back(before: &DeviceDetail, wanted: &SetCounters) -> Option<String> {
    let session = before.session.as_ref()?;
    let name = &before.device.name;
    if let (Some(was), Some(is)) = (session.last_counter_up, wanted.last_counter_up)
        && is < was
    {
        return Some(format!(
            "The last counter of {name} goes from {was} back to {is}: frames that were recorded since could be played back."
        ));
    }
    let (was, is) = (session.next_counter_down, wanted.next_counter_down?);
    (is < was).then(|| {
        format!("The counter towards {name} goes from {was} back to {is}: the device does not hear frames below {was}.")
    })
}

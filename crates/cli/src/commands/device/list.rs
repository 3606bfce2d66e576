//! `heron device list`.

use crate::commands::device::args::DeviceListArgs;
use anyhow::Result;
use api::device::Device;

use super::NONE;
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, args: DeviceListArgs) -> Result<()> {
    let query = args.query();
    let devices: Vec<Device> = client.all(&client.in_estate("devices").await?, &query).await?;
    let none = if query.is_empty() { NONE } else { "No device is like that." };
    out.list(&devices, none, &["NAME", "DEVEUI", "FLEET", "MODEL", "STATE", "LAST HEARD"], |d| {
        vec![
            d.name.clone(),
            d.dev_eui.to_string(),
            d.fleet.clone(),
            d.model.clone().unwrap_or_else(|| "–".into()),
            d.state.label().into(),
            show::ago(d.last_heard),
        ]
    })?;
    if !out.json {
        for device in &devices {
            if let Some(refusal) = &device.refusal {
                out.line(format!("\n{}: {}\n  Next: {}", device.name, refusal.why, refusal.next_step))?;
            }
        }
    }
    Ok(())
}

//! Devices that ask to join without being registered, and their adoption.

use anyhow::{Result, bail};
use api::device::join::DeviceStranger;
use domain::input;
use lorawan::Eui64;

use crate::client::Client;
use crate::commands::device::args::{DeviceAddArgs, DeviceAdoptArgs};
use crate::show::{self, Out};

async fn all(client: &Client) -> Result<Vec<DeviceStranger>> {
    client.all(&client.in_estate("devices/strangers").await?, &[]).await
}

pub(super) async fn list(client: &Client, out: &Out) -> Result<()> {
    let strangers = all(client).await?;
    let none = "No unregistered device has asked to join since the service started.";
    let head = ["DEVEUI", "JOINEUI", "REGION", "REQUESTS", "LAST HEARD", "HEARD BY"];
    out.list(&strangers, none, &head, |s| {
        let by = s.heard_by.first().map_or_else(String::new, |best| format!("{}, {:.0} dBm", best.name, best.rssi_dbm));
        vec![
            s.dev_eui.to_string(),
            s.join_eui.to_string(),
            s.region.to_string(),
            s.requests.to_string(),
            show::ago(Some(s.last_heard)),
            by,
        ]
    })?;
    if out.json {
        return Ok(());
    }
    for stranger in &strangers {
        if let Some(like) = &stranger.resembles {
            out.line(format!(
                "{} is nearly {}, the DevEUI of {}: is it the same device, registered with a slip?",
                stranger.dev_eui, like.dev_eui, like.name
            ))?;
        }
    }
    if !strangers.is_empty() {
        out.line("Is one of them yours? `heron device adopt DEVEUI --fleet FLEET` registers it with what was heard.")?;
    }
    Ok(())
}

/// The stranger as it is to be registered: its JoinEUI is the one that was heard, and so is its region where nothing else is
/// said.
pub(super) async fn named(client: &Client, args: DeviceAdoptArgs) -> Result<DeviceAddArgs> {
    let DeviceAdoptArgs { dev_eui, mut about } = args;
    let strangers = all(client).await?;
    let dev_eui: Eui64 = input::eui("dev_eui", &dev_eui)?;
    let Some(stranger) = strangers.iter().find(|stranger| stranger.dev_eui == dev_eui) else {
        bail!("no unregistered device asks to join as {dev_eui}: `heron device strangers` lists those that do");
    };
    if about.region.is_none() && about.profile.is_none() {
        about.region = Some(stranger.region);
    }
    let (dev_eui, join_eui) = (Some(dev_eui.to_string()), Some(stranger.join_eui.to_string()));
    Ok(DeviceAddArgs { dev_eui, join_eui, label: None, photo: None, about })
}

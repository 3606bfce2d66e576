//! Devices that ask to join without being registered, and their adoption.

use anyhow::{Result, bail};
use api::join::DeviceStranger;
use api::problem;
use lorawan::Eui64;

use crate::args::DeviceAddArgs;
use crate::client::Client;
use crate::show::{self, Out};

async fn all(client: &Client) -> Result<Vec<DeviceStranger>> {
    client.get(&client.in_estate("devices/strangers").await?, &[]).await
}

pub async fn list(client: &Client, out: &Out) -> Result<()> {
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

/// What is to be registered, with what was heard put in where nothing is given.
pub async fn filled(client: &Client, mut args: DeviceAddArgs) -> Result<DeviceAddArgs> {
    let strangers = all(client).await?;
    let Some(text) = args.dev_eui.as_deref() else { bail!("say which: `heron device strangers` lists them") };
    let dev_eui: Eui64 = problem::eui("dev_eui", text)?;
    let Some(stranger) = strangers.iter().find(|stranger| stranger.dev_eui == dev_eui) else {
        bail!("no unregistered device asks to join as {dev_eui}: `heron device strangers` lists those that do");
    };
    args.join_eui.get_or_insert_with(|| stranger.join_eui.to_string());
    if args.region.is_none() && args.profile.is_none() {
        args.region = Some(stranger.region);
    }
    Ok(args)
}

//! Changing devices: one, or many alike.

use anyhow::{Result, bail};
use api::device::Device;
use api::device::change::{BulkChange, ChangeEffect, DeviceChange};
use api::device::place::Place;

use super::place;
use crate::client::Client;
use crate::commands::device::args::DeviceSetArgs;
use crate::show::{self, Out};

/// Devices told of one by one; of more only how many.
const TOLD: usize = 30;

async fn chosen(client: &Client, args: &DeviceSetArgs) -> Result<Vec<String>> {
    if args.of_fleet.is_none() && args.with_tag.is_none() {
        let mut euis = Vec::new();
        for device in &args.devices {
            euis.push(client.dev_eui(device).await?.to_string());
        }
        return Ok(euis);
    }
    let query: Vec<(&str, String)> = [("fleet", &args.of_fleet), ("tag", &args.with_tag)]
        .into_iter()
        .filter_map(|(name, value)| Some((name, value.clone()?)))
        .collect();
    let devices: Vec<Device> = client.all(&client.in_estate("devices").await?, &query).await?;
    Ok(devices.into_iter().map(|device| device.dev_eui.to_string()).collect())
}

/// The place to be set, or to be taken away. What is not given of it stays, of one device.
async fn wanted_place(client: &Client, devices: &[String], args: &DeviceSetArgs) -> Result<Option<Option<Place>>> {
    if args.no_place {
        return Ok(Some(None));
    }
    if args.place.is_empty() {
        return Ok(None);
    }
    let before = match devices {
        [one] => client.get::<Device>(&client.in_estate(&format!("devices/{one}")).await?, &[]).await?.place,
        _ => None,
    };
    Ok(Some(args.place.over(before)?))
}

pub(crate) async fn run(client: &Client, out: &Out, args: DeviceSetArgs, yes: bool) -> Result<()> {
    let devices = chosen(client, &args).await?;
    if devices.is_empty() {
        bail!("no device is like that");
    }
    let place = wanted_place(client, &devices, &args).await?;
    let change = DeviceChange {
        name: args.name,
        fleet: args.fleet,
        model: args.model,
        profile: args.profile,
        description: args.description,
        place,
        attributes: place::attributes(&args.attributes)?,
        hardware: args.hardware,
        firmware: args.firmware,
        disabled: if args.disable { Some(true) } else { args.enable.then_some(false) },
        add_tags: args.tags,
        remove_tags: args.untags,
        ..DeviceChange::default()
    };
    if change == DeviceChange::default() {
        bail!("nothing is to be changed; `heron device set --help` says what can be");
    }
    if change.disabled == Some(true) && !args.preview {
        let which = if devices.len() == 1 { "This device".to_owned() } else { format!("{} devices", devices.len()) };
        show::confirm(yes, &format!("{which} will be disabled: frames are refused, and nothing is sent."))?;
    }
    let path = client.in_estate("devices/change").await?;
    let many = devices.len() > 1;
    let bulk = BulkChange { devices, change, preview: args.preview };
    if many && !args.preview && !yes {
        let expected: ChangeEffect = client.post(&path, &BulkChange { preview: true, ..bulk.clone() }).await?;
        show(out, &expected)?;
        show::confirm(false, &format!("{} devices will be changed.", expected.devices.len()))?;
    }
    let effect: ChangeEffect = client.post(&path, &bulk).await?;
    show(out, &effect)
}

/// What a change does, device by device.
pub(crate) fn show(out: &Out, effect: &ChangeEffect) -> Result<()> {
    if out.json {
        return out.json(effect);
    }
    for device in effect.devices.iter().take(TOLD) {
        out.line(format!("{} ({})", device.name, device.dev_eui))?;
        for change in &device.changes {
            let sent = change.sent.as_ref().map_or_else(String::new, |sent| format!("; it is sent {sent}"));
            out.line(format!("  {}: {} → {}{sent}", change.setting, change.before, change.after))?;
        }
    }
    if let Some(more @ 1..) = effect.devices.len().checked_sub(TOLD) {
        out.line(format!("and {more} more"))?;
    }
    if effect.devices.is_empty() {
        return out.line(match effect.untouched {
            0 => "It touches no device.".into(),
            n => format!("{n} devices stay as they are."),
        });
    }
    let (word, count) = (if effect.done { "became" } else { "would become" }, effect.devices.len());
    out.line(format!("{count} {word} different, {} stay as they are.", effect.untouched))
}

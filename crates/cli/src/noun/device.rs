use anyhow::{Context as _, Result};
use api::device::{Device, DeviceDetail, DeviceKeys, NewDevice};

use crate::args::DeviceVerb;
use crate::client::Client;
use crate::show::{self, Out};

const NONE: &str = "No device is registered. Next: `heron device add DEVEUI --name NAME --fleet FLEET --join-eui EUI`.";

fn lines(d: &DeviceDetail) -> Vec<(&'static str, String)> {
    let device = &d.device;
    let mut lines = vec![
        ("dev eui", device.dev_eui.to_string()),
        ("join eui", device.join_eui.to_string()),
        ("name", device.name.clone()),
        ("fleet", device.fleet.clone()),
        ("model", device.model.clone().unwrap_or_else(|| "none: payloads are not decoded".into())),
        ("region", device.region.name().into()),
        ("state", device.state.words().into()),
        ("last heard", show::ago(device.last_heard)),
    ];
    if let Some(rhythm_s) = device.rhythm_s {
        lines.push(("rhythm", format!("every {rhythm_s:.0} s")));
    }
    if let Some(refusal) = &device.refusal {
        lines.push(("refused", format!("{} ({})", refusal.why, show::ago(Some(refusal.time)))));
        lines.push(("next step", refusal.next_step.clone()));
    }
    if let Some(session) = &d.session {
        let up = session.last_counter_up.map_or_else(|| "none yet".into(), |n| n.to_string());
        lines.push(("session", format!("DevAddr {}, joined {}", session.dev_addr, show::ago(Some(session.joined_at)))));
        lines.push(("counters", format!("last up {up}, next down {}", session.next_counter_down)));
    }
    lines.push(("airtime", show::airtime(&d.airtime)));
    lines
}

fn show_detail(out: &Out, detail: &DeviceDetail) -> Result<()> {
    out.one(detail, lines)?;
    if out.json || detail.readings.is_empty() {
        return Ok(());
    }
    let rows = detail
        .readings
        .iter()
        .map(|(name, last)| vec![name.clone(), last.reading.to_string(), show::ago(Some(last.time))]);
    out.line(format!("\n{}", show::table(&["READING", "VALUE", "AGE"], rows)))
}

pub async fn run(client: &Client, out: &Out, verb: DeviceVerb, yes: bool) -> Result<()> {
    match verb {
        DeviceVerb::List { fleet } => {
            let query: Vec<_> = fleet.map(|fleet| ("fleet", fleet)).into_iter().collect();
            let devices: Vec<Device> = client.all(&client.in_estate("devices").await?, &query).await?;
            out.list(&devices, NONE, &["NAME", "DEVEUI", "FLEET", "MODEL", "STATE", "LAST HEARD"], |d| {
                vec![
                    d.name.clone(),
                    d.dev_eui.to_string(),
                    d.fleet.clone(),
                    d.model.clone().unwrap_or_else(|| "–".into()),
                    d.state.words().into(),
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
        DeviceVerb::Show { device } => {
            let eui = client.dev_eui(&device).await?;
            let detail: DeviceDetail = client.get(&client.in_estate(&format!("devices/{eui}")).await?, &[]).await?;
            show_detail(out, &detail)
        }
        DeviceVerb::Add(args) => {
            let app_key = match args.app_key {
                Some(key) => key,
                None => rpassword::prompt_password("AppKey (32 hex digits): ").context("reading the AppKey")?,
            };
            let new = NewDevice {
                dev_eui: args.dev_eui,
                join_eui: args.join_eui,
                app_key,
                name: args.name,
                fleet: args.fleet,
                model: args.model,
            };
            let detail: DeviceDetail = client.post(&client.in_estate("devices").await?, &new).await?;
            show_detail(out, &detail)
        }
        DeviceVerb::Remove { device } => {
            let eui = client.dev_eui(&device).await?;
            let path = client.in_estate(&format!("devices/{eui}")).await?;
            let detail: DeviceDetail = client.get(&path, &[]).await?;
            let what = format!(
                "{} ({eui}) will be removed with its keys, its session and what waits in its outbox.",
                detail.device.name
            );
            show::confirm(yes, &what)?;
            client.delete(&path).await?;
            out.line(format!("{} was removed.", detail.device.name))
        }
        DeviceVerb::Keys { device } => {
            let eui = client.dev_eui(&device).await?;
            let keys: DeviceKeys = client.get(&client.in_estate(&format!("devices/{eui}/keys")).await?, &[]).await?;
            out.one(&keys, |k| vec![("dev eui", k.dev_eui.to_string()), ("app key", k.app_key.clone())])
        }
    }
}

use anyhow::{Context as _, Result};
use api::device::{Device, DeviceDetail, DeviceKeys, NewDevice, PersonalSession};
use api::radio::RadioSettings;
use lorawan::MacVersion;

use super::why;
use crate::args::{DeviceAddArgs, DeviceVerb};
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
    let version = d.radio.mac_version.map_or("1.0.3", |version| version.name());
    let joins = if d.personalized { "personalized" } else { "joins" };
    lines.push(("MAC", format!("LoRaWAN {version}, class {} now, {joins}", d.class.name())));
    if let Some(next) = &d.next_session {
        lines.push(("next session", format!("DevAddr {}, begins with its first uplink", next.dev_addr)));
    }
    if let Some(session) = &d.session {
        let up = session.last_counter_up.map_or_else(|| "none yet".into(), |n| n.to_string());
        lines.push(("session", format!("DevAddr {}, joined {}", session.dev_addr, show::ago(Some(session.joined_at)))));
        lines.push(("counters", format!("last up {up}, next down {}", session.next_counter_down)));
    }
    if let Some(decision) = &d.rate_decision {
        lines.push(("data rate", decision.why.clone()));
    }
    lines.push(("airtime", show::airtime(&d.airtime)));
    lines.push((
        "last 24 hours",
        format!("{:.1} s on air, {} downlinks to it", d.day_airtime_ms / 1000.0, d.day_downlinks),
    ));
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

/// A key that is given, or asked for, so that it stays out of the shell's history.
fn asked(given: Option<String>, name: &str) -> Result<String> {
    match given {
        Some(key) => Ok(key),
        None => rpassword::prompt_password(format!("{name} (32 hex digits): ")).context(format!("reading the {name}")),
    }
}

fn new_device(args: DeviceAddArgs) -> Result<NewDevice> {
    let radio = args.radio.over(RadioSettings::default());
    let personal = match (args.dev_addr, args.nwk_s_key, args.app_s_key) {
        (Some(dev_addr), Some(nwk_s_key), Some(app_s_key)) => Some(PersonalSession {
            dev_addr,
            app_s_key,
            nwk_s_key,
            s_nwk_s_int_key: args.s_nwk_s_int_key,
            nwk_s_enc_key: args.nwk_s_enc_key,
        }),
        _ => None,
    };
    let joins = personal.is_none();
    let app_key = if joins { Some(asked(args.app_key, "AppKey")?) } else { None };
    let nwk_key = match radio.mac_version {
        Some(MacVersion::V1_1) if joins => Some(asked(args.nwk_key, "NwkKey")?),
        _ => args.nwk_key,
    };
    Ok(NewDevice {
        dev_eui: args.dev_eui,
        join_eui: args.join_eui,
        app_key,
        nwk_key,
        personal,
        region: args.region,
        radio,
        name: args.name,
        fleet: args.fleet,
        model: args.model,
    })
}

fn key_lines(keys: &DeviceKeys) -> Vec<(&'static str, String)> {
    let mut lines = vec![("dev eui", keys.dev_eui.to_string())];
    lines.extend(keys.app_key.clone().map(|key| ("app key", key)));
    lines.extend(keys.nwk_key.clone().map(|key| ("nwk key", key)));
    if let Some(personal) = &keys.personal {
        lines.push(("dev addr", personal.dev_addr.clone()));
        lines.push(("app s key", personal.app_s_key.clone()));
        lines.push(("nwk s key", personal.nwk_s_key.clone()));
        lines.extend(personal.s_nwk_s_int_key.clone().map(|key| ("s nwk s int key", key)));
        lines.extend(personal.nwk_s_enc_key.clone().map(|key| ("nwk s enc key", key)));
    }
    lines
}

/// What a device is set to, what is wanted of it, and what it made of that.
fn radio_lines(out: &Out, detail: &DeviceDetail) -> Result<()> {
    if out.json {
        return out.json(&detail.radio);
    }
    let given = serde_json::to_value(&detail.radio)?;
    let given: Vec<String> =
        given.as_object().into_iter().flatten().map(|(name, value)| format!("{name} {value}")).collect();
    let given = if given.is_empty() { "as the region has it".into() } else { given.join(", ") };
    out.line(format!(
        "{} in {}, class {} now: {given}",
        detail.device.name,
        detail.device.region,
        detail.class.name()
    ))?;
    let Some(agreement) = &detail.agreement else {
        return out.line("It has no session yet, so nothing is agreed upon.");
    };
    let rows = agreement.settings.iter().map(|s| {
        let wanted = if s.wanted == s.known { "·".into() } else { s.wanted.clone() };
        vec![s.name.clone(), s.known.clone(), wanted]
    });
    out.line(format!("\n{}", show::table(&["SETTING", "THE DEVICE HAS", "WANTED"], rows)))?;
    for request in &agreement.under_way {
        out.line(format!("under way: {request}"))?;
    }
    for refused in &agreement.refused {
        let again = show::ago(Some(refused.at));
        out.line(format!(
            "refused {again}: {}; asked again at {}",
            refused.what,
            refused.again_at.format("%m-%d %H:%M")
        ))?;
    }
    match &agreement.health {
        Some(health) => {
            out.line(format!("{}, margin {} dB ({})", health.battery, health.margin_db, show::ago(Some(health.at))))
        }
        None => Ok(()),
    }
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
            let detail: DeviceDetail = client.post(&client.in_estate("devices").await?, &new_device(*args)?).await?;
            show_detail(out, &detail)
        }
        DeviceVerb::Why { device, limit } => why::run(client, out, &device, limit).await,
        DeviceVerb::Radio { device, radio } => {
            let eui = client.dev_eui(&device).await?;
            let path = client.in_estate(&format!("devices/{eui}")).await?;
            let mut detail: DeviceDetail = client.get(&path, &[]).await?;
            if !radio.is_empty() {
                let radio = radio.over(detail.radio);
                detail = client.put(&format!("{path}/radio"), &radio).await?;
            }
            radio_lines(out, &detail)
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
            out.one(&keys, key_lines)
        }
    }
}

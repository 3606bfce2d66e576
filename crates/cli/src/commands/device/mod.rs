//! `heron device`.

mod adopt;
pub(crate) mod args;
pub(crate) mod import;
mod keys;
mod labels;
mod list;
mod place;
mod radio;
mod remove;
mod session;
pub(crate) mod set;
mod why;

use anyhow::{Result, bail};
use api::device::change::{MoveDevice, MovedDevice};
use api::device::read_back::{ReadBack, Registered};
use api::device::register::{NewDevice, PersonalSession};
use api::device::{DeviceDetail, ShownKeys};
use api::radio::settings::RadioSettings;
use domain::device::keys::ByteOrder;
use domain::device::keys::c_source;
use lorawan::{Eui64, MacVersion};

use crate::args::secret;
use crate::client::Client;
use crate::commands::device::args::{DeviceAddArgs, DeviceVerb, KeyForms, KeyOrder, NewDeviceArgs};
use crate::commands::profile;
use crate::show::{self, Out};

const NONE: &str = "No device is registered. Next: `heron device add DEVEUI --name NAME --fleet FLEET --join-eui EUI`.";

fn join_eui(eui: Option<Eui64>) -> String {
    eui.map_or_else(|| "none: it does not join".into(), |eui| eui.to_string())
}

fn lines(d: &DeviceDetail) -> Vec<(&'static str, String)> {
    let device = &d.device;
    let mut lines = vec![
        ("dev eui", device.dev_eui.to_string()),
        ("join eui", join_eui(device.join_eui)),
        ("name", device.name.clone()),
        ("fleet", device.fleet.clone()),
        ("model", device.model.clone().unwrap_or_else(|| "none: payloads are not decoded".into())),
        ("profile", d.profile.clone().unwrap_or_else(|| "none".into())),
        ("region", device.region.name().into()),
        ("state", device.state.label().into()),
        ("last heard", show::ago(device.last_heard)),
    ];
    let about = [("tags", device.tags.join(", ")), ("description", d.description.clone())];
    lines.extend(about.into_iter().filter(|(_, text)| !text.is_empty()));
    lines.extend(device.place.map(|place| ("place", place.to_string())));
    lines.extend(d.attributes.iter().map(|(name, text)| ("attribute", format!("{name}: {text}"))));
    let versions = [("hardware", &d.hardware), ("firmware", &d.firmware)];
    lines.extend(versions.into_iter().filter_map(|(name, version)| Some((name, version.clone()?))));
    if let Some(usual_interval_s) = device.usual_interval_s {
        lines.push(("usual interval", format!("{usual_interval_s:.0} s")));
    }
    if let Some(refusal) = &device.refusal {
        lines.push(("refused", format!("{} ({})", refusal.why, show::ago(Some(refusal.time)))));
        lines.extend(device.refused_since.map(|since| ("refused since", show::moment(since))));
        lines.push(("next step", refusal.next_step.clone()));
    }
    let version = d.whole_radio.mac_version.map_or("1.0.3", |version| version.name());
    let joins = if d.personalized { "personalized" } else { "joins" };
    lines.push(("MAC", format!("LoRaWAN {version}, class {} now, {joins}", d.class.name())));
    if let Some(next) = &d.next_session {
        lines.push(("next session", format!("DevAddr {}, begins with its first uplink", next.dev_addr)));
    }
    lines.extend(session::lines(d));
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

/// A device with all that is known of it.
async fn detail(client: &Client, device: &str) -> Result<DeviceDetail> {
    let eui = client.dev_eui(device).await?;
    client.get(&client.in_estate(&format!("devices/{eui}")).await?, &[]).await
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

/// The session of a personalized device, if that is what it is.
fn personal(args: &NewDeviceArgs) -> Result<Option<PersonalSession>> {
    let Some(dev_addr) = args.dev_addr.clone() else { return Ok(None) };
    let (nwk_s_key, app_s_key) = match (args.nwk_s_key.clone(), args.app_s_key.clone()) {
        _ if args.session_keys_stdin => (secret::line()?, secret::line()?),
        (Some(nwk_s_key), Some(app_s_key)) => (nwk_s_key, app_s_key),
        _ => bail!("a personalized device needs --nwk-s-key and --app-s-key, or --session-keys-stdin"),
    };
    let (s_nwk_s_int_key, nwk_s_enc_key) = (args.s_nwk_s_int_key.clone(), args.nwk_s_enc_key.clone());
    let (nwk_s_key, app_s_key) = (nwk_s_key.into(), app_s_key.into());
    let (s_nwk_s_int_key, nwk_s_enc_key) = (s_nwk_s_int_key.map(Into::into), nwk_s_enc_key.map(Into::into));
    Ok(Some(PersonalSession { dev_addr, app_s_key, nwk_s_key, s_nwk_s_int_key, nwk_s_enc_key }))
}

/// The device to register. Keys that are not given are asked for only if they are used.
fn new_device(args: DeviceAddArgs) -> Result<NewDevice> {
    let DeviceAddArgs { dev_eui, label, join_eui, about: args, .. } = args;
    let personal = personal(&args)?;
    let radio = args.radio.over(RadioSettings::default());
    let wanted = personal.is_none() && !args.check;
    let app_key = match (&args.app_key, wanted) {
        (Some(_), _) => args.app_key.clone(),
        (None, true) => Some(secret::APP_KEY.read(None, args.app_key_stdin)?),
        (None, false) => None,
    };
    let nwk_key = match (&args.nwk_key, radio.mac_version) {
        (None, Some(MacVersion::V1_1)) if wanted => Some(secret::NWK_KEY.read(None, args.nwk_key_stdin)?),
        _ => args.nwk_key.clone(),
    };
    Ok(NewDevice {
        label,
        dev_eui: dev_eui.unwrap_or_default(),
        join_eui: join_eui.unwrap_or_default(),
        app_key: app_key.map(Into::into),
        nwk_key: nwk_key.map(Into::into),
        personal,
        region: args.region,
        radio,
        name: args.name,
        fleet: args.fleet,
        model: args.model,
        profile: args.profile,
        description: args.description,
        place: args.place.over(None)?,
        attributes: place::attributes(&args.attributes)?
            .into_iter()
            .filter_map(|(name, text)| Some((name, text?)))
            .collect(),
        hardware: args.hardware,
        firmware: args.firmware,
        tags: args.tags,
        // Sessions that go on come from a file: `heron device import`.
        session: None,
        counters: None,
    })
}

/// How a device would be understood.
fn read_back_lines(r: &ReadBack) -> Vec<(&'static str, String)> {
    let none = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
    let joins = if r.joins { "joins" } else { "personalized" };
    vec![
        ("dev eui", r.dev_eui.to_string()),
        ("join eui", join_eui(r.join_eui)),
        ("name", r.name.clone()),
        ("fleet", r.fleet.clone()),
        ("model", none(&r.model)),
        ("profile", none(&r.profile)),
        ("region", r.region.to_string()),
        ("MAC", format!("LoRaWAN {}, class {}, {joins}", r.mac_version.name(), r.class.name())),
    ]
}

fn warn(out: &Out, warnings: &[String]) -> Result<()> {
    for warning in warnings.iter().filter(|_| !out.json) {
        out.line(format!("check: {warning}"))?;
    }
    Ok(())
}

fn show_keys(out: &Out, name: &str, keys: &ShownKeys, form: KeyForms, order: KeyOrder) -> Result<()> {
    let order = match order {
        KeyOrder::Lsb => ByteOrder::LsbFirst,
        KeyOrder::Msb => ByteOrder::MsbFirst,
    };
    match form {
        KeyForms::Json => out.json(keys),
        _ if out.json => out.json(keys),
        KeyForms::C => out.line(c_source(name, keys.join_eui, &keys.keys, order).trim_end()),
        KeyForms::Text => out.one(keys, key_lines),
    }
}

fn key_lines(shown: &ShownKeys) -> Vec<(&'static str, String)> {
    let keys = &shown.keys;
    let mut lines = vec![("dev eui", keys.dev_eui.to_string()), ("join eui", join_eui(shown.join_eui))];
    lines.extend(keys.app_key.as_deref().map(|key| ("app key", key.to_owned())));
    lines.extend(keys.nwk_key.as_deref().map(|key| ("nwk key", key.to_owned())));
    if let Some(personal) = &keys.personal {
        lines.push(("dev addr", personal.dev_addr.clone()));
        lines.push(("app s key", personal.app_s_key.to_string()));
        lines.push(("nwk s key", personal.nwk_s_key.to_string()));
        lines.extend(personal.s_nwk_s_int_key.as_deref().map(|key| ("s nwk s int key", key.to_owned())));
        lines.extend(personal.nwk_s_enc_key.as_deref().map(|key| ("nwk s enc key", key.to_owned())));
    }
    lines
}

/// What a device is set to, what is wanted of it, and what it made of that.
fn radio_lines(out: &Out, detail: &DeviceDetail) -> Result<()> {
    if out.json {
        return out.json(&detail.radio);
    }
    let given = profile::given(&detail.whole_radio)?;
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
        out.line(format!("refused {again}: {}; asked again at {}", refused.what, show::moment(refused.again_at)))?;
    }
    match &agreement.health {
        Some(health) => {
            out.line(format!("{}, margin {} dB ({})", health.battery, health.margin_db, show::ago(Some(health.at))))
        }
        None => Ok(()),
    }
}

/// Registers a device, or says how it would be understood.
async fn add(client: &Client, out: &Out, mut args: DeviceAddArgs) -> Result<()> {
    if let Some(photo) = args.photo.take() {
        args.label = Some(labels::in_photo(client, &photo).await?);
    }
    let check = args.about.check;
    let new = new_device(args)?;
    if check {
        let read_back: ReadBack = client.post(&client.in_estate("devices/check").await?, &new).await?;
        out.one(&read_back, read_back_lines)?;
        return warn(out, &read_back.warnings);
    }
    let added: Registered = client.post(&client.in_estate("devices").await?, &new).await?;
    if out.json {
        return out.json(&added);
    }
    show_detail(out, &added.device)?;
    warn(out, &added.warnings)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: DeviceVerb, yes: bool) -> Result<()> {
    match verb {
        DeviceVerb::List(args) => list::run(client, out, args).await,
        DeviceVerb::Show { device } => show_detail(out, &detail(client, &device).await?),
        DeviceVerb::Why { device, limit } => why::run(client, out, &device, limit).await,
        DeviceVerb::Add(args) => add(client, out, *args).await,
        DeviceVerb::Adopt(args) => {
            let args = adopt::named(client, *args).await?;
            add(client, out, args).await
        }
        DeviceVerb::Import(args) => import::run(client, out, args, yes).await,
        DeviceVerb::Export { which, keys, output } => import::export(client, which, keys, output).await,
        DeviceVerb::Set(args) => set::run(client, out, *args, yes).await,
        DeviceVerb::Move { device, to, fleet } => {
            let eui = client.dev_eui(&device).await?;
            show::confirm(yes, &format!("{device} will move to {to}. Its messages stay; its readings begin anew."))?;
            let path = client.in_estate(&format!("devices/{eui}/move")).await?;
            let moved: MovedDevice = client.post(&path, &MoveDevice { estate: to, fleet }).await?;
            out.one(&moved, |m| {
                let mut lines = vec![("device", m.name.clone()), ("estate", m.estate.clone())];
                lines.extend(m.model.clone().map(|model| ("model", model)));
                lines.extend(m.profile.clone().map(|profile| ("profile", profile)));
                lines.extend(m.left_behind.iter().map(|what| ("left behind", what.clone())));
                lines
            })
        }
        DeviceVerb::Remove { device } => remove::run(client, out, device, yes).await,
        DeviceVerb::Radio { verb } => radio::run(client, out, verb).await,
        DeviceVerb::Session { verb } => session::run(client, out, verb, yes).await,
        DeviceVerb::Keys { device, form, order } => keys::run(client, out, device, form, order).await,
        DeviceVerb::Labels(args) => labels::print(client, out, args).await,
        DeviceVerb::Strangers => adopt::list(client, out).await,
    }
}

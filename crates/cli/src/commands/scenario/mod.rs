//! `heron scenario`.

pub(crate) mod args;
mod import;
mod run;

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use agent::kit::Kit;
use anyhow::{Context as _, Result};
use api::coverage::site::Site;
use api::device::DeviceDetail;
use api::fleet::Fleet;
use api::gateway::credential::KitOrder;
use api::gateway::{Gateway, Protocol};
use api::model::Model;
use api::problem::Problem;
use domain::input;
use lorawan::Eui64;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::json;
use simulator::device::Downlink;
use simulator::scenario::{GatewayEntry, Scenario};
use simulator::world::{What, World};
use tokio::sync::broadcast::error::RecvError;

use crate::client::Client;
use crate::commands::gateway::credentials;
use crate::commands::scenario::args::ScenarioVerb;
use crate::show::Out;

pub(crate) async fn run(client: &Client, out: &Out, verb: ScenarioVerb) -> Result<()> {
    match verb {
        ScenarioVerb::Import { folder, kits } => import::run(client, out, folder, kits).await,
        ScenarioVerb::Run { folder, gateways_call, kits, state } => {
            run::run(out, (folder, kits, state), gateways_call).await
        }
    }
}

/// Adds what is not there yet; what is there stays as it is.
async fn register(client: &Client, out: &Out, scenario: &Scenario) -> Result<()> {
    for fleet in &scenario.fleets {
        let added = add::<Fleet>(client, "fleets", &fleet.to_register()).await?;
        said(out, "fleet", &fleet.slug, added)?;
    }
    for model in &scenario.models {
        let path = client.in_estate(&format!("models/{}", model.slug)).await?;
        let missing = match client.get::<Model>(&path, &[]).await {
            Ok(_) => false,
            Err(error) if error.downcast_ref::<Problem>().is_some_and(|p| p.code == "not_found") => true,
            Err(error) => return Err(error),
        };
        if missing {
            client.put::<Model>(&path, &model.to_register()).await?;
        }
        said(out, "model", &model.slug, missing)?;
    }
    for gateway in scenario.gateways.iter().filter(|g| !g.stranger) {
        let added = add::<Gateway>(client, "gateways", &gateway.to_register()).await?;
        if added {
            client.patch::<Site>(&client.one("sites", &gateway.name).await?, &gateway.to_site()).await?;
        }
        said(out, "gateway", &gateway.name, added)?;
    }
    for device in scenario.devices.iter().filter(|d| !d.stranger) {
        let added = add::<DeviceDetail>(client, "devices", &device.to_register()).await?;
        said(out, "device", &device.name, added)?;
    }
    Ok(())
}

/// Where a gateway's kit lies.
fn kit_path(gateway: &GatewayEntry, kits: &Path) -> Result<(Eui64, PathBuf)> {
    let eui = input::eui("eui", &gateway.eui)?;
    Ok((eui, kits.join(format!("{eui}.zip"))))
}

/// Makes kits for those that need one to connect.
async fn fetch_kits(client: &Client, out: &Out, scenario: &Scenario, kits: &Path) -> Result<()> {
    for gateway in scenario.gateways.iter().filter(|g| g.protocol != Protocol::Udp && !g.stranger) {
        let (eui, path) = kit_path(gateway, kits)?;
        if !path.exists() {
            credentials::save_kit(client, &eui.to_string(), &KitOrder::default(), &path).await?;
            match out.json {
                true => out.json_line(&json!({ "noun": "gateway", "name": gateway.name, "kit": path }))?,
                false => out.line(format!("gateway {}: its connection kit is {}", gateway.name, path.display()))?,
            }
        }
    }
    Ok(())
}

fn read_kits(scenario: &Scenario, kits: &Path) -> Result<HashMap<Eui64, Kit>> {
    let mut read = HashMap::new();
    for gateway in &scenario.gateways {
        let (eui, path) = kit_path(gateway, kits)?;
        if path.exists() {
            let bytes = fs::read(&path).with_context(|| format!("reading {}", path.display()))?;
            read.insert(eui, Kit::from_zip(&bytes).with_context(|| format!("reading {}", path.display()))?);
        }
    }
    Ok(read)
}

async fn add<T: DeserializeOwned>(client: &Client, list: &str, new: &impl Serialize) -> Result<bool> {
    match client.post::<T>(&client.in_estate(list).await?, new).await {
        Ok(_) => Ok(true),
        Err(error) if error.downcast_ref::<Problem>().is_some_and(|p| p.code == "exists") => Ok(false),
        Err(error) => Err(error),
    }
}

fn said(out: &Out, noun: &str, name: &str, added: bool) -> Result<()> {
    if out.json {
        return out.json_line(&json!({ "noun": noun, "name": name, "registered": added }));
    }
    out.line(format!("{noun} {name}: {}", if added { "registered" } else { "is there already" }))
}

async fn tell(out: &Out, world: &World) -> Result<()> {
    let mut events = world.events();
    loop {
        let event = match events.recv().await {
            Ok(event) => event,
            Err(RecvError::Lagged(_)) => continue,
            Err(RecvError::Closed) => return Ok(()),
        };
        let what = match event.what {
            What::Sent { join, heard_by } => {
                format!("sends {}, heard by {heard_by} gateways", if join { "a join-request" } else { "an uplink" })
            }
            What::Received(Downlink::Joined(addr)) => format!("has joined, DevAddr {addr}"),
            What::Received(Downlink::Data { counter, port: Some(port), payload, .. }) => {
                format!("receives downlink #{counter}, port {port}: {}", hex::encode(payload))
            }
            What::Received(Downlink::Data { counter, ack, mac_commands, .. }) => {
                let answers: Vec<String> = mac_commands.iter().map(|command| format!(", {command}")).collect();
                let ack = if ack { ", an acknowledgement" } else { "" };
                format!("receives downlink #{counter}{ack}{}", answers.concat())
            }
            What::Did(what) => what,
        };
        match out.json {
            true => out.json_line(&json!({ "device": event.device, "did": what }))?,
            false => out.line(format!("{:<12} {what}", event.device))?,
        }
    }
}

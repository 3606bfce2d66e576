use anyhow::Result;
use api::device::DeviceDetail;
use api::fleet::Fleet;
use api::gateway::Gateway;
use api::model::Model;
use api::problem::Problem;
use serde::Serialize;
use serde::de::DeserializeOwned;
use simulator::device::Downlink;
use simulator::scenario::Scenario;
use simulator::world::{What, World};
use tokio::sync::broadcast::error::RecvError;

use crate::args::ScenarioVerb;
use crate::client::Client;
use crate::show::Out;

pub async fn run(client: &Client, out: &Out, verb: ScenarioVerb) -> Result<()> {
    match verb {
        ScenarioVerb::Register { folder } => register(client, out, &Scenario::load(&folder)?).await,
        ScenarioVerb::Run { folder, gateways_call } => {
            let world = World::start(&Scenario::load(&folder)?, gateways_call).await?;
            tokio::select! {
                told = tell(out, &world) => told,
                _ = tokio::signal::ctrl_c() => Ok(()),
            }
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
        said(out, "gateway", &gateway.name, added)?;
    }
    for device in &scenario.devices {
        let added = add::<DeviceDetail>(client, "devices", &device.to_register()).await?;
        said(out, "device", &device.name, added)?;
    }
    Ok(())
}

async fn add<T: DeserializeOwned>(client: &Client, list: &str, new: &impl Serialize) -> Result<bool> {
    match client.post::<T>(&client.in_estate(list).await?, new).await {
        Ok(_) => Ok(true),
        Err(error) if error.downcast_ref::<Problem>().is_some_and(|p| p.code == "exists") => Ok(false),
        Err(error) => Err(error),
    }
}

fn said(out: &Out, noun: &str, name: &str, added: bool) -> Result<()> {
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
        out.line(format!("{:<12} {what}", event.device))?;
    }
}

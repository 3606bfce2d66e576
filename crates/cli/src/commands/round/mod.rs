//! `heron round`: one downlink for each of many devices.

pub(crate) mod args;

use anyhow::Result;
use api::device::outbox::{NewOutboxItem, OutboxState};
use api::device::round::{NewRound, Round, RoundDevice, RoundReadBack};
use serde_json::json;

use crate::client::Client;
use crate::commands::outbox;
use crate::commands::round::args::{RoundAddArgs, RoundVerb};
use crate::show::{self, Out};

pub(crate) async fn run(client: &Client, out: &Out, verb: RoundVerb, yes: bool) -> Result<()> {
    match verb {
        RoundVerb::List => {
            let rounds: Vec<Round> = client.all(&client.in_estate("rounds").await?, &[]).await?;
            let none = "There was no round yet. Next: `heron round add --fleet FLEET --port PORT --payload HEX`.";
            let head = ["ROUND", "STATE", "TO", "DEVICES", "TO COME", "OPEN", "DONE", "FAILED", "BY", "BEGAN"];
            out.list(&rounds, none, &head, |r| {
                let count = |n: u32| n.to_string();
                let (id, state, began) = (r.id.clone(), r.state.name().into(), show::ago(Some(r.begun_at)));
                let counts = [r.devices, r.planned, r.open, r.done, r.failed].map(count);
                let mut row = vec![id, state, to(&r.wanted)];
                row.extend(counts);
                row.extend([r.begun_by.clone(), began]);
                row
            })
        }
        RoundVerb::Show { id, failed } => show_one(client, out, &id, failed).await,
        RoundVerb::Add(args) => add(client, out, *args, yes).await,
        RoundVerb::Remove { id } => {
            let path = client.one("rounds", &id).await?;
            show::confirm(yes, "What still waits of this round will be cancelled.")?;
            let stopped: Round = client.delete(&path).await?.json().await?;
            out.one(&stopped, lines)
        }
    }
}

/// Whom a round is for.
fn to(wanted: &NewRound) -> String {
    let named = [("fleet", &wanted.fleet), ("model", &wanted.model), ("tag", &wanted.tag)];
    let named: Vec<String> =
        named.into_iter().filter_map(|(what, name)| Some(format!("{what} {}", name.as_ref()?))).collect();
    if named.is_empty() { "devices by name".into() } else { named.join(", ") }
}

fn lines(r: &Round) -> Vec<(&'static str, String)> {
    let told = format!("{} to come, {} open, {} done, {} failed", r.planned, r.open, r.done, r.failed);
    let mut lines = vec![
        ("round", r.id.clone()),
        ("to", format!("{}: {} devices", to(&r.wanted), r.devices)),
        ("state", r.state.name().into()),
        ("devices", told),
        ("spread over", api::elapsed(r.over_s.round() as i64)),
        ("begun", format!("{} by {}", show::moment(r.begun_at), r.begun_by)),
    ];
    lines.extend(r.ended_at.map(|at| ("ended", show::moment(at))));
    lines
}

fn row(d: &RoundDevice) -> Vec<String> {
    let state = match (&d.state, &d.note) {
        (Some(state), _) => state.label(),
        (None, Some(_)) => "refused",
        (None, None) => "to come",
    };
    vec![
        d.name.clone(),
        d.dev_eui.to_string(),
        state.into(),
        show::moment(d.due_at),
        d.note.clone().unwrap_or_default(),
    ]
}

fn has_failed(device: &RoundDevice) -> bool {
    match device.state {
        Some(OutboxState::Failed | OutboxState::Cancelled) => true,
        Some(_) => false,
        None => device.note.is_some(),
    }
}

async fn show_one(client: &Client, out: &Out, id: &str, failed: bool) -> Result<()> {
    let path = client.one("rounds", id).await?;
    let round: Round = client.get(&path, &[]).await?;
    let mut devices: Vec<RoundDevice> = client.all(&format!("{path}/devices"), &[]).await?;
    devices.retain(|device| !failed || has_failed(device));
    if out.json {
        return out.json(&json!({ "round": round, "devices": devices }));
    }
    out.one(&round, lines)?;
    out.line("")?;
    out.list(&devices, "No device of it failed.", &["DEVICE", "DEVEUI", "STATE", "TURN", "NOTE"], row)
}

async fn add(client: &Client, out: &Out, args: RoundAddArgs, yes: bool) -> Result<()> {
    let RoundAddArgs { fleet, model, tag, devices, port, cargo, confirmed, attempts, expires_in, over, check } = args;
    let mut euis = Vec::new();
    for device in &devices {
        euis.push(client.dev_eui(device).await?.to_string());
    }
    let downlink =
        NewOutboxItem { port, confirmed, max_attempts: attempts, expires_in_s: expires_in, ..outbox::cargo(cargo)? };
    let new = NewRound { fleet, model, tag, devices: euis, downlink, over_s: over };
    let path = client.in_estate("rounds").await?;
    let expected: RoundReadBack = client.post(&format!("{path}/check"), &new).await?;
    if check {
        return told(out, &expected);
    }
    let time = api::elapsed(expected.over_s.round() as i64);
    if expected.devices > 1 {
        show::confirm(yes, &format!("{} devices will be sent this, over {time}.", expected.devices))?;
    }
    let round: Round = client.post(&path, &new).await?;
    out.one(&round, lines)?;
    if out.json { Ok(()) } else { out.line(format!("How far it has come: `heron round show {}`.", round.id)) }
}

/// What a round would do.
fn told(out: &Out, expected: &RoundReadBack) -> Result<()> {
    if out.json {
        return out.json(expected);
    }
    let RoundReadBack { devices, over_s, airtime_ms, refused } = expected;
    let time = api::elapsed(over_s.round() as i64);
    out.line(format!(
        "{devices} devices would be sent this, over {time}; one downlink takes {airtime_ms:.0} ms in RX2."
    ))?;
    if refused.is_empty() {
        return Ok(());
    }
    out.line(format!("{} cannot be sent it:", refused.len()))?;
    out.list(refused, "", &["DEVICE", "DEVEUI", "WHY"], |d| {
        vec![d.name.clone(), d.dev_eui.to_string(), d.note.clone().unwrap_or_default()]
    })
}

//! Rounds: one downlink for each of many devices.

use std::collections::{HashMap, HashSet};

use api::Page;
use api::device::round::{NewRound, Round, RoundDevice, RoundReadBack, RoundState};
use api::gateway::GatewayState;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use chrono::{DateTime, TimeDelta, Utc};
use domain::Check as _;
use domain::device::change::MOST_DEVICES;
use domain::downlink::Cargo;
use domain::gateway::check::gateway_state;
use domain::round;
use engine::OutboxId;
use lorawan::Eui64;
use store::{DeviceContext, DeviceQuery, PlannedDownlink};
use ulid::Ulid;

use crate::http::app::App;
use crate::http::devices::outbox::{payload_of, within_reach};
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate, page};
use crate::http::json::{Answer, Json};

/// What is worked out of a round before it begins.
struct Plan {
    devices: Vec<PlannedDownlink>,
    over_s: f64,
    airtime_us: u64,
}

/// The devices that are meant.
async fn meant(app: &App, estate: &WholeEstate, wanted: &NewRound) -> Result<Vec<DeviceContext>, Refusal> {
    if !wanted.devices.is_empty() {
        let (mut all, mut known) = (Vec::new(), HashSet::new());
        for text in &wanted.devices {
            let device = within_reach(app, estate, domain::input::eui("devices", text)?)?;
            if known.insert(device.dev_eui) {
                all.push(device);
            }
        }
        return Ok(all);
    }
    let NewRound { fleet, model, tag, .. } = wanted.clone();
    let query = DeviceQuery { fleet, model, tag, ..DeviceQuery::default() };
    let rows = app.store.devices(estate.id, &query, MOST_DEVICES as u32 + 1).await?;
    match rows.len() {
        0 => Err(bad_field("fleet", "these filters", "no device is like that").into()),
        n if n > MOST_DEVICES => {
            Err(bad_field("fleet", "these filters", format!("at most {MOST_DEVICES} devices are sent at once")).into())
        }
        _ => Ok(rows.iter().filter_map(|row| app.directory.device(row.dev_eui)).collect()),
    }
}

/// What each device is sent. Devices with the same decoder are sent the same, so that each decoder encodes once.
async fn downlinks(
    app: &App,
    estate: &WholeEstate,
    devices: &[DeviceContext],
    cargo: &Cargo,
) -> Result<Vec<Result<(u8, Vec<u8>), String>>, Refusal> {
    type Encoder = (Option<String>, Option<String>, Option<String>);
    let mut encoded: HashMap<Encoder, Result<(u8, Vec<u8>), String>> = HashMap::new();
    let mut all = Vec::with_capacity(devices.len());
    for device in devices {
        let encoder = (device.model.clone(), device.hardware.clone(), device.firmware.clone());
        if !encoded.contains_key(&encoder) {
            let made = match payload_of(app, estate, device, cargo.clone()).await {
                Ok((port, payload, _)) => Ok((port, payload)),
                // What concerns the service, and not this device, ends all of it.
                Err(refusal) if refusal.0.status >= 500 => return Err(refusal),
                Err(refusal) => Err(refusal.0.to_string()),
            };
            encoded.insert(encoder.clone(), made);
        }
        all.push(encoded[&encoder].clone());
    }
    Ok(all)
}

async fn plan(app: &App, estate: &WholeEstate, wanted: &NewRound, now: DateTime<Utc>) -> Result<Plan, Refusal> {
    round::check(wanted)?;
    let checked = wanted.downlink.check()?;
    let devices = meant(app, estate, wanted).await?;
    let downlinks = downlinks(app, estate, &devices, &checked.cargo).await?;
    let airtimes = devices.iter().zip(&downlinks).filter_map(|(device, downlink)| {
        downlink.as_ref().ok().map(|(_, payload)| round::airtime_us(device.region, payload.len()))
    });
    let airtimes: Vec<u64> = airtimes.collect();
    let limited = |device: &DeviceContext| device.region.plan().sub_bands.iter().any(|b| b.duty_cycle_ppm.is_some());
    let gateways = app.store.gateways(estate.id, "", u32::MAX).await?;
    let heard = |eui: Eui64| app.presence.known(eui).and_then(|known| known.last_heard);
    let state = |eui: Eui64| gateway_state(now, heard(eui));
    let listening = gateways.iter().filter(|row| state(row.gateway.eui) == GatewayState::Listening).count();
    let usual = round::spread_s(&airtimes, listening, devices.iter().any(limited));
    let over_s = wanted.over_s.unwrap_or(usual);
    let apart_ms = over_s * 1000.0 / airtimes.len().saturating_sub(1).max(1) as f64;
    let mut turn = 0.0;
    let planned = devices.iter().zip(downlinks).map(|(device, downlink)| {
        let due_at = now + TimeDelta::milliseconds((turn * apart_ms) as i64);
        turn += if downlink.is_ok() { 1.0 } else { 0.0 };
        PlannedDownlink { dev_eui: device.dev_eui, due_at, downlink }
    });
    Ok(Plan { devices: planned.collect(), over_s, airtime_us: airtimes.iter().copied().max().unwrap_or(0) })
}

/// Previews a round: how many devices it is for, how long it takes, and which devices cannot be sent it.
#[utoipa::path(post, path = "/estates/{estate}/rounds/check", tag = "outbox",
    extensions(("x-right" = json!("view"))), request_body = NewRound,
    responses((status = 200, body = RoundReadBack), (status = 422, body = Problem)))]
pub(crate) async fn check_round(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<NewRound>,
) -> Answer<RoundReadBack> {
    let Plan { devices, over_s, airtime_us } = plan(&app, &estate, &wanted, Utc::now()).await?;
    let name = |eui: Eui64| app.directory.device(eui).map_or_else(|| eui.to_string(), |device| device.name);
    let refused = devices.iter().filter_map(|device| {
        let note = Some(device.downlink.as_ref().err()?.clone());
        let (dev_eui, due_at) = (device.dev_eui, device.due_at);
        Some(RoundDevice { dev_eui, name: name(dev_eui), due_at, state: None, note, outbox_id: None })
    });
    let refused: Vec<RoundDevice> = refused.collect();
    let sent = u32::try_from(devices.len() - refused.len()).unwrap_or(u32::MAX);
    Ok(Json(RoundReadBack { devices: sent, over_s, airtime_ms: airtime_us as f64 / 1000.0, refused }))
}

/// Begins a round: a downlink is put into the outbox of each device, one after another.
#[utoipa::path(post, path = "/estates/{estate}/rounds", tag = "outbox",
    extensions(("x-right" = json!("send"))), request_body = NewRound,
    responses((status = 202, body = Round), (status = 422, body = Problem)))]
pub(crate) async fn add_round(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<NewRound>,
) -> Result<impl IntoResponse, Refusal> {
    let now = Utc::now();
    let Plan { devices, over_s, .. } = plan(&app, &estate, &wanted, now).await?;
    let refused = devices.iter().filter_map(|device| device.downlink.as_ref().err()).collect::<Vec<_>>();
    if refused.len() == devices.len() {
        let why = refused.first().map_or("no device can be sent it", |why| why.as_str());
        let problem = Problem::new(422, "bad_field", "No device can be sent this").field("downlink");
        return Err(problem.detail(why.to_owned()).into());
    }
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let made = Round {
        id: Ulid::generate().to_string(),
        wanted,
        over_s,
        state: RoundState::Running,
        devices: count(devices.len()),
        planned: count(devices.len() - refused.len()),
        open: 0,
        done: 0,
        failed: count(refused.len()),
        begun_by: estate.person.clone(),
        begun_at: now,
        ended_at: None,
    };
    estate.audit().object(format!("round {}", made.id)).made(&made.wanted);
    app.store.add_round(estate.id, &made, &devices).await?;
    app.rounds.notify_one();
    let at = format!("{}{}", api::BASE, estate.path(format_args!("rounds/{}", made.id)));
    Ok((StatusCode::ACCEPTED, [(header::LOCATION, at)], Json(made)))
}

/// An estate's rounds, newest first.
#[utoipa::path(get, path = "/estates/{estate}/rounds", tag = "outbox",
    extensions(("x-right" = json!("view"))), params(Paging), responses((status = 200, body = Page<Round>)))]
pub(crate) async fn list_rounds(
    State(app): State<App>,
    estate: WholeEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Round>> {
    let limit = paging.limit()?;
    let rows = app.store.rounds(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |round| round.id.clone(), |round| round)))
}

async fn found(app: &App, estate: &WholeEstate, id: &str) -> Result<Round, Refusal> {
    app.store.round(estate.id, id).await?.ok_or_else(|| not_found("round", id))
}

/// A round, with how far it has come.
#[utoipa::path(get, path = "/estates/{estate}/rounds/{round}", tag = "outbox",
    extensions(("x-right" = json!("view"))), params(("round" = String, Path)),
    responses((status = 200, body = Round), (status = 404, body = Problem)))]
pub(crate) async fn show_round(State(app): State<App>, estate: WholeEstate, PathName(id): PathName) -> Answer<Round> {
    found(&app, &estate, &id).await.map(Json)
}

/// The devices of a round by DevEUI, each with its outcome.
#[utoipa::path(get, path = "/estates/{estate}/rounds/{round}/devices", tag = "outbox",
    extensions(("x-right" = json!("view"))), params(("round" = String, Path), Paging),
    responses((status = 200, body = Page<RoundDevice>), (status = 404, body = Problem)))]
pub(crate) async fn list_round_devices(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
    Params(paging): Params<Paging>,
) -> Answer<Page<RoundDevice>> {
    found(&app, &estate, &id).await?;
    let limit = paging.limit()?;
    let after = Some(paging.after()).filter(|after| !after.is_empty());
    let after = after.map(|after| domain::input::eui("after", after)).transpose()?;
    let rows = app.store.round_devices(estate.id, &id, after, limit + 1).await?;
    Ok(Json(page(rows, limit, |device| device.dev_eui.to_string(), |device| device)))
}

/// Stops a round: what still waits is cancelled, what was sent stays sent.
#[utoipa::path(delete, path = "/estates/{estate}/rounds/{round}", tag = "outbox",
    extensions(("x-right" = json!("send"))), params(("round" = String, Path)),
    responses((status = 200, body = Round), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn cancel_round(State(app): State<App>, estate: WholeEstate, PathName(id): PathName) -> Answer<Round> {
    let before = found(&app, &estate, &id).await?;
    let Some(waiting) = app.store.cancel_round(estate.id, &id).await? else {
        let problem = Problem::new(409, "ended", "It has ended already");
        return Err(problem.detail(format!("the round is {}", before.state.name())).into());
    };
    for (dev_eui, id) in waiting {
        app.network.cancel(dev_eui, OutboxId(id.0)).await;
    }
    estate.audit().object(format!("round {id}")).removed(&before.wanted);
    found(&app, &estate, &id).await.map(Json)
}

//! Devices.

use api::Page;
use api::device::{Device, DeviceDetail, DeviceKeys, DeviceState, NewDevice, Session};
use api::link::Agreement;
use api::problem::Problem;
use api::radio::{Class, RadioSettings};
use api::why::DeviceWhy;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use engine::Command;
use lorawan::{Eui64, MacVersion};
use serde::Deserialize;
use store::{DeviceContext, DeviceRow};

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, Paging, Params, PathEui, page};
use super::gateways::band_uses;

pub fn show(row: DeviceRow) -> Device {
    let refused_at = row.refusal.as_ref().map(|r| r.time);
    let state = DeviceState::of(Utc::now(), row.joined_at, row.last_heard, row.rhythm_s, refused_at);
    Device {
        dev_eui: row.dev_eui,
        join_eui: row.join_eui,
        name: row.name,
        fleet: row.fleet,
        model: row.model,
        region: row.region,
        state,
        last_heard: row.last_heard,
        rhythm_s: row.rhythm_s,
        refusal: row.refusal,
        added_at: row.added_at,
    }
}

/// Which devices.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Which {
    /// Only those of this fleet.
    fleet: Option<String>,
}

/// An estate's devices, by name.
#[utoipa::path(get, path = "/estates/{estate}/devices", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), Which, Paging), responses((status = 200, body = Page<Device>)))]
pub async fn list_devices(
    State(app): State<App>,
    estate: InEstate,
    Params(which): Params<Which>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Device>> {
    let limit = paging.limit()?;
    let rows = app.store.devices(estate.id, which.fleet.as_deref(), paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |row| row.name.clone(), show)))
}

/// Registers a device.
#[utoipa::path(post, path = "/estates/{estate}/devices", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path)), request_body = NewDevice,
    responses((status = 200, body = DeviceDetail), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_device(State(app): State<App>, estate: InEstate, Json(new): Json<NewDevice>) -> Answer<DeviceDetail> {
    let device = new.check()?;
    if let Err(field) = app.store.add_device(estate.id, &device).await? {
        let value = if field == "fleet" { Some(&device.fleet) } else { device.model.as_ref() };
        let allowed = format!("there is no such {field} in this estate");
        return Err(api::problem::bad_field(field, value.map_or("", String::as_str), allowed).into());
    }
    let dev_eui = device.dev_eui;
    app.directory.put_device(DeviceContext {
        dev_eui,
        estate_id: estate.id,
        fleet: device.fleet,
        name: device.name,
        model: device.model,
        region: device.region,
        last_heard: None,
        rhythm_s: None,
    });
    put(&app, dev_eui).await?;
    detail(&app, &estate, dev_eui).await.map(Json)
}

/// One device with session, readings and airtime.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem)))]
pub async fn show_device(State(app): State<App>, estate: InEstate, PathEui(eui): PathEui) -> Answer<DeviceDetail> {
    detail(&app, &estate, eui).await.map(Json)
}

/// Tells the engine of a device as it is now registered.
async fn put(app: &App, dev_eui: Eui64) -> Result<(), Refusal> {
    if let Some(config) = app.store.device_config_of(dev_eui).await? {
        app.network.command(Command::PutDevice(Box::new(config))).await;
    }
    Ok(())
}

/// Changes a device's radio and MAC as a whole; what is left out follows the region. What has to be told the
/// device is asked of it with its next downlinks.
#[utoipa::path(put, path = "/estates/{estate}/devices/{eui}/radio", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)), request_body = RadioSettings,
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set_radio(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    Json(radio): Json<RadioSettings>,
) -> Answer<DeviceDetail> {
    let row = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let (before, after) = (row.radio.profile(row.region)?, radio.profile(row.region)?);
    if (before.version == MacVersion::V1_1) != (after.version == MacVersion::V1_1) && !row.personalized {
        let allowed = "1.1 has other root keys than the versions before it: remove the device and register it anew";
        return Err(api::problem::bad_field("radio.mac_version", after.version.name(), allowed).into());
    }
    app.store.set_radio(estate.id, eui, &radio).await?;
    put(&app, eui).await?;
    detail(&app, &estate, eui).await.map(Json)
}

async fn detail(app: &App, estate: &InEstate, dev_eui: Eui64) -> Result<DeviceDetail, Refusal> {
    let row = app.store.device(estate.id, dev_eui).await?.ok_or_else(|| not_found("device", dev_eui))?;
    let status = app.network.device(dev_eui).await;
    let readings = app.store.last_readings(dev_eui).await?;
    let plan = row.region.plan();
    let (radio, personalized) = (row.radio.clone(), row.personalized);
    let registered = radio.class.unwrap_or(Class::A);
    let status = status.as_ref();
    Ok(DeviceDetail {
        device: show(row),
        radio,
        class: status.map_or(registered, |s| s.class.into()),
        personalized,
        session: status.and_then(|s| s.session.as_ref()).map(session),
        next_session: status.and_then(|s| s.next_session.as_ref()).map(session),
        agreement: status.and_then(|s| s.negotiated.as_ref()).map(|n| Agreement::new(plan, n)),
        rate_decision: status.and_then(|s| s.adr.as_ref()).map(Into::into),
        day_airtime_ms: status.map_or(0.0, |s| s.day.airtime_us as f64 / 1000.0),
        day_downlinks: status.map_or(0, |s| s.day_down.frames),
        readings,
        airtime: band_uses(status.map(|s| s.airtime.clone()).unwrap_or_default()),
    })
}

fn session(session: &engine::Session) -> Session {
    let counters = session.counters;
    Session {
        dev_addr: session.dev_addr,
        last_counter_up: counters.up,
        next_counter_down: counters.next_down,
        next_app_counter_down: session.speaks_1_1.then_some(counters.next_app_down),
        joined_at: DateTime::from_timestamp_micros(session.joined_at.0).unwrap_or_default(),
    }
}

/// How many events.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HowMany {
    /// 1 to 500; 50 if not given.
    limit: Option<u32>,
}

/// The kinds of message that a timeline is made of: what is out of the ordinary.
const TIMELINE: [&str; 4] = ["join", "refused", "notice", "downlink"];

/// How a device is doing: what stands out, why, what to do, and what happened to it.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/why", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path), HowMany),
    responses((status = 200, body = DeviceWhy), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn why(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    Params(how_many): Params<HowMany>,
) -> Answer<DeviceWhy> {
    let limit = match how_many.limit.unwrap_or(50) {
        limit @ 1..=500 => limit,
        other => return Err(api::problem::bad_field("limit", &other.to_string(), "1 to 500 are allowed").into()),
    };
    let detail = detail(&app, &estate, eui).await?;
    let failed = app.store.last_failed(eui, OUTBOX_LOOKED_AT).await?;
    let kinds = TIMELINE.map(String::from);
    let timeline = app.store.messages(estate.id, Some(eui), &kinds, None, limit).await?;
    let next = app.store.next_in_outbox(eui).await?;
    let findings = api::why::findings(&detail, failed.as_ref(), next.as_ref().map(|(waiting, item)| (*waiting, item)));
    Ok(Json(DeviceWhy { findings, timeline }))
}

/// Downlinks, newest first, that findings are drawn from.
const OUTBOX_LOOKED_AT: u32 = 200;

/// The device's keys. Each look is written to the log.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/keys", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = DeviceKeys), (status = 404, body = Problem)))]
pub async fn show_keys(State(app): State<App>, estate: InEstate, PathEui(eui): PathEui) -> Answer<DeviceKeys> {
    let activation = app.store.activation_of(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    tracing::info!(by = estate.person, device = %eui, "keys were shown");
    Ok(Json(DeviceKeys::of(eui, &activation)))
}

/// Removes a device with its session and outbox; its messages stay in the history.
#[utoipa::path(delete, path = "/estates/{estate}/devices/{eui}", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove_device(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
) -> Result<StatusCode, Refusal> {
    if app.store.device(estate.id, eui).await?.is_none() {
        return Err(not_found("device", eui));
    }
    // The engine first, so that it writes nothing more for the device afterwards.
    app.network.command(Command::RemoveDevice(eui)).await;
    app.directory.remove_device(eui);
    app.store.remove_device(estate.id, eui).await?;
    Ok(StatusCode::NO_CONTENT)
}

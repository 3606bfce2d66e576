//! Devices.

use api::Page;
use api::device::{Device, DeviceDetail, DeviceKeys, DeviceState, NewDevice, Session};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use engine::{Command, DeviceConfig};
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceContext, DeviceRow};

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, Paging, Params, PathEui, page};
use super::gateways::band_uses;

fn show(row: DeviceRow) -> Device {
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
    let config = DeviceConfig { dev_eui, join_eui: device.join_eui, app_key: device.app_key, region: device.region };
    app.network.command(Command::PutDevice(Box::new(config))).await;
    detail(&app, &estate, dev_eui).await.map(Json)
}

/// One device with session, readings and airtime.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem)))]
pub async fn show_device(State(app): State<App>, estate: InEstate, PathEui(eui): PathEui) -> Answer<DeviceDetail> {
    detail(&app, &estate, eui).await.map(Json)
}

async fn detail(app: &App, estate: &InEstate, dev_eui: Eui64) -> Result<DeviceDetail, Refusal> {
    let row = app.store.device(estate.id, dev_eui).await?.ok_or_else(|| not_found("device", dev_eui))?;
    let status = app.network.device(dev_eui).await;
    let (session, airtime) = status.map(|s| (s.session, s.airtime)).unwrap_or_default();
    let session = session.map(|s| Session {
        dev_addr: s.dev_addr,
        last_counter_up: s.up,
        next_counter_down: s.next_down,
        joined_at: DateTime::from_timestamp_micros(s.joined_at.0).unwrap_or_default(),
    });
    let readings = app.store.last_readings(dev_eui).await?;
    Ok(DeviceDetail { device: show(row), session, readings, airtime: band_uses(airtime) })
}

/// The device's root key. Each look is written to the log.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/keys", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = DeviceKeys), (status = 404, body = Problem)))]
pub async fn show_keys(State(app): State<App>, estate: InEstate, PathEui(eui): PathEui) -> Answer<DeviceKeys> {
    let key = app.store.app_key(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    tracing::info!(by = estate.person, device = %eui, "a root key was shown");
    Ok(Json(DeviceKeys { dev_eui: eui, app_key: key.to_hex() }))
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

//! Changing devices: their settings, fleet, model and profile, and their sessions.

use std::collections::{BTreeMap, HashSet};

use api::device::change::{BulkChange, ChangeEffect, DeviceChange, DeviceEffect};
use api::device::{DeviceDetail, SetCounters};
use api::problem::{Problem, bad_field};
use api::radio::settings::RadioSettings;
use axum::extract::State;
use domain::device::change;
use domain::device::change::{DevicePatch, DeviceSnapshot, MOST_DEVICES};
use domain::input::eui;
use engine::Command;
use lorawan::Eui64;
use serde::Deserialize;
use store::{DeviceRow, EstateId};

use crate::http::app::App;
use crate::http::devices::device::{as_is, detail};
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Params, PathEui, WholeEstate};
use crate::http::json::{Answer, Json};

/// Stores changes and publishes them.
async fn write(app: &App, estate: EstateId, edits: &[(Eui64, DevicePatch)]) -> Result<(), Refusal> {
    app.store.edit_devices(estate, edits).await?;
    for (dev_eui, edit) in edits {
        app.directory.edit_device(*dev_eui, edit);
    }
    let euis: Vec<Eui64> = edits.iter().map(|(dev_eui, _)| *dev_eui).collect();
    retell(app, &euis).await
}

/// Tells the engine the devices' new settings.
pub(crate) async fn retell(app: &App, euis: &[Eui64]) -> Result<(), Refusal> {
    for config in app.store.configs_of(euis).await? {
        app.network.command(Command::PutDevice(Box::new(config))).await;
    }
    Ok(())
}

async fn change(app: &App, estate: &WholeEstate, dev_eui: Eui64, change: &DeviceChange) -> Answer<DeviceDetail> {
    let row = app.store.device(estate.id, dev_eui).await?.ok_or_else(|| not_found("device", dev_eui))?;
    let before = as_is(row);
    estate.still(&before)?;
    let other = change.fleet.as_ref().filter(|fleet| **fleet != before.fleet);
    if let Some(fleet) = other.filter(|fleet| !estate.context.visibility.reaches_fleet(fleet)) {
        return Err(not_found("fleet", fleet));
    }
    let (edit, _) = change::settle(change, &before, &app.store.defaults(estate.id).await?)?;
    write(app, estate.id, &[(dev_eui, edit)]).await?;
    if let Some(after) = app.store.device(estate.id, dev_eui).await? {
        estate.audit().object(format!("device {} ({dev_eui})", before.name)).changed(&before, &as_is(after));
    }
    detail(app, estate, dev_eui).await.map(Json)
}

/// Changes the given fields of a device; all others stay.
#[utoipa::path(patch, path = "/estates/{estate}/devices/{eui}", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)), request_body = DeviceChange,
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_device(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(wanted): Json<DeviceChange>,
) -> Answer<DeviceDetail> {
    change(&app, &estate, eui, &wanted).await
}

/// Replaces a device's own radio and MAC settings; what is left out follows its profile, its model, the region.
/// Settings that the device has to know are sent with its next downlinks.
#[utoipa::path(put, path = "/estates/{estate}/devices/{eui}/radio", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)), request_body = RadioSettings,
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_radio(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(radio): Json<RadioSettings>,
) -> Answer<DeviceDetail> {
    change(&app, &estate, eui, &DeviceChange { radio: Some(radio), ..DeviceChange::default() }).await
}

/// Makes the same change to many devices, to all of them or none; or previews it.
#[utoipa::path(post, path = "/estates/{estate}/devices/change", tag = "devices",
    extensions(("x-right" = json!("devices"))), request_body = BulkChange,
    responses((status = 200, body = ChangeEffect), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change_devices(
    State(app): State<App>,
    estate: WholeEstate,
    Json(bulk): Json<BulkChange>,
) -> Answer<ChangeEffect> {
    if bulk.devices.len() > MOST_DEVICES {
        let given = format!("{} devices", bulk.devices.len());
        return Err(bad_field("devices", &given, format!("at most {MOST_DEVICES} are allowed")).into());
    }
    if bulk.change.name.is_some() && bulk.devices.len() > 1 {
        let why = "devices have a name each: change it one by one";
        return Err(bad_field("change.name", "one name for many", why).into());
    }
    let mut euis = bulk.devices.iter().map(|text| eui("devices", text)).collect::<Result<Vec<_>, _>>()?;
    euis.sort_unstable_by_key(|eui| eui.0);
    euis.dedup();
    let rows = app.store.devices_of(estate.id, &euis).await?;
    let there: HashSet<Eui64> = rows.iter().map(|row| row.dev_eui).collect();
    if let Some(missing) = euis.iter().find(|eui| !there.contains(eui)) {
        return Err(not_found("device", missing));
    }
    let defaults = app.store.defaults(estate.id).await?;
    let (effect, edits) = settle(rows, |now| change::settle(&bulk.change, now, &defaults))?;
    if bulk.preview {
        estate.audit().note("looked at only");
    } else {
        let edited: Vec<Eui64> = edits.iter().map(|(dev_eui, _)| *dev_eui).collect();
        let before = told(app.store.devices_of(estate.id, &edited).await?);
        write(&app, estate.id, &edits).await?;
        let after = told(app.store.devices_of(estate.id, &edited).await?);
        let many = if edited.len() == 1 { "device" } else { "devices" };
        estate.audit().object(format!("{} {many}", edited.len())).changed(&before, &after);
    }
    Ok(Json(ChangeEffect { done: !bulk.preview, ..effect }))
}

/// Devices in the audit log: by EUI, since the name may change.
fn told(rows: Vec<DeviceRow>) -> BTreeMap<String, DeviceSnapshot> {
    rows.into_iter().map(|row| (row.dev_eui.to_string(), as_is(row))).collect()
}

/// The result of a change for each device; a device that refuses it is named.
fn settle(
    rows: Vec<DeviceRow>,
    of: impl Fn(&DeviceSnapshot) -> Result<(DevicePatch, Vec<api::radio::profile::SettingChange>), Problem>,
) -> Result<(ChangeEffect, Vec<(Eui64, DevicePatch)>), Problem> {
    let mut effect = ChangeEffect { devices: Vec::new(), untouched: 0, done: false };
    let mut edits = Vec::new();
    for now in rows.into_iter().map(as_is) {
        let (edit, changes) = of(&now).map_err(|problem| of_device(problem, &now.name))?;
        if changes.is_empty() {
            effect.untouched += 1;
            continue;
        }
        edits.push((now.dev_eui, edit));
        effect.devices.push(DeviceEffect { dev_eui: now.dev_eui, name: now.name, changes });
    }
    Ok((effect, edits))
}

/// A problem with one of many devices.
pub(crate) fn of_device(mut problem: Problem, name: &str) -> Problem {
    let detail = problem.detail.take().unwrap_or_default();
    problem.detail(format!("{detail}; so it would be with {name}"))
}

/// What else is forgotten.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Forgetting {
    /// Accept used DevNonces again, for a device that has lost its count. Recorded joins can then be replayed.
    #[serde(default)]
    nonces: bool,
}

/// Ends a device's sessions, so that it has to join again; an ABP device starts a new session, with its
/// counters at zero.
#[utoipa::path(delete, path = "/estates/{estate}/devices/{eui}/session", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path), Forgetting),
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem)))]
pub(crate) async fn forget_session(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(dev_eui): PathEui,
    Params(forgetting): Params<Forgetting>,
) -> Answer<DeviceDetail> {
    let row = app.store.device(estate.id, dev_eui).await?.ok_or_else(|| not_found("device", dev_eui))?;
    let note = if forgetting.nonces { "session and DevNonces forgotten" } else { "session ended" };
    estate.audit().object(format!("device {} ({dev_eui})", row.name)).note(note);
    app.network.command(Command::Forget { dev_eui, nonces: forgetting.nonces }).await;
    detail(&app, &estate, dev_eui).await.map(Json)
}

/// Sets the counters of a device's session, for example after it was moved here from another network.
#[utoipa::path(patch, path = "/estates/{estate}/devices/{eui}/counters", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(("eui" = String, Path)), request_body = SetCounters,
    responses((status = 200, body = DeviceDetail), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn set_counters(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(dev_eui): PathEui,
    Json(counters): Json<SetCounters>,
) -> Answer<DeviceDetail> {
    let before = detail(&app, &estate, dev_eui).await?;
    if before.session.is_none() {
        let problem = Problem::new(409, "no_session", "It has no session, so there are no counters to set");
        return Err(problem.detail(format!("{} has to join first", before.device.name)).into());
    }
    estate.audit().object(format!("device {} ({dev_eui})", before.device.name)).made(&counters);
    let SetCounters { last_counter_up, next_counter_down } = counters;
    let up = last_counter_up.map(Some);
    app.network.command(Command::SetCounters { dev_eui, up, next_down: next_counter_down }).await;
    detail(&app, &estate, dev_eui).await.map(Json)
}

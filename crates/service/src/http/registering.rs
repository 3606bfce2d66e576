//! Registering devices: one by one, and many from a file.

use std::collections::HashSet;

use api::device_import::{self, DeviceImportOutcome, ExportRow, ImportOptions};
use api::gateway_import::{Fate, ImportOutcome};
use api::problem::{Problem, bad_field};
use api::registration::{self, CheckedDevice, GENERATE, NewDevice, Premises, ReadBack, Registered, Surroundings};
use api::table;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use lorawan::{DevAddr, Eui64};
use serde::Deserialize;
use store::{DeviceContext, DeviceQuery, EstateId};

use super::App;
use super::changing::retell;
use super::devices::detail;
use super::error::{Answer, Refusal};
use super::extract::{InEstate, Json, Params};

/// Reads what people gave, in an estate. Addresses in use are looked up only if one is to be made up.
async fn surrounded<T>(
    app: &App,
    estate: EstateId,
    makes_up: bool,
    read: impl FnOnce(&mut Surroundings<'_>) -> T,
) -> Result<T, Refusal> {
    let premises: Premises = app.store.premises(estate).await?;
    let addresses: HashSet<DevAddr> = if makes_up { app.store.addresses().await? } else { HashSet::new() };
    Ok(read(&mut Surroundings {
        premises: &premises,
        net_id: app.net_id,
        taken: &|addr| addresses.contains(&addr),
        random: &mut rand::random,
    }))
}

async fn checked(app: &App, estate: EstateId, new: &NewDevice) -> Result<CheckedDevice, Refusal> {
    let makes_up = new.personal.as_ref().is_some_and(|personal| personal.dev_addr.trim() == GENERATE);
    Ok(surrounded(app, estate, makes_up, |estate| new.check(estate)).await??)
}

/// Names of devices of the same estate; others' are none of the caller's.
fn known(app: &App, estate: EstateId) -> impl Fn(Eui64) -> Option<String> {
    let directory = app.directory.clone();
    move |eui| directory.device(eui).filter(|device| device.estate_id == estate).map(|device| device.name)
}

/// Says how a device would be understood, and what gives pause, without registering it.
#[utoipa::path(post, path = "/estates/{estate}/devices/check", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path)), request_body = NewDevice,
    responses((status = 200, body = ReadBack), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn check_device(State(app): State<App>, estate: InEstate, Json(new): Json<NewDevice>) -> Answer<ReadBack> {
    let device = checked(&app, estate.id, &new).await?;
    if app.directory.device(device.dev_eui).is_some() {
        return Err(bad_field("dev_eui", &new.dev_eui, "it is registered already").into());
    }
    let warnings = registration::warnings(&device, true, &known(&app, estate.id));
    Ok(Json(ReadBack::of(&device, warnings)?))
}

/// Registers a device.
#[utoipa::path(post, path = "/estates/{estate}/devices", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path)), request_body = NewDevice,
    responses((status = 200, body = Registered), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_device(State(app): State<App>, estate: InEstate, Json(new): Json<NewDevice>) -> Answer<Registered> {
    let device = checked(&app, estate.id, &new).await?;
    let warnings = registration::warnings(&device, true, &known(&app, estate.id));
    app.store.add_devices(estate.id, &[&device]).await?;
    make_known(&app, estate.id, &[&device]).await?;
    Ok(Json(Registered { device: detail(&app, &estate, device.dev_eui).await?, warnings }))
}

/// Makes devices that have been written down known to the engine and to messages.
async fn make_known(app: &App, estate_id: EstateId, devices: &[&CheckedDevice]) -> Result<(), Refusal> {
    for device in devices {
        app.directory.put_device(DeviceContext {
            dev_eui: device.dev_eui,
            estate_id,
            fleet: device.fleet.clone(),
            name: device.name.clone(),
            model: device.model.clone(),
            hardware: device.hardware.clone(),
            firmware: device.firmware.clone(),
            region: device.region,
            last_heard: None,
            rhythm_s: None,
        });
    }
    let euis: Vec<Eui64> = devices.iter().map(|device| device.dev_eui).collect();
    retell(app, &euis).await
}

/// Registers devices from a CSV file, or says what would become of each of its rows.
#[utoipa::path(post, path = "/estates/{estate}/devices/import", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ImportOptions), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = DeviceImportOutcome), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub async fn import_devices(
    State(app): State<App>,
    estate: InEstate,
    Params(options): Params<ImportOptions>,
    body: Bytes,
) -> Answer<DeviceImportOutcome> {
    let file = table::text_of(&body)?;
    let makes_up = file.text.contains(GENERATE);
    let mut rows = surrounded(&app, estate.id, makes_up, |estate| options.read(&file.text, estate)).await??;
    let names = app.store.device_names(estate.id).await?;
    let known = known(&app, estate.id);
    let mut notes: Vec<String> = file.assumed.into_iter().collect();
    for row in &mut rows {
        let Ok(device) = &row.device else { continue };
        let taken = if app.directory.device(device.dev_eui).is_some() {
            bad_field("dev_eui", &device.dev_eui.to_string(), "it is registered already")
        } else if names.contains(&device.name) {
            bad_field("name", &device.name, "a device has that name already")
        } else {
            let warnings = registration::warnings(device, false, &known);
            notes.extend(warnings.into_iter().map(|warning| format!("Line {}: {warning}", row.line())));
            continue;
        };
        row.device = Err(taken);
    }
    let bad = rows.iter().filter(|row| row.device.is_err()).count();
    let write = !options.preview && (bad == 0 || options.skip_bad);
    let mut registered = 0;
    if write {
        let good: Vec<&CheckedDevice> = rows.iter().filter_map(|row| row.device.as_ref().ok()).collect();
        app.store.add_devices(estate.id, &good).await?;
        make_known(&app, estate.id, &good).await?;
        registered = good.len();
    }
    let fate = match (write, options.preview) {
        (true, _) => Fate::Registered,
        (false, true) => Fate::Ready,
        (false, false) => Fate::Held,
    };
    let rows = rows.into_iter().map(|row| row.shown(fate)).collect();
    Ok(Json(DeviceImportOutcome { outcome: ImportOutcome { rows, registered, bad }, notes }))
}

/// What an export holds.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExportOptions {
    /// Only devices of this fleet.
    fleet: Option<String>,
    /// Their keys as well. This is written to the log.
    #[serde(default)]
    keys: bool,
}

/// Devices as a CSV file of the columns that can be imported.
#[utoipa::path(get, path = "/estates/{estate}/devices/export", tag = "devices", security(("token" = [])),
    params(("estate" = String, Path), ExportOptions),
    responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn export_devices(
    State(app): State<App>,
    estate: InEstate,
    Params(options): Params<ExportOptions>,
) -> Result<impl IntoResponse, Refusal> {
    if options.keys {
        tracing::info!(by = estate.person, fleet = options.fleet, "keys were exported");
    }
    let which = DeviceQuery { fleet: options.fleet, ..DeviceQuery::default() };
    let rows = app.store.devices(estate.id, &which, u32::MAX).await?;
    let mut keys = if options.keys { app.store.keys_of_estate(estate.id).await? } else { Default::default() };
    let rows = rows.into_iter().map(|row| ExportRow {
        keys: keys.remove(&row.dev_eui),
        dev_eui: row.dev_eui,
        join_eui: row.join_eui,
        name: row.name,
        fleet: row.fleet,
        model: row.model,
        profile: row.profile,
        region: row.region,
        radio: row.radio,
        hardware: row.hardware,
        firmware: row.firmware,
        tags: row.tags,
        description: row.description,
    });
    let text = device_import::export(rows);
    let head = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"devices.csv\""),
        (header::CACHE_CONTROL, "no-store"),
    ];
    Ok((head, text))
}

//! Registering devices: one by one, and many from a file.

use std::collections::{HashMap, HashSet};
use std::convert::Infallible;

use api::device::import::{DeviceImportOutcome, ImportOptions, ImportProgress};
use api::device::read_back::{ReadBack, Registered};
use api::device::register::NewDevice;
use api::gateway::import::{Fate, ImportOutcome};
use api::people::rights::Right;
use api::problem::{Problem, bad_field};
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::sse::{Event, Sse};
use axum::response::{IntoResponse, Response};
use domain::csv;
use domain::device::import::ExportRow;
use domain::device::read_back::read_back;
use domain::device::register::{CheckedDevice, EstateDefaults, GENERATE, RegistrationContext, RunningSession};
use domain::device::{import, read_back, register};
use domain::grants::Visibility;
use engine::Command;
use futures::StreamExt as _;
use lorawan::{DevAddr, Eui64, NetId};
use mime_guess::mime::TEXT_EVENT_STREAM;
use serde::{Deserialize, Serialize};
use store::{AccessFilter, DeviceContext, EstateId};
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;

use crate::clock;
use crate::http::app::App;
use crate::http::auth::context::{beyond, missing};
use crate::http::devices::change::retell;
use crate::http::devices::device::{Which, as_is, detail};
use crate::http::error::Refusal;
use crate::http::extract::{Params, VisibleEstate, WholeEstate};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::models::scripts::blocking;

/// What exists already, in the estate and in the installation.
struct EstateContext {
    defaults: EstateDefaults,
    /// Addresses in use; they are looked up only if one is to be made up.
    addresses: HashSet<DevAddr>,
    net_id: NetId,
    preview: bool,
}

impl EstateContext {
    async fn look(app: &App, estate: EstateId, makes_up: bool) -> Result<Self, Refusal> {
        let defaults = app.store.defaults(estate).await?;
        let addresses = if makes_up { app.store.addresses().await? } else { HashSet::new() };
        Ok(Self { defaults, addresses, net_id: app.net_id, preview: false })
    }

    /// Reads a request in this context.
    fn read<T>(&self, read: impl FnOnce(&mut RegistrationContext<'_>) -> T) -> T {
        read(&mut RegistrationContext {
            defaults: &self.defaults,
            net_id: self.net_id,
            taken: &|addr| self.addresses.contains(&addr),
            preview: self.preview,
            random: &mut rand::random,
        })
    }
}

async fn checked(app: &App, estate: EstateId, new: &NewDevice, preview: bool) -> Result<CheckedDevice, Refusal> {
    let makes_up = new.personal.as_ref().is_some_and(|personal| personal.dev_addr.trim() == GENERATE);
    let around = EstateContext { preview, ..EstateContext::look(app, estate, makes_up).await? };
    Ok(around.read(|around| register::check(new, around))?)
}

/// Names of devices of the same estate; others' are none of the caller's.
fn known(app: &App, estate: EstateId) -> impl Fn(Eui64) -> Option<String> {
    let directory = app.directory.clone();
    move |eui| directory.device(eui).filter(|device| device.estate_id == estate).map(|device| device.name)
}

/// Previews a registration: how the device would be understood, with warnings. Nothing is registered. Keys need not be given.
#[utoipa::path(post, path = "/estates/{estate}/devices/check", tag = "devices",
    extensions(("x-right" = json!("view"))), request_body = NewDevice,
    responses((status = 200, body = ReadBack), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn check_device(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewDevice>,
) -> Answer<ReadBack> {
    let device = checked(&app, estate.id, &new, true).await?;
    if app.directory.device(device.dev_eui).is_some() {
        return Err(bad_field("dev_eui", &new.dev_eui, "it is registered already").into());
    }
    let warnings = read_back::warnings(&device, true, &known(&app, estate.id));
    Ok(Json(read_back(&device, warnings)?))
}

/// Registers a device.
#[utoipa::path(post, path = "/estates/{estate}/devices", tag = "devices",
    extensions(("x-right" = json!("devices"))), request_body = NewDevice,
    responses((status = 201, body = Registered), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_device(
    State(app): State<App>,
    VisibleEstate { estate, .. }: VisibleEstate,
    Json(new): Json<NewDevice>,
) -> Made<Registered> {
    let device = checked(&app, estate.id, &new, false).await?;
    if !estate.context.visibility.reaches_fleet(&device.fleet) {
        return Err(beyond(&estate.context.visibility));
    }
    let warnings = read_back::warnings(&device, true, &known(&app, estate.id));
    app.store.add_devices(estate.id, &[&device]).await?;
    make_known(&app, estate.id, &[&device]).await?;
    if let Some(row) = app.store.device(estate.id, device.dev_eui).await? {
        estate.audit().object(format!("device {} ({})", device.name, device.dev_eui)).made(&as_is(row));
    }
    let at = estate.path(format_args!("devices/{}", device.dev_eui));
    Ok(Created { at, made: Registered { device: detail(&app, &estate, device.dev_eui).await?, warnings } })
}

/// Tells the engine and the directory about stored devices.
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
            usual_interval_s: None,
        });
    }
    let euis: Vec<Eui64> = devices.iter().map(|device| device.dev_eui).collect();
    let running: HashMap<Eui64, &RunningSession> =
        devices.iter().filter_map(|device| Some((device.dev_eui, device.running.as_ref()?))).collect();
    if running.is_empty() {
        return retell(app, &euis).await;
    }
    for config in app.store.configs_of(&euis).await? {
        let command = match running.get(&config.dev_eui) {
            Some(running) => Command::RestoreDevice(Box::new(running.record(config, clock::now()))),
            None => Command::PutDevice(Box::new(config)),
        };
        app.network.command(command).await;
    }
    Ok(())
}

/// Registers devices from a CSV file, or previews the result for each row.
///
/// A caller that accepts `text/event-stream` gets the progress: events `progress`, then one `outcome` or `problem`.
#[utoipa::path(post, path = "/estates/{estate}/devices/import", tag = "devices",
    extensions(("x-right" = json!("devices"))),
    params(ImportOptions), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, content((DeviceImportOutcome = "application/json"), (ImportProgress = "text/event-stream"))),
        (status = 413, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn import_devices(
    State(app): State<App>,
    estate: WholeEstate,
    Params(options): Params<ImportOptions>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response, Refusal> {
    let accepted = headers.get(header::ACCEPT).and_then(|accepted| accepted.to_str().ok()).unwrap_or_default();
    if !accepted.contains(TEXT_EVENT_STREAM.as_ref()) {
        let outcome = import(&app, estate.id, options, body, &|_| ()).await?;
        estate.audit().note(format!("{} devices registered from a file", outcome.outcome.registered));
        return Ok(Json(outcome).into_response());
    }
    let (told, events) = mpsc::channel(64);
    // In its own task: a caller that stops listening does not stop it.
    tokio::spawn(async move {
        // Some of it may be missed by a slow listener; the end is not.
        let progress = |progress: ImportProgress| drop(told.try_send(event("progress", &progress)));
        let last = match import(&app, estate.id, options, body, &progress).await {
            Ok(outcome) => event("outcome", &outcome),
            Err(Refusal(problem)) => event("problem", &problem),
        };
        let _ = told.send(last).await;
    });
    Ok(Sse::new(ReceiverStream::new(events).map(Ok::<_, Infallible>)).into_response())
}

fn event(name: &str, data: &impl Serialize) -> Event {
    Event::default().event(name).data(serde_json::to_string(data).unwrap_or_default())
}

async fn import(
    app: &App,
    estate: EstateId,
    options: ImportOptions,
    body: Bytes,
    progress: &(dyn Fn(ImportProgress) + Sync),
) -> Result<DeviceImportOutcome, Refusal> {
    let file = blocking(move || csv::text_of(&body)).await??;
    let around = EstateContext::look(app, estate, file.text.contains(GENERATE)).await?;
    let (preview, skip_bad) = (options.preview, options.skip_bad);
    let mut rows = blocking(move || around.read(|around| import::read(&options, &file.text, around))).await??;
    let names = app.store.device_names(estate).await?;
    let known = known(app, estate);
    let mut notes: Vec<String> = file.assumed.into_iter().collect();
    for row in &mut rows {
        let Ok(device) = &row.device else { continue };
        let taken = if app.directory.device(device.dev_eui).is_some() {
            bad_field("dev_eui", &device.dev_eui.to_string(), "it is registered already")
        } else if names.contains(&device.name) {
            bad_field("name", &device.name, "a device has that name already")
        } else {
            let warnings = read_back::warnings(device, false, &known);
            notes.extend(warnings.into_iter().map(|warning| format!("Line {}: {warning}", row.line())));
            continue;
        };
        row.device = Err(taken);
    }
    let bad = rows.iter().filter(|row| row.device.is_err()).count();
    let write = !preview && (bad == 0 || skip_bad);
    let mut registered = 0;
    if write {
        let good: Vec<&CheckedDevice> = rows.iter().filter_map(|row| row.device.as_ref().ok()).collect();
        let of = good.len();
        app.store.add_devices_telling(estate, &good, &|done| progress(ImportProgress { done, of })).await?;
        make_known(app, estate, &good).await?;
        registered = of;
    }
    let fate = match (write, preview) {
        (true, _) => Fate::Registered,
        (false, true) => Fate::Ready,
        (false, false) => Fate::Held,
    };
    let rows = rows.into_iter().map(|row| row.shown(fate)).collect();
    Ok(DeviceImportOutcome { outcome: ImportOutcome { rows, registered, bad }, notes })
}

/// What an export contains.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExportOptions {
    /// With keys, if the caller may see them. Recorded in the audit log.
    #[serde(default)]
    keys: bool,
}

fn keys_within(estate: &WholeEstate) -> Result<Option<AccessFilter>, Refusal> {
    match estate.access.grants.visibility(Right::Keys) {
        Visibility::Nothing => Err(missing(Right::Keys, &estate.access, &estate.context.who)),
        visibility => Ok(visibility.part()),
    }
}

/// Devices as a CSV file of the columns that can be imported.
#[utoipa::path(get, path = "/estates/{estate}/devices/export", tag = "devices",
    extensions(("x-right" = json!("view"))),
    params(Which, ExportOptions),
    responses((status = 200, body = String, content_type = "text/csv")))]
pub(crate) async fn export_devices(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(which): Params<Which>,
    Params(options): Params<ExportOptions>,
) -> Result<impl IntoResponse, Refusal> {
    // A caller may see more devices than keys.
    let within = if options.keys { keys_within(&estate)? } else { within };
    let which = which.checked(&app, (&estate, within), "").await?;
    let rows = app.store.devices(estate.id, &which, u32::MAX).await?;
    if options.keys {
        let of = which.fleet.map_or_else(String::new, |fleet| format!(" of fleet {fleet}"));
        estate.audit().object(format!("keys of {} devices{of}, exported", rows.len())).secret();
    }
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
        place: row.place,
        attributes: row.attributes,
        tags: row.tags,
        description: row.description,
    });
    let text = import::export(rows);
    let head = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"devices.csv\""),
        (header::CACHE_CONTROL, "no-store"),
    ];
    Ok((head, text))
}

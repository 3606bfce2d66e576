//! Readings: the last of each, and charts.

use std::collections::BTreeSet;

use api::Page;
use api::message::DeviceRef;
use api::problem::{Problem, bad_field};
use api::reading::ReadingKind;
use api::reading::chart::{Chart, ChartLine, Day, DeviceReading, WantedChart};
use axum::extract::State;
use axum::response::Response;
use chrono::{DateTime, TimeDelta, Utc};
use domain::reading::chart::{freshness, span};
use domain::reading::{chart, rule};
use futures::StreamExt as _;
use serde::Deserialize;
use store::{AccessFilter, DeviceQuery, ReadingRow, SeriesId};

use crate::history::export::{Column, Form, export};
use crate::history::summaries::{line, seen_of};
use crate::http::app::App;
use crate::http::devices::outbox::within_reach;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, VisibleEstate, WholeEstate};
use crate::http::file::written_file;
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;

/// Lines read at once.
const AT_ONCE: usize = 4;

/// A device's latest readings, each with its age, its usual interval, and what looks wrong about it.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/readings", tag = "readings",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), Choice, Paging),
    responses((status = 200, body = Page<DeviceReading>), (status = 404, body = Problem)))]
pub(crate) async fn list_readings(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<DeviceReading>> {
    let device = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let whose = DeviceRef { eui, name: device.name, model: device.model };
    let rows = app.store.readings_of(eui).await?;
    let now = Utc::now();
    let ids: Vec<SeriesId> = rows.iter().filter_map(|row| row.series).collect();
    let days = app.store.since(&ids, (now - TimeDelta::days(1)).timestamp_millis()).await?;
    let told = rows.into_iter().map(|row| {
        let rule = app.directory.rule(estate.id, &whose, &row.name).unwrap_or_default();
        let kind = rule.kind.unwrap_or_else(|| rule::guessed_kind(&row.name, &row.reading.value));
        // States and texts have no mean.
        let day = row.series.and_then(|id| days.get(&id)).filter(|_| kind != ReadingKind::State);
        let doubt = day.and_then(|day| {
            domain::diagnosis::plausibility::doubt(
                &row.name,
                row.reading.unit.as_deref(),
                (rule.min, rule.max),
                seen_of(day),
            )
        });
        DeviceReading {
            freshness: freshness(now - row.time, row.interval_s, device.usual_interval_s),
            day: day.map(|day| Day {
                least: day.least,
                mean: day.sum / day.count.max(1) as f64,
                most: day.most,
                count: day.count,
            }),
            name: row.name,
            reading: row.reading,
            time: row.time,
            kind,
            interval_s: row.interval_s,
            doubt,
        }
    });
    Ok(Json(choice.page_of(told.collect(), &paging, |one: &DeviceReading| one.name.clone())?))
}

/// Readings of devices over time: single values if there are few, else means with minimum and maximum.
#[utoipa::path(post, path = "/estates/{estate}/chart", tag = "readings",
    extensions(("x-right" = json!("view"))), request_body = WantedChart,
    responses((status = 200, body = Chart), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn chart(
    State(app): State<App>,
    VisibleEstate { estate, .. }: VisibleEstate,
    Json(wanted): Json<WantedChart>,
) -> Answer<Chart> {
    let (from, until, points) = chart::check(&wanted, Utc::now())?;
    let mut asked = Vec::with_capacity(wanted.lines.len());
    for line in &wanted.lines {
        let device = within_reach(&app, &estate, line.device)?;
        let rows = app.store.readings_of(line.device).await?;
        let row = rows.into_iter().find(|row| row.name == line.reading);
        let row = row.ok_or_else(|| not_found("reading", format!("{} of {}", line.reading, device.name)))?;
        asked.push((DeviceRef { eui: line.device, name: device.name, model: device.model }, row));
    }
    let span = (from.timestamp_millis(), until.timestamp_millis());
    let lines = asked.into_iter().map(|(device, row)| read(&app, estate.id, device, row, span, points));
    let lines: Vec<Result<ChartLine, Refusal>> = futures::stream::iter(lines).buffered(AT_ONCE).collect().await;
    Ok(Json(Chart { from, until, lines: lines.into_iter().collect::<Result<_, _>>()? }))
}

/// Filters, period and format.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Export {
    /// `csv` (the default), `jsonl` (an object a line) or `parquet`.
    form: Option<String>,
    /// From when on (RFC 3339); thirty days ago if not given.
    since: Option<DateTime<Utc>>,
    /// Until when; now if not given.
    until: Option<DateTime<Utc>>,
    /// Only of this device.
    device: Option<String>,
    /// Only of devices of this fleet.
    fleet: Option<String>,
    /// Only of devices of this model.
    model: Option<String>,
    /// Only readings of these names, separated by commas.
    reading: Option<String>,
}

/// All values of readings, as a file: by device, then by reading, oldest first.
#[utoipa::path(get, path = "/estates/{estate}/readings/export", tag = "readings",
    extensions(("x-right" = json!("view"))),
    params(Export),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 422, body = Problem)))]
pub(crate) async fn export_readings(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(wanted): Params<Export>,
) -> Result<Response, Refusal> {
    let form = wanted.form.as_deref().unwrap_or("csv");
    let Some(form) = Form::ALL.into_iter().find(|known| known.name() == form) else {
        return Err(bad_field("form", form, "csv, jsonl and parquet are allowed").into());
    };
    let now = Utc::now();
    let (from, until) = span(wanted.since.unwrap_or(now - TimeDelta::days(30)), wanted.until.unwrap_or(now))?;
    let columns = columns(&app, &estate, within, &wanted).await?;
    let (store, name) = (app.store.clone(), format!("readings.{}", form.name()));
    let span = (from.timestamp_millis(), until.timestamp_millis());
    let write = async move |parts| export(&store, form, &columns, span, &parts).await;
    written_file((&app, estate.context.who.person.id), (&name, form.content_type()), write).await
}

async fn columns(
    app: &App,
    estate: &WholeEstate,
    within: Option<AccessFilter>,
    wanted: &Export,
) -> Result<Vec<Column>, Refusal> {
    let (fleet, model) = (wanted.fleet.clone(), wanted.model.clone());
    let known = app.store.defaults(estate.id).await?;
    if let Some(fleet) = fleet.as_deref().filter(|fleet| !known.fleets.contains_key(*fleet)) {
        return Err(not_found("fleet", fleet));
    }
    if let Some(model) = model.as_deref().filter(|model| !known.models.contains_key(*model)) {
        return Err(not_found("model", model));
    }
    let which = DeviceQuery { fleet, model, within, ..DeviceQuery::default() };
    let mut devices = app.store.devices(estate.id, &which, u32::MAX).await?;
    if let Some(text) = wanted.device.as_deref() {
        let eui = domain::input::eui("device", text)?;
        devices.retain(|device| device.dev_eui == eui);
        if devices.is_empty() {
            return Err(not_found("device", eui));
        }
    }
    let names: Option<Vec<&str>> = wanted.reading.as_deref().map(|list| list.split(',').map(str::trim).collect());
    let mut missing: BTreeSet<&str> = names.iter().flatten().copied().collect();
    let mut columns = Vec::new();
    for device in devices {
        let whose = DeviceRef { eui: device.dev_eui, name: device.name.clone(), model: device.model.clone() };
        for row in app.store.readings_of(device.dev_eui).await? {
            let named = names.as_ref().is_none_or(|names| names.contains(&row.name.as_str()));
            if named {
                missing.remove(row.name.as_str());
            }
            let Some(series) = row.series.filter(|_| named) else { continue };
            columns.push(Column {
                series,
                words: app.directory.rule(estate.id, &whose, &row.name).unwrap_or_default().words,
                device: device.name.clone(),
                dev_eui: device.dev_eui.to_string(),
                reading: row.name,
                unit: row.reading.unit,
            });
        }
    }
    match missing.first() {
        Some(name) => {
            let allowed = "none of these devices has a reading of that name";
            Err(bad_field("reading", name, allowed).into())
        }
        None => Ok(columns),
    }
}

async fn read(
    app: &App,
    estate: store::EstateId,
    device: DeviceRef,
    row: ReadingRow,
    span: (i64, i64),
    points: u32,
) -> Result<ChartLine, Refusal> {
    let rule = app.directory.rule(estate, &device, &row.name).unwrap_or_default();
    let mut found = match row.series {
        Some(series) => line(&app.store, series, span, points, row.interval_s).await?,
        None => crate::history::summaries::Line { points: vec![], step_ms: None, cut: false },
    };
    // A mean of several values has no word.
    let single = found.points.iter_mut().filter(|point| point.least.is_none());
    for point in single {
        if let Some(word) = rule::word_of(&rule.words, point.value, point.word.as_deref()) {
            point.word = Some(word);
        }
    }
    Ok(ChartLine {
        kind: rule.kind.unwrap_or_else(|| rule::guessed_kind(&row.name, &row.reading.value)),
        device,
        reading: row.name,
        unit: row.reading.unit,
        words: rule.words,
        step_s: found.step_ms.and_then(|ms| u32::try_from(ms / 1000).ok()),
        points: found.points,
        cut: found.cut,
    })
}

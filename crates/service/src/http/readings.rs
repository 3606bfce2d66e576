//! Readings: the last of each, and charts.

use api::history::{Chart, ChartLine, Day, DeviceReading, Standing, WantedChart};
use api::message::DeviceRef;
use api::problem::Problem;
use api::reading::ReadingKind;
use axum::extract::State;
use chrono::{TimeDelta, Utc};
use futures::StreamExt as _;
use lorawan::Eui64;
use store::{ReadingRow, SeriesId};

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, PathEui};
use crate::directory::Directory;
use crate::history::{line, seen_of};

/// Lines read at once.
const AT_ONCE: usize = 4;

/// A device's readings as they are now: each with its age, how often it comes, and what looks wrong about it.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/readings", tag = "readings", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)),
    responses((status = 200, body = Vec<DeviceReading>), (status = 404, body = Problem)))]
pub async fn list_readings(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
) -> Answer<Vec<DeviceReading>> {
    let device = app.store.device(estate.id, eui).await?.ok_or_else(|| not_found("device", eui))?;
    let rows = app.store.readings_of(eui).await?;
    let now = Utc::now();
    let ids: Vec<SeriesId> = rows.iter().filter_map(|row| row.series).collect();
    let days = app.store.since(&ids, (now - TimeDelta::days(1)).timestamp_millis()).await?;
    let told = rows.into_iter().map(|row| {
        let rule = device.model.as_deref().and_then(|model| app.directory.rule(estate.id, model, eui, &row.name));
        let rule = rule.unwrap_or_default();
        let kind = rule.kind.unwrap_or_else(|| ReadingKind::guessed(&row.name, &row.reading.value));
        // Of states and texts there is no mean.
        let day = row.series.and_then(|id| days.get(&id)).filter(|_| kind != ReadingKind::State);
        let doubt = day.and_then(|day| {
            api::doubt::doubt(&row.name, row.reading.unit.as_deref(), (rule.min, rule.max), seen_of(day))
        });
        DeviceReading {
            standing: Standing::of(now - row.time, row.interval_s, device.rhythm_s),
            day: day.map(|day| Day {
                least: day.least,
                mean: day.sum / f64::from(day.count.max(1)),
                most: day.most,
                count: u64::from(day.count),
            }),
            name: row.name,
            reading: row.reading,
            time: row.time,
            kind,
            interval_s: row.interval_s,
            doubt,
        }
    });
    Ok(Json(told.collect()))
}

/// Readings of devices over time. Single values where there are few, else means with the lowest and the highest.
#[utoipa::path(post, path = "/estates/{estate}/chart", tag = "readings", security(("token" = [])),
    params(("estate" = String, Path)), request_body = WantedChart,
    responses((status = 200, body = Chart), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn chart(State(app): State<App>, estate: InEstate, Json(wanted): Json<WantedChart>) -> Answer<Chart> {
    let (from, until, points) = wanted.check(Utc::now())?;
    let mut asked = Vec::with_capacity(wanted.lines.len());
    for line in &wanted.lines {
        let device = app.directory.device(line.device).filter(|device| device.estate_id == estate.id);
        let device = device.ok_or_else(|| not_found("device", line.device))?;
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

async fn read(
    app: &App,
    estate: store::EstateId,
    device: DeviceRef,
    row: ReadingRow,
    span: (i64, i64),
    points: u32,
) -> Result<ChartLine, Refusal> {
    let rule = rule_of(&app.directory, estate, &device, &row.name);
    let found = match row.series {
        Some(series) => line(&app.store, series, span, points, row.interval_s).await?,
        None => crate::history::Line { points: vec![], step_ms: None, cut: false },
    };
    Ok(ChartLine {
        kind: rule.kind.unwrap_or_else(|| ReadingKind::guessed(&row.name, &row.reading.value)),
        device,
        reading: row.name,
        unit: row.reading.unit,
        words: rule.words,
        step_s: found.step_ms.and_then(|ms| u32::try_from(ms / 1000).ok()),
        points: found.points,
        cut: found.cut,
    })
}

fn rule_of(
    directory: &Directory,
    estate: store::EstateId,
    device: &DeviceRef,
    name: &str,
) -> api::reading::ReadingRule {
    let model = device.model.as_deref();
    model.and_then(|model| directory.rule(estate, model, Eui64(device.eui.0), name)).unwrap_or_default()
}

//! Drive tests: measurements from elsewhere that join the survey.

use std::collections::HashMap;

use api::Page;
use api::coverage::survey::{NewSurveyImport, SurveyImport, SurveyImportEffect, WrongRow};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use domain::coverage::drive_test::{DriveTest, DriveUplink, read};
use domain::input;
use lorawan::Eui64;
use sha2::{Digest as _, Sha256};
use store::{EstateId, HeardRow, ObservationRow};
use ulid::Ulid;

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;

/// Imports of an estate, at most.
const MOST: usize = 200;

async fn imports(app: &App, estate: &WholeEstate) -> Result<Vec<SurveyImport>, Refusal> {
    Ok(app.store.survey_imports(estate.id).await?.into_iter().map(|(_, import)| import).collect())
}

/// The drive tests that were imported, by name.
#[utoipa::path(get, path = "/estates/{estate}/survey/imports", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<SurveyImport>), (status = 422, body = Problem)))]
pub(crate) async fn list_imports(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<SurveyImport>> {
    let all = imports(&app, &estate).await?;
    Ok(Json(choice.page_of(all, &paging, |one: &SurveyImport| one.name.clone())?))
}

async fn found(app: &App, estate: &WholeEstate, name: &str) -> Result<SurveyImport, Refusal> {
    let all = imports(app, estate).await?;
    all.into_iter().find(|one| one.name == name).ok_or_else(|| not_found("import", name))
}

/// One of them.
#[utoipa::path(get, path = "/estates/{estate}/survey/imports/{import}", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("import" = String, Path)),
    responses((status = 200, body = SurveyImport), (status = 404, body = Problem)))]
pub(crate) async fn show_import(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Answer<SurveyImport> {
    found(&app, &estate, &name).await.map(Json)
}

/// Imports a drive test into the survey, or previews that. A row with a mistake is left out and told. The table may have
/// 32 MiB and 200,000 rows.
#[utoipa::path(post, path = "/estates/{estate}/survey/imports", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = NewSurveyImport,
    responses((status = 200, body = SurveyImportEffect), (status = 409, body = Problem), (status = 413, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn add_import(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewSurveyImport>,
) -> Answer<SurveyImportEffect> {
    let name = input::name("name", &new.name)?;
    let others = imports(&app, &estate).await?;
    if others.iter().any(|one| one.name == name) {
        return Err(bad_field("name", &name, "another import has this name").into());
    }
    if others.len() >= MOST {
        return Err(bad_field("name", &name, format!("at most {MOST} are kept: remove some first")).into());
    }
    let (gateways, devices) = (gateways(&app, &estate).await?, devices(&app, &estate).await?);
    let preview = new.preview;
    let region = new.region;
    let test = blocking(move || {
        let by_eui =
            |name: &str| input::eui("gateway", name).ok().filter(|eui| gateways.values().any(|own| own == eui));
        let gateway = |name: &str| gateways.get(name).copied().or_else(|| by_eui(name));
        read(&new.csv, &new.columns, (new.region, gateway))
    });
    let test = test.await??;
    let import = told(&name, region, &test, estate.person.clone());
    let effect = SurveyImportEffect {
        import: import.clone(),
        done: !preview,
        passed_over: test.passed_over.clone(),
        left_out: u32::try_from(test.left_out).unwrap_or(u32::MAX),
        wrong: test.wrong.into_iter().map(|(line, problem)| WrongRow { line, problem }).collect(),
    };
    if preview {
        return Ok(Json(effect));
    }
    if test.uplinks.is_empty() {
        let first = effect
            .wrong
            .first()
            .map_or_else(|| "it has no rows".into(), |one| format!("line {}: {}", one.line, one.problem));
        return Err(bad_field("csv", "no row that can be imported", first).into());
    }
    let id = estate.id;
    let rows = move |import_id| rows(&test.uplinks, (id, import_id), &devices);
    app.store.add_survey_import(estate.id, &import, rows).await?;
    app.surveys.forget(estate.id);
    estate.audit().object(format!("drive test {name}")).made(&import);
    Ok(Json(effect))
}

/// The estate's gateways by name.
async fn gateways(app: &App, estate: &WholeEstate) -> Result<HashMap<String, Eui64>, Refusal> {
    let all = app.store.gateways(estate.id, "", u32::MAX).await?;
    Ok(all.into_iter().map(|row| (row.gateway.name, row.gateway.eui)).collect())
}

/// The estate's devices, by name and by EUI as it is written.
async fn devices(app: &App, estate: &WholeEstate) -> Result<HashMap<String, Eui64>, Refusal> {
    let all = app.store.surveyed_devices(estate.id).await?;
    let names = |one: store::SurveyedDevice| [(one.dev_eui.to_string(), one.dev_eui), (one.name, one.dev_eui)];
    Ok(all.into_iter().flat_map(names).collect())
}

fn told(name: &str, region: lorawan::region::Region, test: &DriveTest, imported_by: String) -> SurveyImport {
    let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    let times = || test.uplinks.iter().map(|uplink| uplink.at);
    SurveyImport {
        name: name.to_owned(),
        region,
        uplinks: count(test.uplinks.len()),
        heard: count(test.uplinks.iter().filter(|uplink| !uplink.heard.is_empty()).count()),
        from: times().min(),
        until: times().max(),
        imported_by,
        imported_at: Utc::now(),
    }
}

/// The observations of a drive test. What no device of the estate sent is named by the import's number.
fn rows(
    uplinks: &[DriveUplink],
    (estate_id, import_id): (EstateId, u32),
    devices: &HashMap<String, Eui64>,
) -> Vec<ObservationRow> {
    let row = |(n, uplink): (usize, &DriveUplink)| {
        let heard = uplink.heard.iter().map(|(gateway, rssi_dbm, snr_db)| HeardRow {
            gateway: *gateway,
            rssi_dbm: *rssi_dbm,
            snr_db: *snr_db,
        });
        let digest = Sha256::digest(format!("{import_id} {n}"));
        let random = digest.iter().take(10).fold(0u128, |all, byte| all << 8 | u128::from(*byte));
        ObservationRow {
            estate_id,
            id: Ulid::from_parts(uplink.at.timestamp_millis().unsigned_abs(), random),
            dev_eui: devices.get(&uplink.device).copied().unwrap_or(Eui64(u64::from(import_id))),
            import_id: Some(import_id),
            told_place: Some(uplink.place),
            data_rate: uplink.data_rate,
            needed_snr_db: uplink.needed_snr_db as f32,
            power_dbm: uplink.power_dbm.map(|dbm| dbm as f32),
            uplinks: 1,
            lost: 0,
            heard: heard.collect(),
        }
    };
    uplinks.iter().enumerate().map(row).collect()
}

/// Removes a drive test from the survey.
#[utoipa::path(delete, path = "/estates/{estate}/survey/imports/{import}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("import" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_import(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let was = found(&app, &estate, &name).await?;
    app.store.remove_survey_import(estate.id, &name).await?;
    app.surveys.forget(estate.id);
    estate.audit().object(format!("drive test {name}")).removed(&was);
    Ok(StatusCode::NO_CONTENT)
}

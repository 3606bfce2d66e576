//! Calibrations: what the survey shows of a path model.

use std::sync::Arc;

use api::Page;
use api::coverage::calibration::{Calibration, NewCalibration};
use api::coverage::forecast::NewForecast;
use api::coverage::survey::SurveyFilter;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use coverage::link::path::{Calibrated, Method};
use coverage::survey::calibration::Calibration as Made;
use domain::coverage::calibration::{check, told};
use domain::coverage::forecast::check as check_forecast;
use store::{DeviceQuery, PlanKind};

use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::json::{Answer, Created, Json, Made as MadeAnswer};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;
use crate::http::planning::links::gateways;
use crate::http::planning::survey::{Asked, asked};
use crate::planning::losses::STEP_M;
use crate::planning::survey::calibrate::{ONE_PLACE, Spots, by_eui, names, noise_figures};

/// Calibrations of an estate, at most.
const MOST: usize = 100;
/// Devices whose antennas are known, at most.
const MOST_DEVICES: u32 = 20_000;

async fn all(app: &App, estate: &WholeEstate) -> Result<Vec<Calibration>, Refusal> {
    Ok(app.store.plans(estate.id, PlanKind::Calibration).await?)
}

/// The calibration of a name.
pub(super) async fn found(app: &App, estate: &WholeEstate, name: &str) -> Result<Calibration, Refusal> {
    let found = all(app, estate).await?.into_iter().find(|one| one.wanted.name == name);
    found.ok_or_else(|| not_found("calibration", name))
}

/// An estate's calibrations by name.
#[utoipa::path(get, path = "/estates/{estate}/calibrations", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<Calibration>), (status = 422, body = Problem)))]
pub(crate) async fn list_calibrations(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Calibration>> {
    let all = all(&app, &estate).await?;
    Ok(Json(choice.page_of(all, &paging, |one: &Calibration| one.wanted.name.clone())?))
}

/// One calibration.
#[utoipa::path(get, path = "/estates/{estate}/calibrations/{calibration}", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("calibration" = String, Path)),
    responses((status = 200, body = Calibration), (status = 404, body = Problem)))]
pub(crate) async fn show_calibration(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Answer<Calibration> {
    found(&app, &estate, &name).await.map(Json)
}

/// Calibrates a path model on the survey: its offset, beyond that by gateway and by class of cover, and the errors before and
/// after at places that were held out. A forecast uses it by its name.
#[utoipa::path(post, path = "/estates/{estate}/calibrations", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = NewCalibration,
    responses((status = 201, body = Calibration), (status = 422, body = Problem)))]
pub(crate) async fn add_calibration(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<NewCalibration>,
) -> MadeAnswer<Calibration> {
    check(&wanted)?;
    let others = all(&app, &estate).await?;
    if others.iter().any(|one| one.wanted.name == wanted.name) {
        return Err(bad_field("name", &wanted.name, "another calibration has this name").into());
    }
    if others.len() >= MOST {
        return Err(bad_field("name", &wanted.name, format!("at most {MOST} are kept: remove some first")).into());
    }
    let made = calibrated(&app, &estate, &wanted).await?;
    app.store.add_plan(estate.id, PlanKind::Calibration, (&wanted.name, &made)).await?;
    estate.audit().object(format!("calibration {}", wanted.name)).made(&made.wanted);
    Ok(Created { at: estate.path_of("calibrations", &wanted.name), made })
}

async fn calibrated(app: &App, estate: &WholeEstate, wanted: &NewCalibration) -> Result<Calibration, Refusal> {
    let model = NewForecast {
        model: wanted.model,
        region: wanted.region,
        time_percent: wanted.time_percent,
        places_percent: wanted.places_percent,
        ..NewForecast::default()
    };
    let computed = check_forecast(&model)?;
    let filter = SurveyFilter { since: wanted.since, until: wanted.until, ..SurveyFilter::default() };
    let Asked { opened, filter, .. } = asked(app, (estate.id, None), &filter).await?;
    let gateways = gateways(app, estate.id).await?;
    let devices = by_eui(app.store.devices(estate.id, &DeviceQuery::default(), MOST_DEVICES).await?);
    let ground = app.grounds.of(estate.id).await?;
    let (forecaster, by, wanted) = (Arc::clone(&app.forecaster), estate.person.clone(), wanted.clone());
    let work = move || {
        let spots = Spots::of(&opened, &filter, (&noise_figures(&gateways), ONE_PLACE));
        let method = Method {
            terrain: ground.terrain(),
            model: &computed.model,
            frequency_mhz: computed.frequency_mhz,
            step_m: STEP_M,
            rates: &computed.rates,
            judgement: &computed.judgement,
            calibrated: Calibrated::default(),
        };
        let pairs = forecaster.on_all_cores(|| spots.pairs(&method, &gateways, &devices));
        let unheard = pairs.iter().filter(|pair| pair.at_most).count();
        let made = Made::of(&pairs).map_err(|why| bad_field("survey", "the uplinks of this time", why))?;
        Ok::<_, Problem>(told(wanted, &made, (unheard, &names(&gateways)), (by, Utc::now())))
    };
    Ok(blocking(work).await??)
}

/// Removes a calibration. Forecasts that used it stay as they are.
#[utoipa::path(delete, path = "/estates/{estate}/calibrations/{calibration}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("calibration" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_calibration(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let was = found(&app, &estate, &name).await?;
    app.store.remove_plan(estate.id, PlanKind::Calibration, &name).await?;
    estate.audit().object(format!("calibration {name}")).removed(&was.wanted);
    Ok(StatusCode::NO_CONTENT)
}

//! Forecasts: asked for, listed, stopped, removed.

use api::Page;
use api::coverage::forecast::{Forecast, ForecastState, NewForecast};
use api::coverage::site::Site;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use chrono::Utc;
use domain::coverage::calibration::fits;
use store::ForecastRow;
use ulid::Ulid;

use crate::ground::Ground;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::planning::{calibrations, receivers};
use crate::planning::opened::Plan;
use crate::planning::sites::all;

/// Forecasts that an estate keeps, at most.
const MOST: u32 = 100;
/// Forecasts of an estate that wait to be computed, at most.
const MOST_WAITING: usize = 5;

/// The sites that are meant: those that are named, or all gateways with a place.
async fn meant(app: &App, estate: &WholeEstate, wanted: &NewForecast) -> Result<Vec<Site>, Refusal> {
    let all = all(&app.store, estate.id).await?;
    if wanted.sites.is_empty() {
        let placed = |site: &Site| site.gateway.is_some() && site.latitude_deg.is_some();
        return Ok(all.into_iter().filter(placed).collect());
    }
    let mut sites: Vec<Site> = Vec::with_capacity(wanted.sites.len());
    for name in &wanted.sites {
        let Some(site) = all.iter().find(|site| site.name == *name) else {
            return Err(bad_field("sites", name, "no gateway and no planned site has this name").into());
        };
        if sites.iter().all(|one| one.name != site.name) {
            sites.push(site.clone());
        }
    }
    Ok(sites)
}

/// A warning if there is no ground, or not under all sites; else empty.
fn note(ground: &Ground, plan: &Plan) -> String {
    let Some(extent) = ground.terrain().extent() else {
        return "There are no files of the ground: all is computed as flat sea.".into();
    };
    let outside = plan.sites.iter().filter(|site| !extent.contains(site.place)).map(|site| site.name.as_str());
    let outside: Vec<&str> = outside.collect();
    if outside.is_empty() {
        return String::new();
    }
    format!("Outside the files of the ground, where all is computed as flat sea: {}.", outside.join(", "))
}

/// Asks for a forecast. It is computed beside everything else; sites that are done can be seen meanwhile.
#[utoipa::path(post, path = "/estates/{estate}/forecasts", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), request_body = NewForecast,
    responses((status = 202, body = Forecast), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn add_forecast(
    State(app): State<App>,
    estate: WholeEstate,
    Json(wanted): Json<NewForecast>,
) -> Result<impl IntoResponse, Refusal> {
    let sites = meant(&app, &estate, &wanted).await?;
    let receiver = receivers::found(&app, &estate, &wanted.receiver).await;
    let receiver =
        receiver.map_err(|_| bad_field("receiver", &wanted.receiver, "no kind of receiver has this name"))?;
    let id = Ulid::generate().to_string();
    let mut made = Forecast::waiting(id, wanted, (sites, receiver.radio), estate.person.clone(), Utc::now());
    if let Some(name) = &made.wanted.calibration {
        let found = calibrations::found(&app, &estate, name).await;
        let found = found.map_err(|_| bad_field("calibration", name, "no calibration has this name"))?;
        fits(&found, &made.wanted)?;
        made.calibration = Some(found);
    }
    let plan = Plan::of(&made)?;
    let ground = app.grounds.of(estate.id).await?;
    (made.extent, made.note) = (plan.extent(), note(&ground, &plan));
    let others = app.store.forecasts(estate.id, MOST).await?;
    let waiting = others.iter().filter(|row| !row.forecast.state.has_ended()).count();
    if waiting >= MOST_WAITING {
        let problem = Problem::new(409, "too_many", "Too many forecasts are waiting");
        return Err(problem.detail(format!("{waiting} are waiting to be computed: stop one, or wait for them")).into());
    }
    if others.len() >= MOST as usize {
        let problem = Problem::new(409, "too_many", "Too many forecasts are kept");
        return Err(problem.detail(format!("an estate keeps {MOST} forecasts: remove some first")).into());
    }
    estate.audit().object(format!("forecast {}", made.id)).made(&made.wanted);
    app.store.add_forecast(estate.id, &made).await?;
    app.forecaster.news.notify_one();
    let at = format!("{}{}", api::BASE, estate.path(format_args!("forecasts/{}", made.id)));
    Ok((StatusCode::ACCEPTED, [(header::LOCATION, at)], Json(made)))
}

/// An estate's forecasts, newest first.
#[utoipa::path(get, path = "/estates/{estate}/forecasts", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<Forecast>), (status = 422, body = Problem)))]
pub(crate) async fn list_forecasts(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Forecast>> {
    let rows = app.store.forecasts(estate.id, MOST).await?;
    let ground = app.grounds.of(estate.id).await?;
    let all = rows.into_iter().map(|row| app.forecaster.with_progress(row, &ground)).collect();
    Ok(Json(choice.page_of(all, &paging, |forecast: &Forecast| forecast.id.clone())?))
}

pub(super) async fn found(app: &App, estate: &WholeEstate, id: &str) -> Result<ForecastRow, Refusal> {
    app.store.forecast(estate.id, id).await?.ok_or_else(|| not_found("forecast", id))
}

/// A forecast, with how far it has come.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path)),
    responses((status = 200, body = Forecast), (status = 404, body = Problem)))]
pub(crate) async fn show_forecast(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Answer<Forecast> {
    let row = found(&app, &estate, &id).await?;
    let ground = app.grounds.of(estate.id).await?;
    Ok(Json(app.forecaster.with_progress(row, &ground)))
}

/// Stops a forecast that is computed or waits, and keeps what is done of it; removes one that has ended.
#[utoipa::path(delete, path = "/estates/{estate}/forecasts/{forecast}", tag = "coverage",
    extensions(("x-right" = json!("gateways"))), params(("forecast" = String, Path)),
    responses((status = 200, body = Forecast), (status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_forecast(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(id): PathName,
) -> Result<Response, Refusal> {
    let mut row = found(&app, &estate, &id).await?;
    if !row.forecast.state.has_ended() {
        let ground = app.grounds.of(estate.id).await?;
        row.forecast = app.forecaster.with_progress(row.clone(), &ground);
        (row.forecast.state, row.forecast.ended_at) = (ForecastState::Cancelled, Some(Utc::now()));
        row.forecast.coarse = false;
        if app.store.stop_forecast(&row).await? {
            app.forecaster.stop(&id);
            estate.audit().object(format!("forecast {id}")).changed(&ForecastState::Running, &row.forecast.state);
            return Ok(Json(row.forecast).into_response());
        }
    }
    app.store.remove_forecast(estate.id, &id).await?;
    app.forecaster.close(&id);
    estate.audit().object(format!("forecast {id}")).removed(&row.forecast.wanted);
    Ok(StatusCode::NO_CONTENT.into_response())
}

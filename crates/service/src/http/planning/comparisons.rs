//! Forecasts held against the survey, and against one another.

use std::sync::Arc;

use api::coverage::comparison::{ComparisonQuestion, ForecastComparison, SurveyComparison};
use api::coverage::survey::SurveyFilter;
use api::problem::{Problem, bad_field};
use axum::extract::{RawPathParams, State};
use axum::response::Response;
use chrono::{TimeDelta, Utc};
use coverage::area::forecast::Layer;
use domain::coverage::comparison::in_decibels;
use domain::coverage::forecast::layer;
use store::ForecastRow;

use crate::ground::png;
use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::{Params, WholeEstate};
use crate::http::file;
use crate::http::json::{Answer, Json};
use crate::http::models::scripts::blocking;
use crate::http::planning::forecasts::found;
use crate::http::planning::map::{id, in_memory, opened, tile_in};
use crate::http::planning::survey::{Asked, KEPT, asked};
use crate::planning::compared::Against;
use crate::planning::forecaster::places;
use crate::planning::opened::OpenForecast;

/// The uplinks that a forecast is compared with, where nothing else is said.
const USUAL: TimeDelta = TimeDelta::days(7);

/// The survey that a forecast is compared with.
async fn survey(app: &App, estate: &WholeEstate, question: &ComparisonQuestion) -> Result<Against, Refusal> {
    let filter = SurveyFilter { gateway: question.gateway.clone(), ..SurveyFilter::default() };
    let Asked { opened, filter, .. } = asked(app, (estate.id, None), &filter).await?;
    let since = question.since.unwrap_or_else(|| Utc::now() - USUAL);
    Ok(Against { survey: opened, from_s: since.timestamp(), gateway: filter.gateway })
}

/// The other forecast.
async fn other(app: &App, estate: &WholeEstate, id: &str) -> Result<(ForecastRow, Arc<OpenForecast>), Refusal> {
    let row = found(app, estate, id).await.map_err(|_| bad_field("with", id, "no forecast has this id"))?;
    let opened = in_memory(app, &row).await?;
    Ok((row, opened))
}

fn subtracted(question: &ComparisonQuestion) -> Result<Layer, Problem> {
    in_decibels(layer(question.layer.unwrap_or_default()))
}

/// A tile of the difference between what was measured and a forecast, or between two forecasts, 256 pixels square, in the scheme
/// of web maps (OGC 17-083r4, Annex D.1). It is clear where nothing can be compared.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/differences/{level}/{column}/{row}", tag = "coverage",
    extensions(("x-right" = json!("view"))),
    params(("forecast" = String, Path), ("level" = u8, Path, maximum = 16, example = 11),
        ("column" = u32, Path, example = 1046), ("row" = u32, Path, example = 650), ComparisonQuestion),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn difference_tile(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<ComparisonQuestion>,
) -> Result<Response, Refusal> {
    let this = opened(&app, &estate, &path).await?;
    let (_, tile) = tile_in(&path)?;
    let layer = subtracted(&question)?;
    match &question.with {
        Some(id) => {
            let (_, other) = other(&app, &estate, id).await?;
            file::tile(&app, KEPT, move || png(&this.difference_tile(&other, layer, tile))).await
        }
        None => {
            let against = survey(&app, &estate, &question).await?;
            file::tile(&app, KEPT, move || png(&this.survey_difference_tile(&against, tile))).await
        }
    }
}

/// A forecast held against the survey: by how much it is off, by gateway, and where reality is much worse, with the likely cause.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/survey", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path), ComparisonQuestion),
    responses((status = 200, body = SurveyComparison), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn compare_with_survey(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<ComparisonQuestion>,
) -> Answer<SurveyComparison> {
    let this = opened(&app, &estate, &path).await?;
    let against = survey(&app, &estate, &question).await?;
    Ok(Json(blocking(move || this.survey_comparison(&against)).await?))
}

/// A forecast held against another one (`with`): the parameters that differ, and the area and the devices gained and lost.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/comparison", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path), ComparisonQuestion),
    responses((status = 200, body = ForecastComparison), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn compare_forecasts(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<ComparisonQuestion>,
) -> Answer<ForecastComparison> {
    let row = found(&app, &estate, id(&path)).await?;
    let this = in_memory(&app, &row).await?;
    let layer = subtracted(&question)?;
    let with =
        question.with.as_deref().ok_or_else(|| bad_field("with", "nothing", "the id of another forecast is wanted"))?;
    let (other_row, other) = other(&app, &estate, with).await?;
    let places = places(&app.store, estate.id).await?;
    let told = (row.forecast, other_row.forecast);
    Ok(Json(blocking(move || this.comparison(&other, (&told.0, &told.1), (layer, &places))).await?))
}

//! A forecast on the map: legends, tiles of its layers, and what it says of a place.

use std::sync::Arc;

use api::coverage::forecast::{LayerQuestion, Legends, PlaceForecast, PlaceQuestion, Ranking, RankingQuestion};
use api::problem::{FieldProblems, Problem, bad_field};
use axum::extract::{RawPathParams, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use coverage::geo::Place;
use coverage::terrain::relief::{MAX_LEVEL, Tile};
use domain::coverage::forecast::{layer, ranking};
use domain::input;
use store::ForecastRow;

use crate::ground::png;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Params, WholeEstate};
use crate::http::file::{self, written};
use crate::http::json::{Answer, Json};
use crate::http::models::scripts::blocking;
use crate::http::planning::forecasts::found;
use crate::planning::forecaster::places;
use crate::planning::opened::OpenForecast;

/// How long a browser may keep a tile: its address changes with every site that is done.
const KEPT: &str = "private, max-age=3600";

pub(super) fn id(path: &RawPathParams) -> &str {
    path.iter().find(|(name, _)| *name == "forecast").map(|(_, id)| id).unwrap_or_default()
}

/// The forecast in the path, in memory.
pub(super) async fn opened(
    app: &App,
    estate: &WholeEstate,
    path: &RawPathParams,
) -> Result<Arc<OpenForecast>, Refusal> {
    in_memory(app, &found(app, estate, id(path)).await?).await
}

/// A forecast in memory.
pub(super) async fn in_memory(app: &App, row: &ForecastRow) -> Result<Arc<OpenForecast>, Refusal> {
    let ground = app.grounds.of(row.estate_id).await?;
    Ok(app.forecaster.open(row, &ground).await?)
}

/// The tile in the path, and its level.
pub(super) fn tile_in(path: &RawPathParams) -> Result<(u8, Tile), Refusal> {
    let number = |wanted: &str| path.iter().find(|(name, _)| *name == wanted).and_then(|(_, text)| text.parse().ok());
    let level: Option<u8> = number("level").and_then(|level| u8::try_from(level).ok());
    let tile = level.zip(number("column")).zip(number("row"));
    let tile = tile.and_then(|((level, column), row)| Some((level, Tile::new(level, column, row)?)));
    tile.ok_or_else(|| not_found("tile", format!("of level 0 to {MAX_LEVEL}")))
}

/// The layers of a forecast with their legends.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/layers", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path)),
    responses((status = 200, body = Legends), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn show_layers(State(app): State<App>, estate: WholeEstate, path: RawPathParams) -> Answer<Legends> {
    Ok(Json(opened(&app, &estate, &path).await?.legends()))
}

/// A tile of a layer, 256 pixels square, in the scheme of web maps (OGC 17-083r4, Annex D.1). It is clear where nothing is
/// known.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/tiles/{level}/{column}/{row}", tag = "coverage",
    extensions(("x-right" = json!("view"))),
    params(("forecast" = String, Path), ("level" = u8, Path, maximum = 16, example = 11),
        ("column" = u32, Path, example = 1046), ("row" = u32, Path, example = 650), LayerQuestion),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn layer_tile(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<LayerQuestion>,
) -> Result<Response, Refusal> {
    let opened = opened(&app, &estate, &path).await?;
    let (_, tile) = tile_in(&path)?;
    let layer = layer(question.layer.unwrap_or_default());
    file::tile(&app, KEPT, move || png(&opened.tile(layer, tile))).await
}

/// A layer as a georeferenced raster: GeoTIFF of 32-bit numbers in degrees of WGS 84, not a number where nothing is known.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/values", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path), LayerQuestion),
    responses((status = 200, content_type = "image/tiff", body = Vec<u8>), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn layer_values(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<LayerQuestion>,
) -> Result<impl IntoResponse, Refusal> {
    let opened = opened(&app, &estate, &path).await?;
    let layer = layer(question.layer.unwrap_or_default());
    let raster = written("a layer", move || opened.geotiff(layer)).await?;
    Ok(([(header::CONTENT_TYPE, "image/tiff")], raster))
}

/// Which site next, and which could go: the sites of a forecast ranked by what they add to those that are there.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/ranking", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path), RankingQuestion),
    responses((status = 200, body = Ranking), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn show_ranking(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<RankingQuestion>,
) -> Answer<Ranking> {
    let row = found(&app, &estate, id(&path)).await?;
    let opened = in_memory(&app, &row).await?;
    let names: Vec<&str> = row.forecast.sites.iter().map(|site| site.name.as_str()).collect();
    let number = |name: &str| {
        let at = names.iter().position(|one| *one == name.trim()).and_then(|at| u16::try_from(at).ok());
        at.ok_or_else(|| bad_field("base", name, format!("the forecast's sites are {}", names.join(", "))))
    };
    let base: Vec<u16> = match &question.base {
        Some(base) => base.split(',').filter(|name| !name.trim().is_empty()).map(number).collect::<Result<_, _>>()?,
        None => {
            let gateways = row.forecast.sites.iter().enumerate().filter(|(_, site)| site.gateway.is_some());
            gateways.filter_map(|(n, _)| u16::try_from(n).ok()).collect()
        }
    };
    let places = places(&app.store, estate.id).await?;
    let ranked = blocking(move || Ok::<_, Problem>(ranking(&opened.heard(&places)?, &base, &opened.names())));
    Ok(Json(ranked.await??))
}

/// What a forecast says of a place: the value of each layer, and the link to each site with its path.
#[utoipa::path(get, path = "/estates/{estate}/forecasts/{forecast}/place", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(("forecast" = String, Path), PlaceQuestion),
    responses((status = 200, body = PlaceForecast), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn show_place(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(at): Params<PlaceQuestion>,
) -> Answer<PlaceForecast> {
    let mut wrong = FieldProblems::default();
    wrong.take(input::range("latitude_deg", at.latitude_deg, -90.0, 90.0, "degrees"));
    wrong.take(input::range("longitude_deg", at.longitude_deg, -180.0, 180.0, "degrees"));
    wrong.end()?;
    let opened = opened(&app, &estate, &path).await?;
    let place = Place { latitude_deg: at.latitude_deg, longitude_deg: at.longitude_deg };
    Ok(Json(blocking(move || opened.at(place)).await?))
}

//! The survey: coverage as the network's own uplinks tell it.

use std::sync::{Arc, PoisonError};

use api::Page;
use api::coverage::survey::{
    HexagonQuestion, Survey, SurveyArea, SurveyFilter, SurveyHexagons, SurveyPlace, SurveyedPlace,
};
use api::problem::{FieldProblems, Problem, bad_field};
use axum::extract::{RawPathParams, State};
use axum::response::Response;
use coverage::area::picture;
use coverage::geo::Place;
use coverage::survey::areas::areas;
use coverage::survey::here::here;
use coverage::survey::record::Filter;
use domain::coverage::survey::quantity;
use domain::input;
use store::{AccessFilter, EstateId, Named};

use crate::ground::png;
use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, VisibleEstate};
use crate::http::file;
use crate::http::json::{Answer, Json};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;
use crate::http::planning::map::tile_in;
use crate::planning::survey::opened::OpenSurvey;
use crate::planning::survey::told::{self, Names};

/// How long a browser may keep a tile: the survey grows.
pub(super) const KEPT: &str = "private, max-age=60";
/// The resolution of hexagons where nothing else is said, and of areas.
const RESOLUTION: u8 = 9;
/// Resolutions of H3 that are answered.
const RESOLUTIONS: std::ops::RangeInclusive<u8> = 5..=12;
/// Hexagons of one answer.
const MOST_HEXAGONS: usize = 50_000;

/// What is asked of a survey: which uplinks, as far as the caller may see them.
pub(super) struct Asked {
    pub opened: Arc<OpenSurvey>,
    pub filter: Filter,
    pub names: Names,
}

/// Opens a survey for those who may see it.
pub(super) async fn asked(
    app: &App,
    (estate, within): (EstateId, Option<&AccessFilter>),
    wanted: &SurveyFilter,
) -> Result<Asked, Refusal> {
    let opened = app.surveys.open(estate).await?;
    let among = within.map(|within| {
        let seen = opened.devices.iter().filter(|one| within.covers(one.dev_eui, &one.fleet));
        seen.map(|one| one.dev_eui.0).collect()
    });
    let mut filter = Filter {
        from_s: wanted.since.map(|at| at.timestamp()),
        until_s: wanted.until.map(|at| at.timestamp()),
        data_rate: wanted.data_rate,
        among,
        ..Filter::default()
    };
    if let Some(device) = &wanted.device {
        filter.device = Some(app.eui_of(estate, Named::Device, device).await?.0);
    }
    if let Some(gateway) = &wanted.gateway {
        filter.gateway = Some(app.eui_of(estate, Named::Gateway, gateway).await?.0);
    }
    let gateways = opened.record().gateways().to_vec();
    let name = |eui: &u64| app.presence.known(lorawan::Eui64(*eui)).map(|known| known.name);
    let names = Names::new(gateways.iter().map(|eui| (*eui, name(eui))));
    Ok(Asked { opened, filter, names })
}

fn resolution(question: &HexagonQuestion, usual: u8) -> Result<u8, Problem> {
    let wanted = question.resolution.unwrap_or(usual);
    if RESOLUTIONS.contains(&wanted) {
        return Ok(wanted);
    }
    Err(bad_field("resolution", &wanted.to_string(), "5 to 12 is allowed"))
}

/// The resolution whose hexagons are some twenty pixels wide on a map's level: two levels are about 1.4 resolutions.
fn of_level(level: u8) -> u8 {
    ((f64::from(level) * 0.71 + 0.5).round() as u8).clamp(*RESOLUTIONS.start(), *RESOLUTIONS.end())
}

/// The survey in figures: uplinks, gateways with their noise, what was left out, and the legends.
#[utoipa::path(get, path = "/estates/{estate}/survey", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(SurveyFilter),
    responses((status = 200, body = Survey), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn show_survey(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(wanted): Params<SurveyFilter>,
) -> Answer<Survey> {
    let Asked { opened, filter, names } = asked(&app, visible.part(), &wanted).await?;
    Ok(Json(blocking(move || told::survey(&opened, &filter, &names)).await?))
}

/// A tile of the survey's hexagons, 256 pixels square, in the scheme of web maps (OGC 17-083r4, Annex D.1). It is clear where
/// nothing was measured.
#[utoipa::path(get, path = "/estates/{estate}/survey/tiles/{level}/{column}/{row}", tag = "coverage",
    extensions(("x-right" = json!("view"))),
    params(("level" = u8, Path, maximum = 16, example = 11), ("column" = u32, Path, example = 1046),
        ("row" = u32, Path, example = 650), HexagonQuestion, SurveyFilter),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn survey_tile(
    State(app): State<App>,
    visible: VisibleEstate,
    path: RawPathParams,
    Params(question): Params<HexagonQuestion>,
    Params(wanted): Params<SurveyFilter>,
) -> Result<Response, Refusal> {
    let (level, tile) = tile_in(&path)?;
    let resolution = resolution(&question, of_level(level))?;
    let Asked { opened, filter, .. } = asked(&app, visible.part(), &wanted).await?;
    let quantity = quantity(question.quantity.unwrap_or_default());
    file::tile(&app, KEPT, move || {
        let hexagons = opened.hexagons(resolution, quantity, &filter);
        let hexagons = hexagons.as_ref().map(|all| all.read().unwrap_or_else(PoisonError::into_inner));
        let value = |place| Some(hexagons.as_ref()?.at(place)?.value);
        png(&picture::tile(&quantity.legend(), tile, value))
    })
    .await
}

/// The hexagons of the survey by one quantity: at most 50,000.
#[utoipa::path(get, path = "/estates/{estate}/survey/hexagons", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(HexagonQuestion, SurveyFilter),
    responses((status = 200, body = SurveyHexagons), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn list_hexagons(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(question): Params<HexagonQuestion>,
    Params(wanted): Params<SurveyFilter>,
) -> Answer<SurveyHexagons> {
    let resolution = resolution(&question, RESOLUTION)?;
    let word = question.quantity.unwrap_or_default();
    let Asked { opened, filter, names } = asked(&app, visible.part(), &wanted).await?;
    let all = blocking(move || {
        let kept = opened.hexagons(resolution, quantity(word), &filter);
        let kept = kept.as_ref().map(|all| all.read().unwrap_or_else(PoisonError::into_inner));
        let count = kept.as_ref().map_or(0, |all| all.len());
        if count > MOST_HEXAGONS {
            let allowed =
                format!("there are {count} hexagons of it, and at most {MOST_HEXAGONS} are sent: ask for larger ones");
            return Err(bad_field("resolution", &resolution.to_string(), allowed));
        }
        let all = kept.as_ref().map(|all| all.all()).unwrap_or_default();
        Ok(all.iter().filter_map(|one| told::hexagon(quantity(word), one, &names)).collect())
    });
    Ok(Json(SurveyHexagons { quantity: word, resolution, hexagons: all.await?? }))
}

/// What was measured around a place: its hexagon by each quantity, and each gateway that was listening.
#[utoipa::path(get, path = "/estates/{estate}/survey/place", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(SurveyedPlace, HexagonQuestion, SurveyFilter),
    responses((status = 200, body = SurveyPlace), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn show_surveyed_place(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(at): Params<SurveyedPlace>,
    Params(question): Params<HexagonQuestion>,
    Params(wanted): Params<SurveyFilter>,
) -> Answer<SurveyPlace> {
    let mut wrong = FieldProblems::default();
    wrong.take(input::range("latitude_deg", at.latitude_deg, -90.0, 90.0, "degrees"));
    wrong.take(input::range("longitude_deg", at.longitude_deg, -180.0, 180.0, "degrees"));
    wrong.end()?;
    let place = Place { latitude_deg: at.latitude_deg, longitude_deg: at.longitude_deg };
    let resolution = resolution(&question, RESOLUTION)?;
    let Asked { opened, filter, names } = asked(&app, visible.part(), &wanted).await?;
    let found = blocking(move || {
        let found = here(&opened.record(), &filter, (place, resolution));
        told::place(&opened, &found, &names)
    });
    Ok(Json(found.await?))
}

/// Weak and dark areas, the worst first: neighbouring hexagons with sides of some 200 m.
#[utoipa::path(get, path = "/estates/{estate}/survey/areas", tag = "coverage",
    extensions(("x-right" = json!("view"))), params(SurveyFilter, Choice, Paging),
    responses((status = 200, body = Page<SurveyArea>), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn list_areas(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(wanted): Params<SurveyFilter>,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<SurveyArea>> {
    let Asked { opened, filter, names } = asked(&app, visible.part(), &wanted).await?;
    let all = blocking(move || {
        let found = areas(&opened.record(), &filter, RESOLUTION);
        found.iter().map(|one| told::area(&opened, one, &names)).collect::<Vec<_>>()
    });
    Ok(Json(choice.page_of(all.await?, &paging, |one: &SurveyArea| {
        format!("{:.6},{:.6}", one.latitude_deg, one.longitude_deg)
    })?))
}

//! Estates and their fleets.

use api::Page;
use api::fleet::{Estate, Fleet, FleetKeeping, FleetKey, FleetLimits, NewFleet};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use engine::Command;
use store::{Common, Store};

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{Caller, InEstate, Json, Paging, Params, PathName, page};

/// The estates one belongs to.
#[utoipa::path(get, path = "/estates", tag = "estates", security(("token" = [])), responses((status = 200, body = Vec<Estate>)))]
pub async fn list_estates(State(app): State<App>, Caller(person): Caller) -> Answer<Vec<Estate>> {
    Ok(Json(super::people::me_of(&app, &person).await?.estates))
}

/// An estate's fleets, by short name.
#[utoipa::path(get, path = "/estates/{estate}/fleets", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), Paging), responses((status = 200, body = Page<Fleet>)))]
pub async fn list_fleets(
    State(store): State<Store>,
    estate: InEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Fleet>> {
    let limit = paging.limit()?;
    let rows = store.fleets(estate.id, paging.after(), limit + 1).await?;
    Ok(Json(page(rows, limit, |fleet| fleet.slug.clone(), |fleet| fleet)))
}

/// Makes a fleet.
#[utoipa::path(post, path = "/estates/{estate}/fleets", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path)), request_body = NewFleet,
    responses((status = 200, body = Fleet), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_fleet(State(store): State<Store>, estate: InEstate, Json(new): Json<NewFleet>) -> Answer<Fleet> {
    let (slug, name) = new.check()?;
    Ok(Json(store.add_fleet(estate.id, &slug, &name, new.limits.check()?).await?))
}

/// One fleet.
#[utoipa::path(get, path = "/estates/{estate}/fleets/{fleet}", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), ("fleet" = String, Path)),
    responses((status = 200, body = Fleet), (status = 404, body = Problem)))]
pub async fn show_fleet(State(store): State<Store>, estate: InEstate, PathName(slug): PathName) -> Answer<Fleet> {
    store.fleet(estate.id, &slug).await?.map(Json).ok_or_else(|| not_found("fleet", slug))
}

/// Sets what a fleet's devices may use in any 24 hours, as a whole: a limit that is left out is lifted.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/limits", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), ("fleet" = String, Path)), request_body = FleetLimits,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set_fleet_limits(
    State(app): State<App>,
    estate: InEstate,
    PathName(slug): PathName,
    Json(limits): Json<FleetLimits>,
) -> Answer<Fleet> {
    if !app.store.set_fleet_limits(estate.id, &slug, limits.check()?).await? {
        return Err(not_found("fleet", slug));
    }
    for config in app.store.configs_with(estate.id, Common::Fleet, &slug).await? {
        app.network.command(Command::PutDevice(Box::new(config))).await;
    }
    app.store.fleet(estate.id, &slug).await?.map(Json).ok_or_else(|| not_found("fleet", slug))
}

/// Sets how long a fleet's history is kept, as a whole: what is left out is kept for ever. What is older is taken out
/// within hours, and cannot be had again.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/keeping", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), ("fleet" = String, Path)), request_body = FleetKeeping,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set_fleet_keeping(
    State(store): State<Store>,
    estate: InEstate,
    PathName(slug): PathName,
    Json(keeping): Json<FleetKeeping>,
) -> Answer<Fleet> {
    if !store.set_fleet_keeping(estate.id, &slug, keeping.check()?).await? {
        return Err(not_found("fleet", slug));
    }
    store.fleet(estate.id, &slug).await?.map(Json).ok_or_else(|| not_found("fleet", slug))
}

/// Gives a fleet the AppKey that its devices ship with, or takes it away. It is not shown again.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/default-key", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), ("fleet" = String, Path)), request_body = FleetKey,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn set_fleet_key(
    State(store): State<Store>,
    estate: InEstate,
    PathName(slug): PathName,
    Json(given): Json<FleetKey>,
) -> Answer<Fleet> {
    let key = given.app_key.as_deref().map(|key| api::problem::key("app_key", key)).transpose()?;
    tracing::info!(by = estate.person, fleet = slug, given = key.is_some(), "a fleet's default key was set");
    if !store.set_fleet_key(estate.id, &slug, key.as_ref()).await? {
        return Err(not_found("fleet", slug));
    }
    store.fleet(estate.id, &slug).await?.map(Json).ok_or_else(|| not_found("fleet", slug))
}

/// Removes a fleet that has no devices.
#[utoipa::path(delete, path = "/estates/{estate}/fleets/{fleet}", tag = "fleets", security(("token" = [])),
    params(("estate" = String, Path), ("fleet" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove_fleet(
    State(store): State<Store>,
    estate: InEstate,
    PathName(slug): PathName,
) -> Result<StatusCode, Refusal> {
    match store.remove_fleet(estate.id, &slug).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(not_found("fleet", slug)),
    }
}

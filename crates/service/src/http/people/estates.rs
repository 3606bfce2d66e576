//! Estates and their fleets.

use api::Page;
use api::fleet::{Estate, Fleet, FleetKey, FleetLimits, FleetRetention, NewFleet};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use domain::Check;
use engine::Command;
use store::{AccessFilter, Common, Store};

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, VisibleEstate, WholeEstate, page, revision};
use crate::http::json::{Answer, Created, Json, Made};

/// The caller's estates.
#[utoipa::path(get, path = "/estates", tag = "estates",
    extensions(("x-right" = json!("anyone"))), responses((status = 200, body = Vec<Estate>)))]
pub(crate) async fn list_estates(State(app): State<App>, context: RequestContext) -> Answer<Vec<Estate>> {
    Ok(Json(crate::http::auth::account::me_of(&app, &context.who).await?.estates))
}

/// One of the caller's estates.
#[utoipa::path(get, path = "/estates/{estate}", tag = "estates",
    extensions(("x-right" = json!("member"))),
    responses((status = 200, body = Estate), (status = 404, body = Problem)))]
pub(crate) async fn show_estate(State(app): State<App>, estate: WholeEstate) -> Answer<Estate> {
    let slug = &estate.access.slug;
    let all = crate::http::auth::account::me_of(&app, &estate.context.who).await?.estates;
    all.into_iter().find(|found| found.slug == *slug).map(Json).ok_or_else(|| not_found("estate", slug))
}

/// Whether the caller may see the whole fleet, not only one device of it.
fn whole(within: Option<&AccessFilter>, slug: &str) -> bool {
    within.is_none_or(|part| part.fleets.iter().any(|fleet| fleet == slug))
}

/// An estate's fleets, by short name.
#[utoipa::path(get, path = "/estates/{estate}/fleets", tag = "fleets",
    extensions(("x-right" = json!("view"))),
    params(Paging), responses((status = 200, body = Page<Fleet>)))]
pub(crate) async fn list_fleets(
    State(store): State<Store>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(paging): Params<Paging>,
) -> Answer<Page<Fleet>> {
    let limit = paging.limit()?;
    let rows = store.fleets(estate.id, paging.after(), limit + 1).await?;
    let mut page = page(rows, limit, |fleet| fleet.slug.clone(), with_revision);
    page.items.retain(|fleet| whole(within.as_ref(), &fleet.slug));
    Ok(Json(page))
}

/// Makes a fleet.
#[utoipa::path(post, path = "/estates/{estate}/fleets", tag = "fleets",
    extensions(("x-right" = json!("devices"))), request_body = NewFleet,
    responses((status = 201, body = Fleet), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_fleet(
    State(store): State<Store>,
    estate: WholeEstate,
    Json(new): Json<NewFleet>,
) -> Made<Fleet> {
    let (slug, name) = new.check()?;
    let fleet = store.add_fleet(estate.id, &slug, &name, new.limits.check()?).await?;
    estate.audit().object(format!("fleet {slug}")).made(&new);
    Ok(Created { at: estate.path(format_args!("fleets/{slug}")), made: with_revision(fleet) })
}

/// One fleet.
#[utoipa::path(get, path = "/estates/{estate}/fleets/{fleet}", tag = "fleets",
    extensions(("x-right" = json!("view"))),
    params(("fleet" = String, Path)),
    responses((status = 200, body = Fleet), (status = 404, body = Problem)))]
pub(crate) async fn show_fleet(
    State(store): State<Store>,
    VisibleEstate { estate, within }: VisibleEstate,
    PathName(slug): PathName,
) -> Answer<Fleet> {
    let found = fleet(&store, &estate, &slug).await?;
    Some(found).filter(|fleet| whole(within.as_ref(), &fleet.slug)).map(Json).ok_or_else(|| not_found("fleet", slug))
}

/// Sets what a fleet's devices may use in any 24 hours. A limit that is left out is removed.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/limits", tag = "fleets",
    extensions(("x-right" = json!("devices"))),
    params(("fleet" = String, Path)), request_body = FleetLimits,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_fleet_limits(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Json(limits): Json<FleetLimits>,
) -> Answer<Fleet> {
    let before = fleet(&app.store, &estate, &slug).await?;
    estate.still(&kept(&before))?;
    estate.audit().object(format!("fleet {slug}")).changed(&before.limits, &limits);
    if !app.store.set_fleet_limits(estate.id, &slug, limits.check()?).await? {
        return Err(not_found("fleet", slug));
    }
    for config in app.store.configs_with(estate.id, Common::Fleet, &slug).await? {
        app.network.command(Command::PutDevice(Box::new(config))).await;
    }
    fleet(&app.store, &estate, &slug).await.map(Json)
}

/// Sets how long a fleet's history is kept. A period that is left out means for ever. Older history is removed within
/// hours, and cannot be restored.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/retention", tag = "fleets",
    extensions(("x-right" = json!("devices"))),
    params(("fleet" = String, Path)), request_body = FleetRetention,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_fleet_retention(
    State(store): State<Store>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Json(retention): Json<FleetRetention>,
) -> Answer<Fleet> {
    let before = fleet(&store, &estate, &slug).await?;
    estate.still(&kept(&before))?;
    estate.audit().object(format!("fleet {slug}")).changed(&before.retention, &retention);
    if !store.set_fleet_retention(estate.id, &slug, retention.check()?).await? {
        return Err(not_found("fleet", slug));
    }
    fleet(&store, &estate, &slug).await.map(Json)
}

async fn fleet(store: &Store, estate: &WholeEstate, slug: &str) -> Result<Fleet, Refusal> {
    store.fleet(estate.id, slug).await?.map(with_revision).ok_or_else(|| not_found("fleet", slug))
}

/// A fleet's settings, for its revision.
fn kept(fleet: &Fleet) -> (FleetLimits, FleetRetention) {
    (fleet.limits, fleet.retention)
}

fn with_revision(fleet: Fleet) -> Fleet {
    Fleet { revision: revision(&kept(&fleet)), ..fleet }
}

/// Sets the AppKey that a fleet's devices ship with, or removes it; a blank one changes nothing. It is not shown again.
#[utoipa::path(put, path = "/estates/{estate}/fleets/{fleet}/default-key", tag = "fleets",
    extensions(("x-right" = json!("devices"))),
    params(("fleet" = String, Path)), request_body = FleetKey,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set_fleet_key(
    State(store): State<Store>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Json(given): Json<FleetKey>,
) -> Answer<Fleet> {
    // A blank field does not change the stored key.
    if given.app_key.as_deref().is_some_and(|key| key.trim().is_empty()) {
        return fleet(&store, &estate, &slug).await.map(Json);
    }
    let key = given.app_key.as_deref().map(|key| domain::input::key("app_key", key)).transpose()?;
    estate.audit().object(format!("fleet {slug}")).secret_changed("app_key");
    if !store.set_fleet_key(estate.id, &slug, key.as_ref()).await? {
        return Err(not_found("fleet", slug));
    }
    fleet(&store, &estate, &slug).await.map(Json)
}

/// Removes a fleet that has no devices.
#[utoipa::path(delete, path = "/estates/{estate}/fleets/{fleet}", tag = "fleets",
    extensions(("x-right" = json!("devices"))),
    params(("fleet" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove_fleet(
    State(store): State<Store>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Result<StatusCode, Refusal> {
    estate.still(&kept(&fleet(&store, &estate, &slug).await?))?;
    estate.audit().object(format!("fleet {slug}"));
    match store.remove_fleet(estate.id, &slug).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(not_found("fleet", slug)),
    }
}

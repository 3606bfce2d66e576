//! Estates and their fleets.

use api::Page;
use api::fleet::{ChangeFleet, Estate, Fleet, FleetSettings, NewFleet};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use domain::Check;
use domain::patch::patched;
use engine::Command;
use lorawan::AesKey;
use serde_json::Value;
use store::{AccessFilter, Common, Store};

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, VisibleEstate, WholeEstate, page, revision};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::{self, ALL, Choice};
use crate::http::outlets;

/// The caller's estates.
#[utoipa::path(get, path = "/estates", tag = "estates",
    extensions(("x-right" = json!("anyone"))), params(Choice, Paging), responses((status = 200, body = Page<Estate>)))]
pub(crate) async fn list_estates(
    State(app): State<App>,
    context: RequestContext,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Estate>> {
    let all = crate::http::auth::account::me_of(&app, &context.who).await?.estates;
    Ok(Json(choice.page_of(all, &paging, |one| one.slug.clone())?))
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
    params(Choice, Paging), responses((status = 200, body = Page<Fleet>), (status = 422, body = Problem)))]
pub(crate) async fn list_fleets(
    State(store): State<Store>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Fleet>> {
    if !choice.is_plain() {
        let mut all = listing::whole(store.fleets(estate.id, "", ALL).await?)?;
        all.retain(|fleet| whole(within.as_ref(), &fleet.slug));
        let all = all.into_iter().map(with_revision).collect();
        return Ok(Json(choice.page_of(all, &paging, |fleet: &Fleet| fleet.slug.clone())?));
    }
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

/// Changes a fleet in part: names, limits, retention, and the AppKey that its devices ship with.
#[utoipa::path(patch, path = "/estates/{estate}/fleets/{fleet}", tag = "fleets",
    extensions(("x-right" = json!("devices"))),
    params(("fleet" = String, Path)), request_body = ChangeFleet,
    responses((status = 200, body = Fleet), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_fleet(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Json(mut patch): Json<Value>,
) -> Answer<Fleet> {
    let before = fleet(&app.store, &estate, &slug).await?;
    let was = FleetSettings::from(&before);
    estate.still(&was)?;
    let key = patch.as_object_mut().and_then(|fields| fields.remove("app_key"));
    let key = key.map(|given| read_key(&given)).transpose()?.flatten();
    let is = patched(&was, &patch)?;
    let policy = is.check()?;
    estate.audit().object(format!("fleet {slug}")).changed(&was, &is);
    if was != is && !app.store.change_fleet(estate.id, &slug, &is, policy).await? {
        return Err(not_found("fleet", slug));
    }
    if let Some(key) = key {
        estate.audit().secret_changed("app_key");
        app.store.set_fleet_key(estate.id, &is.slug, key.as_ref()).await?;
    }
    if was.slug != is.slug {
        app.directory.rename_fleet(estate.id, &was.slug, &is.slug);
        outlets::rename_fleet(&app, &estate, &was.slug, &is.slug).await?;
        app.edge.rights_changed();
    }
    if was.limits != is.limits {
        for config in app.store.configs_with(estate.id, Common::Fleet, &is.slug).await? {
            app.network.command(Command::PutDevice(Box::new(config))).await;
        }
    }
    fleet(&app.store, &estate, &is.slug).await.map(Json)
}

/// The default key that a change gives: a key, none any more, or, of a blank field, what it was.
fn read_key(given: &Value) -> Result<Option<Option<AesKey>>, Problem> {
    match given.as_str() {
        Some(text) if text.trim().is_empty() => Ok(None),
        Some(text) => domain::input::key("app_key", text).map(|key| Some(Some(key))),
        None => Ok(Some(None)),
    }
}

async fn fleet(store: &Store, estate: &WholeEstate, slug: &str) -> Result<Fleet, Refusal> {
    store.fleet(estate.id, slug).await?.map(with_revision).ok_or_else(|| not_found("fleet", slug))
}

fn with_revision(fleet: Fleet) -> Fleet {
    Fleet { revision: revision(&FleetSettings::from(&fleet)), ..fleet }
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
    estate.still(&FleetSettings::from(&fleet(&store, &estate, &slug).await?))?;
    estate.audit().object(format!("fleet {slug}"));
    let outlets = store.outlets(estate.id).await?;
    if let Some(outlet) = outlets.iter().find(|row| row.settings.fleet.as_deref() == Some(&*slug)) {
        let problem = Problem::new(409, "in_use", "It is still in use");
        return Err(problem.detail(format!("the outlet {} delivers its messages", outlet.settings.slug)).into());
    }
    match store.remove_fleet(estate.id, &slug).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(not_found("fleet", slug)),
    }
}

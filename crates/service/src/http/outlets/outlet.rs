//! Setting up outlets.

use api::Page;
use api::outlet::{
    ChangeOutlet, Destination, NewOutlet, Outlet, OutletSecrets, OutletSettings, SendAgain, SentAgain, Shape,
};
use api::people::rights::Right;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use domain::grants::Visibility;
use domain::outlet::check::check;
use domain::patch::patched;
use serde_json::Value;
use store::{OutletRow, Paused, Progress, StoreError};

use crate::http::app::App;
use crate::http::auth::context::missing;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, PathOutlet, WholeEstate, revision};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;
use crate::http::models::turns::Purpose;
use crate::outlets::check_script;

/// Outlets of one estate at most: each has a task and connections of its own.
const MOST_OUTLETS: usize = 100;

pub(super) async fn row(app: &App, estate: &WholeEstate, slug: &str) -> Result<OutletRow, Refusal> {
    app.store.outlet(estate.id, slug).await?.ok_or_else(|| not_found("outlet", slug))
}

async fn shown(app: &App, row: &OutletRow) -> Result<Outlet, StoreError> {
    app.outlets.shown(row, revision(&row.settings)).await
}

/// Everything that can be checked before an outlet is stored.
async fn check_all(app: &App, estate: &WholeEstate, row: &OutletRow) -> Result<(), Refusal> {
    let OutletRow { settings, secrets, .. } = row;
    check(settings, secrets)?;
    if let Some(fleet) = &settings.fleet
        && app.store.fleet(estate.id, fleet).await?.is_none()
    {
        return Err(bad_field("fleet", fleet, "there is no such fleet in this estate").into());
    }
    if let Some(model) = &settings.model
        && app.store.model(estate.id, model).await?.is_none()
    {
        return Err(bad_field("model", model, "there is no such model in this estate").into());
    }
    // Whoever lets others send commands has to be allowed to send them.
    let takes_commands = matches!(&settings.to, Destination::Mqtt(broker) if broker.commands.is_some());
    if takes_commands && estate.access.grants.visibility(Right::Send) != Visibility::Whole {
        return Err(missing(Right::Send, &estate.access, &estate.context.who));
    }
    if let Shape::Script(_) = &settings.shape {
        let shape = settings.shape.clone();
        let loaded = app.run_scripts(estate, Purpose::Calls, move || check_script(&shape)).await?;
        loaded.map_err(|failure| bad_field("shape.script", "the script", failure.message))?;
    }
    app.outlets.check(row).await.map_err(|why| {
        let field = why.to_string();
        bad_field(&field, "what was given", why.root_cause()).into()
    })
}

/// An outlet that is not stored yet.
fn unstored(estate: &WholeEstate, settings: OutletSettings, secrets: OutletSecrets) -> OutletRow {
    OutletRow {
        id: 0,
        estate_id: estate.id,
        settings,
        secrets,
        former_fleets: Vec::new(),
        paused: None,
        progress: Progress::default(),
        added_at: Utc::now(),
    }
}

/// An estate's outlets by short name, each with how it stands.
#[utoipa::path(get, path = "/estates/{estate}/outlets", tag = "outlets",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<Outlet>), (status = 422, body = Problem)))]
pub(crate) async fn list_outlets(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Outlet>> {
    let mut all = Vec::new();
    for row in app.store.outlets(estate.id).await? {
        all.push(shown(&app, &row).await?);
    }
    Ok(Json(choice.page_of(all, &paging, |outlet: &Outlet| outlet.settings.slug.clone())?))
}

/// Makes an outlet. It delivers from now on, or from a moment of the past.
#[utoipa::path(post, path = "/estates/{estate}/outlets", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), request_body = NewOutlet,
    responses((status = 201, body = Outlet), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    Json(new): Json<NewOutlet>,
) -> Made<Outlet> {
    let NewOutlet { settings, secrets, since } = new;
    let wanted = unstored(&estate, settings, secrets);
    check_all(&app, &estate, &wanted).await?;
    let OutletRow { settings, secrets, .. } = wanted;
    if app.store.outlets(estate.id).await?.len() >= MOST_OUTLETS {
        let problem = Problem::new(409, "too_many", "There are too many outlets");
        return Err(problem.detail(format!("an estate has at most {MOST_OUTLETS}")).into());
    }
    let position = match since {
        Some(since) => position_before(&app, &estate, since).await?,
        None => app.outlets.until(),
    };
    let id = app.store.add_outlet(estate.id, &settings, &secrets, position).await?;
    estate.audit().object(format!("outlet {}", settings.slug)).made(&settings);
    let row = app.store.outlet_by_id(id).await?.ok_or_else(|| not_found("outlet", &settings.slug))?;
    app.outlets.begin(row.clone()).await;
    let at = estate.path(format_args!("outlets/{}", settings.slug));
    Ok(Created { at, made: shown(&app, &row).await? })
}

/// The number after which all messages come that were made since a moment.
async fn position_before(app: &App, estate: &WholeEstate, since: DateTime<Utc>) -> Result<u64, Refusal> {
    let before = app.store.told_before(estate.id, since).await?;
    Ok(before.unwrap_or_else(|| app.outlets.until()))
}

/// One outlet, with how it stands.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}", tag = "outlets",
    extensions(("x-right" = json!("view"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Outlet), (status = 404, body = Problem)))]
pub(crate) async fn show_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Answer<Outlet> {
    let row = row(&app, &estate, &slug).await?;
    Ok(Json(shown(&app, &row).await?))
}

/// Changes an outlet in part. What waits is delivered as changed.
#[utoipa::path(patch, path = "/estates/{estate}/outlets/{outlet}", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)), request_body = ChangeOutlet,
    responses((status = 200, body = Outlet), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(crate) async fn change_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
    Json(mut patch): Json<Value>,
) -> Answer<Outlet> {
    let before = row(&app, &estate, &slug).await?;
    estate.still(&before.settings)?;
    let for_secrets = patch.as_object_mut().and_then(|fields| fields.remove("secrets"));
    let settings = changed(&before.settings, &patch)?;
    let secrets = match &for_secrets {
        Some(patch) => patched(&before.secrets, patch).map_err(|problem| problem.inside("secrets"))?,
        None => before.secrets.clone(),
    };
    still_for_the_same(&before, &settings, for_secrets.as_ref(), &secrets)?;
    let wanted = OutletRow { settings, secrets, ..before.clone() };
    check_all(&app, &estate, &wanted).await?;
    let OutletRow { settings, secrets, .. } = wanted;
    estate.audit().object(format!("outlet {slug}")).changed(&before.settings, &settings);
    if secrets != before.secrets {
        estate.audit().secret_changed("secrets");
    }
    let same_fleet = settings.fleet == before.settings.fleet;
    let former = if same_fleet { before.former_fleets.clone() } else { Vec::new() };
    app.outlets.change(&before, app.store.change_outlet(before.id, &settings, &secrets, &former)).await?;
    let row = row(&app, &estate, &settings.slug).await?;
    Ok(Json(shown(&app, &row).await?))
}

/// The settings as a patch changes them. A shape is replaced as a whole, and the kind of other side stays.
fn changed(before: &OutletSettings, patch: &Value) -> Result<OutletSettings, Problem> {
    let kind = before.to.kind();
    let other = patch.get("to").and_then(Value::as_object).and_then(|to| to.keys().find(|name| *name != kind));
    if let Some(other) = other {
        let allowed = format!("an outlet of the kind {kind} stays one: make another outlet, or change to.{kind}");
        return Err(bad_field("to", other, allowed));
    }
    let shape = if patch.get("shape").is_some() { Shape::default() } else { before.shape.clone() };
    patched(&OutletSettings { shape, ..before.clone() }, patch)
}

/// Whoever changes where an outlet delivers to must not have its secrets sent there that somebody else has given.
fn still_for_the_same(
    before: &OutletRow,
    settings: &OutletSettings,
    given: Option<&Value>,
    secrets: &OutletSecrets,
) -> Result<(), Problem> {
    if before.settings.to.server() == settings.to.server() {
        return Ok(());
    }
    let given = |name: &str| given.and_then(|given| given.get(name)).is_some();
    let kept = |(name, set): &(&str, bool)| *set && !given(name);
    let all = [
        ("bearer", secrets.bearer.is_some()),
        ("password", secrets.password.is_some()),
        ("headers", !secrets.headers.is_empty()),
    ];
    match all.iter().find(|secret| kept(secret)) {
        Some((name, _)) => {
            let allowed = "it is for another server now: give it anew, or null to take it away";
            Err(bad_field(&format!("secrets.{name}"), "(hidden)", allowed))
        }
        None => Ok(()),
    }
}

/// Removes an outlet with its dead letters. What waits is not delivered any more.
#[utoipa::path(delete, path = "/estates/{estate}/outlets/{outlet}", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(slug): PathName,
) -> Result<StatusCode, Refusal> {
    let before = row(&app, &estate, &slug).await?;
    estate.still(&before.settings)?;
    estate.audit().object(format!("outlet {slug}")).removed(&before.settings);
    app.outlets.change(&before, app.store.remove_outlet(before.id)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Pauses an outlet: messages wait until it is resumed.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/pause", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Outlet), (status = 404, body = Problem)))]
pub(crate) async fn pause_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
) -> Answer<Outlet> {
    let before = row(&app, &estate, &slug).await?;
    estate.audit().object(format!("outlet {slug}")).note("it was paused");
    let paused = Paused { at: Utc::now(), why: format!("{} paused it", estate.person) };
    app.outlets.change(&before, app.store.pause_outlet(before.id, Some(&paused))).await?;
    let row = row(&app, &estate, &slug).await?;
    Ok(Json(shown(&app, &row).await?))
}

/// Resumes an outlet that is paused, or has one that waits for its next try do so now.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/resume", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Outlet), (status = 404, body = Problem)))]
pub(crate) async fn resume_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
) -> Answer<Outlet> {
    let before = row(&app, &estate, &slug).await?;
    estate.audit().object(format!("outlet {slug}")).note("it was resumed");
    app.outlets.change(&before, app.store.pause_outlet(before.id, None)).await?;
    let row = row(&app, &estate, &slug).await?;
    Ok(Json(shown(&app, &row).await?))
}

/// Has an outlet deliver again from a moment on. What it has delivered since then comes once more, with the same ids.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/send-again", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)), request_body = SendAgain,
    responses((status = 200, body = SentAgain), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn send_again(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    Json(wanted): Json<SendAgain>,
) -> Answer<SentAgain> {
    let before = row(&app, &estate, &slug).await?;
    let until = app.outlets.until();
    let position = position_before(&app, &estate, wanted.since).await?;
    estate.audit().object(format!("outlet {slug}")).note(format!("it sends again from {}", wanted.since));
    let again = async {
        // Where it stands is known only once it is at rest. What waits is not passed over.
        let now = app.store.outlet_by_id(before.id).await?.map(|row| row.progress).unwrap_or_default();
        let from = position.min(now.position);
        let undone = now.undone.into_iter().filter(|told| *told <= from).collect();
        app.store.note_progress(before.id, &Progress { position: from, undone, tried: now.tried }).await
    };
    app.outlets.change(&before, again).await?;
    Ok(Json(SentAgain { messages: app.store.count_told(estate.id, (position, until)).await? }))
}

/// A fleet has another short name: its outlets follow.
pub(crate) async fn rename_fleet(app: &App, estate: &WholeEstate, before: &str, after: &str) -> Result<(), Refusal> {
    for row in app.store.outlets(estate.id).await? {
        if row.settings.fleet.as_deref() == Some(before) {
            app.outlets.change(&row, app.store.rename_fleet_of_outlets(&row, after)).await?;
        }
    }
    Ok(())
}

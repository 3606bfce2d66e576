//! The downlinks of a device.

use api::Page;
use api::outbox::{NewOutboxItem, OutboxItem, OutboxState};
use api::problem::Problem;
use axum::extract::State;
use engine::{Command, OutboxId, Wait};
use lorawan::Eui64;
use ulid::Ulid;

use crate::clock;

use super::App;
use super::error::{Answer, Refusal, not_found};
use super::extract::{InEstate, Json, Paging, Params, PathEui, PathName, page};

/// Downlinks that may wait for one device.
const MAX_OPEN: u64 = 10_000;

fn known(app: &App, estate: &InEstate, dev_eui: Eui64) -> Result<(), Refusal> {
    // A multicast group's outbox is like a device's.
    let known = app.directory.device(dev_eui).filter(|device| device.estate_id == estate.id);
    known.map(|_| ()).ok_or_else(|| not_found("device", dev_eui))
}

fn id(field: &str, text: &str) -> Result<Ulid, Refusal> {
    Ulid::from_string(text)
        .map_err(|_| api::problem::bad_field(field, text, "a ULID of 26 letters and digits is wanted").into())
}

/// A device's downlinks, newest first, those that are done included.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/outbox", tag = "outbox", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path), Paging),
    responses((status = 200, body = Page<OutboxItem>), (status = 404, body = Problem)))]
pub async fn list_outbox(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    Params(paging): Params<Paging>,
) -> Answer<Page<OutboxItem>> {
    known(&app, &estate, eui)?;
    let limit = paging.limit()?;
    let before = paging.after.as_deref().map(|text| id("after", text)).transpose()?;
    let rows = app.store.outbox(eui, before, limit + 1).await?;
    Ok(Json(page(rows, limit, |item| item.id.clone(), |item| item)))
}

/// Puts a downlink into a device's outbox.
#[utoipa::path(post, path = "/estates/{estate}/devices/{eui}/outbox", tag = "outbox", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path)), request_body = NewOutboxItem,
    responses((status = 200, body = OutboxItem), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_to_outbox(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    Json(new): Json<NewOutboxItem>,
) -> Answer<OutboxItem> {
    let new = new.check()?;
    known(&app, &estate, eui)?;
    if app.store.outbox_open(eui).await? >= MAX_OPEN {
        let problem = Problem::new(409, "outbox_full", "The outbox is full");
        return Err(Refusal(
            problem.detail(format!("{MAX_OPEN} downlinks are waiting for this device; cancel some first")),
        ));
    }
    let group = app.network.group(eui).await;
    let wait = match app.network.device(eui).await {
        Some(s) => Wait::first(s.session.is_some() || s.next_session.is_some(), s.class),
        None => Wait::Gateway,
    };
    let item = engine::OutboxItem {
        id: OutboxId(Ulid::generate().0),
        port: new.port,
        payload: new.payload,
        confirmed: new.confirmed,
        attempts: 0,
        max_attempts: new.max_attempts,
        expires_at: new.expires_in_us.map(|us| clock::now().plus_us(us)),
        state: engine::OutboxState::Waiting(wait),
    };
    if new.confirmed && group.is_some() {
        let allowed = "nobody can answer for a group: leave it out";
        return Err(api::problem::bad_field("confirmed", "true", allowed).into());
    }
    // Stored first: an item the engine knows of must be there to be updated.
    let stored = app.store.add_outbox_item(eui, &item).await?;
    app.network.command(Command::Enqueue { dev_eui: eui, item }).await;
    Ok(Json(stored))
}

/// Takes a downlink out of the outbox, if it has not been sent yet.
#[utoipa::path(delete, path = "/estates/{estate}/devices/{eui}/outbox/{id}", tag = "outbox", security(("token" = [])),
    params(("estate" = String, Path), ("eui" = String, Path), ("id" = String, Path)),
    responses((status = 200, body = OutboxItem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn cancel(
    State(app): State<App>,
    estate: InEstate,
    PathEui(eui): PathEui,
    PathName(name): PathName,
) -> Answer<OutboxItem> {
    known(&app, &estate, eui)?;
    let id = id("id", &name)?;
    let item = app.store.outbox_item(eui, id).await?.ok_or_else(|| not_found("downlink", &name))?;
    if app.network.cancel(eui, OutboxId(id.0)).await {
        return Ok(Json(OutboxItem { state: OutboxState::Cancelled, note: None, ..item }));
    }
    let problem = Problem::new(409, "not_waiting", "It no longer waits in the outbox");
    Err(Refusal(problem.detail(format!("its state is: {}", item.state.words()))))
}

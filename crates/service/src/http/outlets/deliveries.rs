//! What an outlet has delivered, and what it has given up.

use api::Page;
use api::message::{Body, DeviceRef, Message, Reading, ReadingValue, Rehearsed, Uplink, UplinkFrame};
use api::outlet::{CommandTaken, DeadLetter, Delivery, OutletSettings, Replayed};
use api::problem::Problem;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use lorawan::Eui64;
use store::{OutletRow, WrittenMessage};
use ulid::Ulid;

use super::outlet::row;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathLetter, PathName, PathOutlet, WholeEstate, page, page_of};
use crate::http::json::{Answer, Json};
use crate::outlets::{LetterAbout, shown};

/// Dead letters that are tried again in one go.
const MOST_REPLAYED: u32 = 10_000;

/// The last deliveries of an outlet since the service was started, newest first.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}/deliveries", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), Paging),
    responses((status = 200, body = Page<Delivery>), (status = 404, body = Problem)))]
pub(crate) async fn list_deliveries(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    Params(paging): Params<Paging>,
) -> Answer<Page<Delivery>> {
    let row = row(&app, &estate, &slug).await?;
    let all = app.outlets.deliveries(row.id);
    Ok(Json(page_of(all, &paging, |one| format!("{}.{}", one.at.timestamp_micros(), one.messages.join(".")))?))
}

/// The last commands that came back to an outlet since the service was started, newest first, with their answers.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}/commands", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), Paging),
    responses((status = 200, body = Page<CommandTaken>), (status = 404, body = Problem)))]
pub(crate) async fn list_commands(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    Params(paging): Params<Paging>,
) -> Answer<Page<CommandTaken>> {
    let row = row(&app, &estate, &slug).await?;
    let all = app.outlets.commands(row.id);
    Ok(Json(page_of(all, &paging, |one| format!("{}.{}", one.at.timestamp_micros(), one.topic))?))
}

/// Sends a rehearsal to an outlet's other side, now and once, and tells what was answered. It is the last uplink that the
/// outlet would have delivered, or a made-up one, and marked as a rehearsal.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/test", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Delivery), (status = 404, body = Problem)))]
pub(crate) async fn try_outlet(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
) -> Answer<Delivery> {
    let row = row(&app, &estate, &slug).await?;
    estate.audit().object(format!("outlet {slug}")).note("a rehearsal was sent");
    let message = sample(&app, &estate, &row).await?;
    let written = WrittenMessage::new(estate.id, message)?;
    let delivery = app.outlets.try_out(&row, &written).await.map_err(|why| {
        Refusal::from(Problem::new(422, "bad_field", "The outlet's settings cannot be used").detail(format!("{why:#}")))
    })?;
    Ok(Json(delivery))
}

/// A rehearsal that looks like what the outlet delivers.
async fn sample(app: &App, estate: &WholeEstate, row: &OutletRow) -> Result<Message, Refusal> {
    let rehearsed = |again| Some(Rehearsed { by: estate.person.clone(), again, assumed: Vec::new() });
    let OutletSettings { fleet, model, tag, .. } = &row.settings;
    let last = app.store.last_uplink(estate.id, (fleet.as_deref(), model.as_deref(), tag.as_deref())).await?;
    if let Some(mut message) = last
        && let Body::Uplink(uplink) = &mut message.body
    {
        uplink.rehearsed = rehearsed(Some(std::mem::replace(&mut message.id, Ulid::generate().to_string())));
        message.time = Utc::now();
        return Ok(message);
    }
    let value = Reading { unit: Some("m".into()), ..Reading::of(ReadingValue::Number(2.413)) };
    let uplink = Uplink {
        frame: UplinkFrame {
            counter: 1,
            port: Some(1),
            confirmed: false,
            payload: "096d".into(),
            mac_commands: String::new(),
            mac: Vec::new(),
        },
        phy_payload: String::new(),
        readings: [("water_level".to_owned(), value)].into(),
        radio: api::heard::Radio {
            region: lorawan::region::Region::Eu868.name().into(),
            data_rate: Some(5),
            spreading_factor: Some(7),
            bandwidth_khz: Some(125),
            frequency_mhz: 868.1,
            airtime_ms: 46.3,
            power_dbm: None,
        },
        heard_by: Vec::new(),
        warnings: Vec::new(),
        decode_warnings: Vec::new(),
        decode_error: None,
        rehearsed: rehearsed(None),
    };
    Ok(Message {
        id: Ulid::generate().to_string(),
        time: Utc::now(),
        estate: app.directory.estate_slug(estate.id),
        fleet: row.settings.fleet.clone(),
        device: Some(DeviceRef { eui: Eui64(0), name: "no-device".into(), model: row.settings.model.clone() }),
        body: Body::Uplink(Box::new(uplink)),
    })
}

/// Messages that an outlet has given up, oldest first. They stay until they are delivered or removed.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}/dead-letters", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), Paging),
    responses((status = 200, body = Page<DeadLetter>), (status = 404, body = Problem)))]
pub(crate) async fn list_dead_letters(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    Params(paging): Params<Paging>,
) -> Answer<Page<DeadLetter>> {
    let outlet = row(&app, &estate, &slug).await?;
    let limit = paging.limit()?;
    let after = if paging.after().is_empty() { 0 } else { number("after", paging.after())? };
    let rows = app.store.dead_letters::<LetterAbout>(outlet.id, after, limit + 1).await?;
    let page = page(rows, limit, |row| row.id.to_string(), shown);
    Ok(Json(Page { items: page.items.into_iter().flatten().collect(), next: page.next }))
}

fn number(field: &str, text: &str) -> Result<u64, Problem> {
    text.parse().map_err(|_| api::problem::bad_field(field, text, "the id of a dead letter is a number"))
}

/// The outlet and the dead letter in the path.
async fn letter(
    app: &App,
    estate: &WholeEstate,
    slug: &str,
    id: &str,
) -> Result<(OutletRow, store::LetterRow<LetterAbout>), Refusal> {
    let outlet = row(app, estate, slug).await?;
    let found = match id.parse() {
        Ok(number) => app.store.dead_letter(outlet.id, number).await?,
        Err(_) => None,
    };
    Ok((outlet, found.ok_or_else(|| not_found("dead letter", id))?))
}

/// One dead letter.
#[utoipa::path(get, path = "/estates/{estate}/outlets/{outlet}/dead-letters/{letter}", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), ("letter" = String, Path)),
    responses((status = 200, body = DeadLetter), (status = 404, body = Problem)))]
pub(crate) async fn show_dead_letter(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    PathName(id): PathName,
) -> Answer<DeadLetter> {
    let (_, found) = letter(&app, &estate, &slug, &id).await?;
    shown(found).map(Json).ok_or_else(|| not_found("dead letter", id))
}

/// Removes a dead letter: its message is not delivered.
#[utoipa::path(delete, path = "/estates/{estate}/outlets/{outlet}/dead-letters/{letter}", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), ("letter" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_dead_letter(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    PathName(id): PathName,
) -> Result<StatusCode, Refusal> {
    let (outlet, found) = letter(&app, &estate, &slug, &id).await?;
    estate.audit().object(format!("dead letter {id} of outlet {slug}"));
    app.store.remove_dead_letter(outlet.id, found.id).await?;
    app.outlets.letters_removed(outlet.id, 1);
    Ok(StatusCode::NO_CONTENT)
}

/// Has a dead letter tried once more. If it is delivered, it is gone from the list.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/dead-letters/{letter}/replay", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path), ("letter" = String, Path)),
    responses((status = 200, body = Replayed), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn replay_dead_letter(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
    PathLetter(id): PathLetter,
) -> Answer<Replayed> {
    let (outlet, found) = letter(&app, &estate, &slug, &id).await?;
    estate.audit().object(format!("dead letter {id} of outlet {slug}")).note("it is tried again");
    replayed(&app, &outlet, &[found.id])
}

/// Has all dead letters tried once more, oldest first.
#[utoipa::path(post, path = "/estates/{estate}/outlets/{outlet}/dead-letters/replay", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), params(("outlet" = String, Path)),
    responses((status = 200, body = Replayed), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn replay_dead_letters(
    State(app): State<App>,
    estate: WholeEstate,
    PathOutlet(slug): PathOutlet,
) -> Answer<Replayed> {
    let outlet = row(&app, &estate, &slug).await?;
    estate.audit().object(format!("dead letters of outlet {slug}")).note("all are tried again");
    let letters = app.store.dead_letter_ids(outlet.id, MOST_REPLAYED).await?;
    replayed(&app, &outlet, &letters)
}

fn replayed(app: &App, outlet: &OutletRow, letters: &[u64]) -> Answer<Replayed> {
    let taken = app.outlets.replay(outlet.id, letters);
    if taken == 0 && !letters.is_empty() {
        let problem = Problem::new(409, "paused", "The outlet is paused");
        return Err(problem.detail("resume it first: a paused outlet sends nothing").into());
    }
    Ok(Json(Replayed { letters: taken }))
}

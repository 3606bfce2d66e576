//! The downlinks of a device.

use std::sync::Arc;

use api::Page;
use api::device::outbox::{
    ChangeOutboxItem, NewOutboxItem, OutboxItem, OutboxPlace, OutboxReadBack, OutboxState, Values,
};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use domain::Check;
use domain::downlink::{Cargo, CheckedOutboxItem, Listening};
use engine::{OutboxId, Place, Wait};
use lorawan::Eui64;
use store::DeviceContext;
use ulid::Ulid;

use crate::decoding::decoder;
use crate::downlinks::{Carried, Encoding, NotAdded};
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathEui, PathName, WholeEstate, page};
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::models::turns::Purpose;

impl From<NotAdded> for Refusal {
    fn from(why: NotAdded) -> Self {
        match why {
            NotAdded::Refused(problem) => problem.into(),
            NotAdded::Store(error) => error.into(),
        }
    }
}

/// A device or a multicast group of the estate; both have an outbox.
pub(crate) fn known(app: &App, estate: &WholeEstate, dev_eui: Eui64) -> Result<DeviceContext, Refusal> {
    let known = app.directory.device(dev_eui).filter(|device| device.estate_id == estate.id);
    known.ok_or_else(|| not_found("device", dev_eui))
}

/// The same, if the caller may reach it.
pub(crate) fn within_reach(app: &App, estate: &WholeEstate, dev_eui: Eui64) -> Result<DeviceContext, Refusal> {
    let device = known(app, estate, dev_eui)?;
    if estate.context.visibility.covers(dev_eui, &device.fleet) {
        Ok(device)
    } else {
        Err(not_found("device", dev_eui))
    }
}

fn id(field: &str, text: &str) -> Result<Ulid, Refusal> {
    Ulid::from_string(text).map_err(|_| bad_field(field, text, "a ULID of 26 letters and digits is wanted").into())
}

/// A device's downlinks, newest first, including those that are done.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/outbox", tag = "outbox",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), Paging),
    responses((status = 200, body = Page<OutboxItem>), (status = 404, body = Problem)))]
pub(crate) async fn list_outbox(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Params(paging): Params<Paging>,
) -> Answer<Page<OutboxItem>> {
    known(&app, &estate, eui)?;
    let limit = paging.limit()?;
    let before = paging.after.as_deref().map(|text| id("after", text)).transpose()?;
    let mut rows = app.store.outbox(eui, before, limit + 1).await?;
    if rows.iter().any(|item| item.state == OutboxState::Waiting) {
        let line = app.network.outbox_line(eui).await;
        let (listening, _) = app.downlinks.listening(estate.id, eui).await?;
        for item in rows.iter_mut().filter(|item| item.state == OutboxState::Waiting) {
            let id = OutboxId(id("id", &item.id)?.0);
            tell_place(item, ahead_of(&line, id), &listening);
        }
    }
    Ok(Json(page(rows, limit, |item| item.id.clone(), |item| item)))
}

/// How many waiting downlinks go before this one.
fn ahead_of(line: &[OutboxId], id: OutboxId) -> Option<u32> {
    line.iter().position(|other| *other == id).and_then(|at| u32::try_from(at).ok())
}

/// Adds to a waiting item how many go before it, and when it is expected to go.
fn tell_place(item: &mut OutboxItem, ahead: Option<u32>, listening: &Listening) {
    let Some(ahead) = ahead else { return };
    (item.ahead, item.expected_at) = (Some(ahead), listening.expects(ahead));
    // What waits behind others waits for them, whatever it waits for then.
    if ahead > 0 && item.attempts == 0 {
        item.note = Some(behind(ahead));
    }
}

fn behind(ahead: u32) -> String {
    match ahead {
        1 => "waits for the one before it".into(),
        n => format!("waits for the {n} before it"),
    }
}

/// Port and payload of a downlink; named values are encoded. With them, the encoder's warnings.
pub(crate) async fn payload_of(
    app: &App,
    estate: &WholeEstate,
    device: &DeviceContext,
    cargo: Cargo,
) -> Result<Encoding, Refusal> {
    let to_encode = match app.downlinks.carried(estate.id, device, cargo).await? {
        Carried::Bytes { port, payload } => return Ok((port, payload, Vec::new())),
        Carried::Values(to_encode) => to_encode,
    };
    let (decoder, values) = (Arc::clone(&to_encode.decoder), to_encode.values.clone());
    let encoded = app.run_scripts(estate, Purpose::Calls, move || decoder::encode(&decoder, &values)).await?;
    Ok(to_encode.encoded(encoded)?)
}

/// A downlink that can be added, and what it will wait for.
struct Ready {
    new: CheckedOutboxItem,
    port: u8,
    payload: Vec<u8>,
    warnings: Vec<String>,
    wait: Wait,
    listening: Listening,
}

async fn ready(app: &App, estate: &WholeEstate, eui: Eui64, new: &NewOutboxItem) -> Result<Ready, Refusal> {
    let device = known(app, estate, eui)?;
    let new = new.check()?;
    app.downlinks.check(eui, &new).await?;
    let (port, payload, warnings) = payload_of(app, estate, &device, new.cargo.clone()).await?;
    let (listening, wait) = app.downlinks.listening(estate.id, eui).await?;
    Ok(Ready { new, port, payload, warnings, wait, listening })
}

/// Numbers compare by value: 40 and 40.0 are equal.
fn same(a: &serde_json::Value, b: &serde_json::Value) -> bool {
    match (a.as_f64(), b.as_f64()) {
        (Some(a), Some(b)) => (a - b).abs() <= 1e-9 * a.abs().max(1.0),
        _ => a == b,
    }
}

/// The named values in a downlink, if the device's model can decode it.
async fn read_back(
    app: &App,
    estate: &WholeEstate,
    eui: Eui64,
    port: u8,
    payload: &[u8],
) -> Result<Option<Result<Values, String>>, Refusal> {
    let model = known(app, estate, eui)?.model;
    let decoder = model.and_then(|model| app.directory.decoder(estate.id, &model, eui));
    let Some(decoder) = decoder else { return Ok(None) };
    let payload = payload.to_vec();
    app.run_scripts(estate, Purpose::Calls, move || decoder::read_downlink(&decoder, port, &payload)).await
}

/// Previews a downlink: its payload, and when it would go. Nothing is added.
#[utoipa::path(post, path = "/estates/{estate}/devices/{eui}/outbox/check", tag = "outbox",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path)), request_body = NewOutboxItem,
    responses((status = 200, body = OutboxReadBack), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn check_outbox_item(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(new): Json<NewOutboxItem>,
) -> Answer<OutboxReadBack> {
    let Ready { new, port, payload, mut warnings, wait, listening } = ready(&app, &estate, eui, &new).await?;
    let reads_as = match read_back(&app, &estate, eui, port, &payload).await? {
        Some(Ok(values)) => Some(values),
        Some(Err(why)) => {
            warnings.push(format!("Its model's decoder cannot read this downlink: {why}"));
            None
        }
        None => None,
    };
    if let (Cargo::Values { values, .. }, Some(read)) = (&new.cargo, &reads_as) {
        // Names that are in both have to say the same: else encoder and decoder are not each other's counterparts.
        let other =
            |(name, value): &(&String, &serde_json::Value)| read.get(*name).is_some_and(|read| !same(read, value));
        warnings.extend(values.iter().find(other).map(|(name, value)| {
            format!("The encoder was given {name} = {value}, and the decoder reads {} out of it.", read[name])
        }));
    }
    let ahead = match new.first {
        true => 0,
        false => u32::try_from(app.network.outbox_line(eui).await.len()).unwrap_or(u32::MAX),
    };
    let note = if ahead == 0 { wait.to_string() } else { behind(ahead) };
    let expected_at = listening.expects(ahead);
    let length = payload.len();
    let payload = hex::encode(payload);
    Ok(Json(OutboxReadBack { port, payload, length, reads_as, note, ahead, expected_at, warnings }))
}

/// Adds a downlink to a device's outbox.
#[utoipa::path(post, path = "/estates/{estate}/devices/{eui}/outbox", tag = "outbox",
    extensions(("x-right" = json!("send"))),
    params(("eui" = String, Path)), request_body = NewOutboxItem,
    responses((status = 201, body = OutboxItem), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_to_outbox(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    Json(new): Json<NewOutboxItem>,
) -> Made<OutboxItem> {
    let Ready { new, port, payload, wait, listening, .. } = ready(&app, &estate, eui, &new).await?;
    let mut stored = app.downlinks.add(eui, &new, (port, payload), wait).await?;
    estate.audit().object(format!("outbox of {}", known(&app, &estate, eui)?.name)).made(&serde_json::json!({
        "id": stored.id, "port": stored.port, "payload": stored.payload, "confirmed": stored.confirmed,
    }));
    let id = OutboxId(id("id", &stored.id)?.0);
    tell_place(&mut stored, ahead_of(&app.network.outbox_line(eui).await, id), &listening);
    Ok(Created { at: estate.path(format_args!("devices/{eui}/outbox/{}", stored.id)), made: stored })
}

/// One downlink of a device's outbox, waiting or done.
#[utoipa::path(get, path = "/estates/{estate}/devices/{eui}/outbox/{id}", tag = "outbox",
    extensions(("x-right" = json!("view"))),
    params(("eui" = String, Path), ("id" = String, Path)),
    responses((status = 200, body = OutboxItem), (status = 404, body = Problem)))]
pub(crate) async fn show_outbox_item(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    PathName(name): PathName,
) -> Answer<OutboxItem> {
    known(&app, &estate, eui)?;
    let item = app.store.outbox_item(eui, id("id", &name)?).await?;
    item.map(Json).ok_or_else(|| not_found("downlink", name))
}

/// Changes a waiting downlink: moves it to another place in its queue.
#[utoipa::path(patch, path = "/estates/{estate}/devices/{eui}/outbox/{id}", tag = "outbox",
    extensions(("x-right" = json!("send"))),
    params(("eui" = String, Path), ("id" = String, Path)), request_body = ChangeOutboxItem,
    responses((status = 200, body = OutboxItem), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change_outbox_item(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    PathName(name): PathName,
    Json(ChangeOutboxItem { place }): Json<ChangeOutboxItem>,
) -> Answer<OutboxItem> {
    known(&app, &estate, eui)?;
    let item_id = id("id", &name)?;
    let item = app.store.outbox_item(eui, item_id).await?.ok_or_else(|| not_found("downlink", &name))?;
    let to = match &place {
        OutboxPlace::First => Place::First,
        OutboxPlace::Last => Place::Last,
        OutboxPlace::Before(other) => Place::Before(OutboxId(id("before", other)?.0)),
    };
    if app.network.arrange(eui, OutboxId(item_id.0), to).await {
        let ahead = ahead_of(&app.network.outbox_line(eui).await, OutboxId(item_id.0));
        return Ok(Json(OutboxItem { ahead, ..item }));
    }
    if let OutboxPlace::Before(other) = &place
        && item.state == OutboxState::Waiting
    {
        return Err(bad_field("before", other, "it is not among those that wait").into());
    }
    Err(no_longer_waits(&item))
}

fn no_longer_waits(item: &OutboxItem) -> Refusal {
    let problem = Problem::new(409, "not_waiting", "It no longer waits in the outbox");
    Refusal(problem.detail(format!("its state is: {}", item.state.label())))
}

/// Removes a downlink from the outbox, if it has not been sent yet.
#[utoipa::path(delete, path = "/estates/{estate}/devices/{eui}/outbox/{id}", tag = "outbox",
    extensions(("x-right" = json!("send"))),
    params(("eui" = String, Path), ("id" = String, Path)),
    responses((status = 200, body = OutboxItem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn cancel(
    State(app): State<App>,
    estate: WholeEstate,
    PathEui(eui): PathEui,
    PathName(name): PathName,
) -> Answer<OutboxItem> {
    known(&app, &estate, eui)?;
    let id = id("id", &name)?;
    let item = app.store.outbox_item(eui, id).await?.ok_or_else(|| not_found("downlink", &name))?;
    if app.network.cancel(eui, OutboxId(id.0)).await {
        return Ok(Json(OutboxItem { state: OutboxState::Cancelled, note: None, ..item }));
    }
    Err(no_longer_waits(&item))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn numbers_are_compared_by_value_and_all_else_as_it_stands() {
        assert!(same(&json!(40), &json!(40.0)) && same(&json!(0.1), &json!(0.1 + 1e-17)));
        assert!(!same(&json!(40), &json!(41)) && !same(&json!(0.001), &json!(0.002)));
        assert!(same(&json!("ebb"), &json!("ebb")) && !same(&json!("40"), &json!(40)));
        assert!(same(&json!(null), &json!(null)) && !same(&json!(true), &json!(1)));
    }

    #[test]
    fn what_waits_says_behind_how_many() {
        assert_eq!(
            (behind(1).as_str(), behind(2).as_str()),
            ("waits for the one before it", "waits for the 2 before it")
        );
    }
}

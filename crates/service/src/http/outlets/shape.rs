//! Trying a shape on stored messages, before anything is sent.

use api::outlet::{MessageType, ShapeTrial, ShapeTried, TriedMessage};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use domain::outlet::check::shape as check;
use store::{MessageQuery, WrittenMessage};

use crate::decoding::workers::{Cause, Failure};
use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::extract::WholeEstate;
use crate::http::json::{Answer, Json};
use crate::http::models::turns::Purpose;
use crate::outlets::Shaper;

/// Messages that a shape is tried on, if nobody says how many; and at most.
const USUAL: u32 = 5;
const MOST: u32 = 20;

/// Tries a shape on the latest messages: what would be sent of each. Nothing is sent.
#[utoipa::path(post, path = "/estates/{estate}/outlets/shape", tag = "outlets",
    extensions(("x-right" = json!("outlets"))), request_body = ShapeTrial,
    responses((status = 200, body = ShapeTried), (status = 422, body = Problem)))]
pub(crate) async fn try_shape(
    State(app): State<App>,
    estate: WholeEstate,
    Json(trial): Json<ShapeTrial>,
) -> Answer<ShapeTried> {
    check(&trial.shape)?;
    let found = match trial.events.as_slice() {
        [] => latest_messages(&app, &estate, &trial).await?,
        events => {
            let numbers = numbers(&trial, events)?;
            let found = app.store.told_of(estate.id, &numbers).await?;
            found.into_iter().map(|message| message.written).collect()
        }
    };
    let shaper = Shaper::new(&trial.shape);
    let items = app.run_scripts(&estate, Purpose::Calls, move || {
        found.into_iter().map(|written| tried(&shaper, written)).collect()
    });
    Ok(Json(ShapeTried { items: items.await? }))
}

/// The numbers of events.
fn numbers(trial: &ShapeTrial, events: &[String]) -> Result<Vec<u64>, Problem> {
    if events.len() > MOST as usize {
        return Err(bad_field("events", &events.len().to_string(), format!("at most {MOST} are allowed")));
    }
    let chosen_otherwise = [
        ("fleet", trial.fleet.is_some()),
        ("types", !trial.types.is_empty()),
        ("model", trial.model.is_some()),
        ("latest", trial.latest.is_some()),
    ];
    if let Some((field, _)) = chosen_otherwise.into_iter().find(|(_, given)| *given) {
        return Err(bad_field(field, "what was given", "with events, nothing else says which messages"));
    }
    let number = |event: &String| event.parse().map_err(|_| bad_field("events", event, "the id of an event"));
    events.iter().map(number).collect()
}

async fn latest_messages(app: &App, estate: &WholeEstate, trial: &ShapeTrial) -> Result<Vec<WrittenMessage>, Refusal> {
    let latest = trial.latest.unwrap_or(USUAL);
    if !(1..=MOST).contains(&latest) {
        return Err(bad_field("latest", &latest.to_string(), format!("1 to {MOST} are allowed")).into());
    }
    let types = if trial.types.is_empty() { MessageType::ALL.to_vec() } else { trial.types.clone() };
    let which = MessageQuery {
        fleet: trial.fleet.clone(),
        model: trial.model.clone(),
        kinds: types.iter().map(|kind| kind.name().to_owned()).collect(),
        ..MessageQuery::default()
    };
    let found = app.store.messages(estate.id, &which, latest).await?;
    Ok(found.into_iter().map(|message| WrittenMessage::new(estate.id, message)).collect::<Result<_, _>>()?)
}

fn tried(shaper: &Shaper, written: WrittenMessage) -> TriedMessage {
    let made = shaper.try_one(&written).and_then(|json| {
        json.map(|json| serde_json::from_str(&json))
            .transpose()
            .map_err(|why| Failure::other(Cause::Other, why.to_string()))
    });
    match made {
        Ok(after) => TriedMessage { before: written.message, after, why: None },
        Err(failure) => TriedMessage { before: written.message, after: None, why: Some((&failure).into()) },
    }
}

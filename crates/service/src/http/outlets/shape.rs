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
    let latest = trial.latest.unwrap_or(USUAL);
    if !(1..=MOST).contains(&latest) {
        return Err(bad_field("latest", &latest.to_string(), format!("1 to {MOST} are allowed")).into());
    }
    check(&trial.shape)?;
    let found = latest_messages(&app, &estate, &trial, latest).await?;
    let shaper = Shaper::new(&trial.shape);
    let items = app.run_scripts(&estate, Purpose::Calls, move || {
        found.into_iter().map(|written| tried(&shaper, written)).collect()
    });
    Ok(Json(ShapeTried { items: items.await? }))
}

async fn latest_messages(
    app: &App,
    estate: &WholeEstate,
    trial: &ShapeTrial,
    latest: u32,
) -> Result<Vec<WrittenMessage>, Refusal> {
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

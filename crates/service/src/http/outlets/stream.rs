//! Messages for those who fetch them: in the order of their commits, from any place of the history on, so that none is missed
//! in a gap of days.

use std::convert::Infallible;
use std::time::Duration;

use api::outlet::{MessageType, NextMessages};
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive};
use axum::response::{IntoResponse, Sse};
use chrono::{DateTime, Utc};
use domain::grants::Visibility;
use domain::outlet::Choice;
use futures::stream::{self, StreamExt as _};
use serde::Deserialize;
use store::{StoreError, WrittenMessage};

use crate::http::app::App;
use crate::http::auth::authenticate::Listener;
use crate::http::auth::presented::Presented;
use crate::http::error::Refusal;
use crate::http::extract::{Params, VisibleEstate, WholeEstate};
use crate::http::json::{Answer, Json};
use crate::outlets::Reader;

/// The header that says where a stream begins.
const PLACE: &str = "keen-heron-place";
/// Messages that are read at a time for a stream.
const AT_ONCE: usize = 200;
/// The longest time that an answer waits for a message.
const LONGEST_WAIT_S: f64 = 60.0;
/// Before the database is asked again.
const RETRY: Duration = Duration::from_secs(2);

/// Which messages, and from where on.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Only those of this fleet.
    fleet: Option<String>,
    /// Only those of devices of this model.
    model: Option<String>,
    /// Only those of these types, separated by commas: uplink, join, refused, downlink, notice.
    #[serde(rename = "type")]
    kind: Option<String>,
    /// The `next` of the answer before, or the id of the last event.
    after: Option<String>,
    /// From when on (RFC 3339), if nothing is said after which; from now on otherwise.
    since: Option<DateTime<Utc>>,
}

/// How long to wait, and for how many.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Patience {
    /// Seconds to wait for a message if there is none yet; 0 if not given.
    #[param(minimum = 0, maximum = 60)]
    wait_s: Option<f64>,
    /// Messages at most; 100 if not given.
    #[param(minimum = 1, maximum = 500)]
    limit: Option<u32>,
}

/// What is given to somebody.
struct Filter {
    fleet: Option<String>,
    model: Option<String>,
    types: Vec<MessageType>,
    visibility: Visibility,
}

impl Filter {
    fn takes(&self, written: &WrittenMessage) -> bool {
        let message = &written.message;
        let seen = match (&self.visibility, &message.device) {
            (Visibility::Whole, _) => true,
            (visibility, Some(device)) => visibility.covers(device.eui, message.fleet.as_deref().unwrap_or_default()),
            (_, None) => false,
        };
        let (fleet, model) = (self.fleet.as_deref(), self.model.as_deref());
        let choice = Choice { fleet, model, types: &self.types, ..Choice::default() };
        seen && choice.takes(message, |_| true)
    }
}

impl Wanted {
    /// Whom the messages are for, and where they are read from; `last` goes before what the query says.
    async fn read(self, app: &App, estate: &WholeEstate, last: Option<&str>) -> Result<(Filter, Reader), Refusal> {
        let position = match (last.or(self.after.as_deref()), self.since) {
            (Some(after), _) => {
                let until = app.outlets.until();
                let known = after.parse().ok().filter(|position: &u64| *position <= until);
                known.ok_or_else(|| bad_field("after", after, "the `next` of an answer, or the id of an event"))?
            }
            (None, Some(since)) => {
                app.store.told_before(estate.id, since).await?.unwrap_or_else(|| app.outlets.until())
            }
            (None, None) => app.outlets.until(),
        };
        let types = types(self.kind.as_deref())?;
        let visibility = estate.context.visibility.clone();
        let filter = Filter { fleet: self.fleet, model: self.model, types, visibility };
        Ok((filter, app.outlets.reader(estate.id, position)))
    }
}

fn types(list: Option<&str>) -> Result<Vec<MessageType>, Problem> {
    let words = list.into_iter().flat_map(|list| list.split(',')).map(str::trim);
    let read = |word: &str| {
        let names: Vec<&str> = MessageType::ALL.iter().map(|kind| kind.name()).collect();
        let found = MessageType::ALL.into_iter().find(|kind| kind.name() == word);
        found.ok_or_else(|| bad_field("type", word, format!("{} are allowed", names.join(", "))))
    };
    words.map(read).collect()
}

/// The next messages in the order of their commits, after a place in the history. If there are none yet, the answer waits for
/// the first. Each message is given once it is whole: an uplink with its readings.
#[utoipa::path(get, path = "/estates/{estate}/messages", tag = "traffic",
    extensions(("x-right" = json!("view"))), params(Wanted, Patience),
    responses((status = 200, body = NextMessages), (status = 422, body = Problem)))]
pub(crate) async fn next_messages(
    State(app): State<App>,
    VisibleEstate { estate, .. }: VisibleEstate,
    Params(wanted): Params<Wanted>,
    Params(patience): Params<Patience>,
) -> Answer<NextMessages> {
    let wait_s = domain::input::range("wait_s", patience.wait_s.unwrap_or(0.0), 0.0, LONGEST_WAIT_S, "s")?;
    let limit = domain::input::range("limit", f64::from(patience.limit.unwrap_or(100)), 1.0, 500.0, "messages")?;
    let one_of_few = app.streams.begin(estate.context.who.person.id);
    let _one_of_few = one_of_few.ok_or_else(|| Refusal::too_many("live streams"))?;
    let (filter, mut reader) = wanted.read(&app, &estate, None).await?;
    let end = tokio::time::Instant::now() + Duration::from_secs_f64(wait_s);
    let stopping = app.live.stopping();
    loop {
        let found =
            if reader.is_behind() { reader.read(limit as usize, |one| filter.takes(one)).await? } else { Vec::new() };
        let over = tokio::time::Instant::now() >= end || stopping.is_cancelled();
        if !found.is_empty() || over {
            let items = found.iter().map(|(_, written)| written.message.clone()).collect();
            return Ok(Json(NextMessages { items, next: reader.position().to_string() }));
        }
        tokio::select! {
            () = reader.more() => {}
            () = tokio::time::sleep_until(end) => {}
            () = stopping.cancelled() => {}
        }
    }
}

/// The same as Server-Sent Events. Each event's data is a message, and its id a place in the history: who comes back with
/// `Last-Event-ID` gets all that followed, however long that was ago. The header `Keen-Heron-Place` says where it begins.
#[utoipa::path(get, path = "/estates/{estate}/messages/stream", tag = "traffic",
    extensions(("x-right" = json!("view"))), params(Wanted),
    responses((status = 200, content_type = "text/event-stream", body = api::message::Message),
        (status = 422, body = Problem)))]
pub(crate) async fn stream_messages(
    State(app): State<App>,
    VisibleEstate { estate, .. }: VisibleEstate,
    presented: Presented,
    Params(wanted): Params<Wanted>,
    headers: HeaderMap,
) -> Result<impl IntoResponse, Refusal> {
    let person = estate.context.who.person.id;
    let one_of_few = app.streams.begin(person).ok_or_else(|| Refusal::too_many("live streams"))?;
    let last = headers.get("last-event-id").and_then(|id| id.to_str().ok());
    let (filter, reader) = wanted.read(&app, &estate, last).await?;
    let lost = Listener { app: app.clone(), presented, context: estate.context }.lost();
    // Who leaves before the first message knows where to go on from.
    let place = [(PLACE, reader.position().to_string())];
    let messages = stream::unfold((reader, filter), |(mut reader, filter)| async move {
        loop {
            reader.more().await;
            match reader.read(AT_ONCE, |one| filter.takes(one)).await {
                Ok(found) if found.is_empty() => {}
                Ok(found) => return Some((stream::iter(found), (reader, filter))),
                Err(why) => wait_for(&why).await,
            }
        }
    });
    let ends = futures::future::select(Box::pin(app.live.stopping().cancelled_owned()), Box::pin(lost));
    let hello = stream::once(std::future::ready(Event::default().comment("listening")));
    let messages = messages.flatten().map(|(told, written)| Event::default().id(told.to_string()).data(&written.json));
    let events = hello.chain(messages).take_until(ends).map(move |event| {
        // It counts as long as somebody listens.
        let _counts = &one_of_few;
        Ok::<_, Infallible>(event)
    });
    Ok((place, Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(15)))))
}

async fn wait_for(why: &StoreError) {
    tracing::debug!("a stream of messages waits for the database: {why}");
    tokio::time::sleep(RETRY).await;
}

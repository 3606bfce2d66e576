//! Traffic: the history, and the live stream by Server-Sent Events.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use api::Page;
use api::message::Message;
use api::problem::{Problem, bad_field};
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive};
use axum::response::{Response, Sse};
use chrono::{DateTime, Utc};
use domain::grants::Visibility;
use futures::stream::{self, Stream, StreamExt as _};
use lorawan::Eui64;
use serde::Deserialize;
use store::{EstateId, MessageQuery, Named};
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::wrappers::errors::BroadcastStreamRecvError;

use crate::history::messages;
use crate::http::app::App;
use crate::http::auth::authenticate::Listener;
use crate::http::auth::presented::Presented;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, VisibleEstate, page};
use crate::http::file::{WantedForm, written_file};
use crate::http::json::{Answer, Json};
use crate::pipeline::live::Takes;

const KINDS: [&str; 6] = ["uplink", "join", "refused", "downlink", "notice", "gateway"];
/// Missed messages sent to a listener that comes back.
const MAX_MISSED: u32 = 1000;

/// Which messages.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Only those of this device: its DevEUI or name.
    device: Option<String>,
    /// Only those that this gateway heard or sent, and its news: its EUI or name.
    gateway: Option<String>,
    /// Only those of these types, separated by commas: uplink, join, refused, downlink, notice, gateway.
    #[serde(rename = "type")]
    kind: Option<String>,
}

struct Filter {
    device: Option<Eui64>,
    gateway: Option<Eui64>,
    kinds: Vec<String>,
}

impl Which {
    async fn check(&self, app: &App, estate: EstateId) -> Result<Filter, Refusal> {
        Ok(Filter {
            device: eui_of(app, estate, Named::Device, self.device.as_deref()).await?,
            gateway: eui_of(app, estate, Named::Gateway, self.gateway.as_deref()).await?,
            kinds: kinds(self.kind.as_deref())?,
        })
    }
}

/// The types in a list.
fn kinds(list: Option<&str>) -> Result<Vec<String>, Problem> {
    let kinds: Vec<String> = list.iter().flat_map(|list| list.split(',')).map(|kind| kind.trim().to_owned()).collect();
    match kinds.iter().find(|kind| !KINDS.contains(&kind.as_str())) {
        Some(other) => Err(bad_field("type", other, format!("{} are allowed", KINDS.join(", ")))),
        None => Ok(kinds),
    }
}

impl Filter {
    fn takes(&self, message: &Message) -> bool {
        let device = self.device.is_none_or(|eui| message.device.as_ref().is_some_and(|d| d.eui == eui));
        let gateway = self.gateway.is_none_or(|eui| message.body.is_of(eui));
        device && gateway && (self.kinds.is_empty() || self.kinds.iter().any(|kind| kind == message.body.kind()))
    }
}

/// Which of the stored messages.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Past {
    /// Only those of this device: its DevEUI or name.
    device: Option<String>,
    /// Only those of devices of this fleet.
    fleet: Option<String>,
    /// Only those of devices of this model.
    model: Option<String>,
    /// Only those of devices with this tag.
    tag: Option<String>,
    /// Only those that this gateway heard or sent: its EUI or name.
    gateway: Option<String>,
    /// Only those of these types, separated by commas: uplink, join, refused, downlink, notice.
    #[serde(rename = "type")]
    kind: Option<String>,
    /// From when on (RFC 3339), by when they were made: some 0.2 s after a frame was heard, later after an outage.
    since: Option<DateTime<Utc>>,
    /// Until when; now if not given.
    until: Option<DateTime<Utc>>,
}

impl Past {
    async fn query(self, app: &App, visible: &VisibleEstate) -> Result<MessageQuery, Refusal> {
        let estate = visible.estate.id;
        let device = eui_of(app, estate, Named::Device, self.device.as_deref()).await?;
        let gateway = eui_of(app, estate, Named::Gateway, self.gateway.as_deref()).await?;
        let kinds = kinds(self.kind.as_deref())?;
        if kinds.iter().any(|kind| kind == "gateway") {
            let allowed = "what gateways do is in the live stream only; for the past, list the events of a gateway";
            return Err(bad_field("type", "gateway", allowed).into());
        }
        let within = visible.within.clone();
        let Self { fleet, model, tag, since, until, .. } = self;
        let order = MessageQuery::default();
        Ok(MessageQuery { device, gateway, fleet, model, tag, within, kinds, since, until, ..order })
    }
}

/// The EUI of a device or gateway that is given by EUI or name.
async fn eui_of(app: &App, estate: EstateId, kind: Named, given: Option<&str>) -> Result<Option<Eui64>, Refusal> {
    match given {
        Some(text) => app.eui_of(estate, kind, text).await.map(Some),
        None => Ok(None),
    }
}

/// Messages, newest first.
#[utoipa::path(get, path = "/estates/{estate}/traffic", tag = "traffic",
    extensions(("x-right" = json!("view"))),
    params(Past, Paging),
    responses((status = 200, body = Page<Message>), (status = 422, body = Problem)))]
pub(crate) async fn history(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(past): Params<Past>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Message>> {
    let limit = paging.limit()?;
    let which = MessageQuery { after: paging.after.clone(), ..past.query(&app, &visible).await? };
    let rows = app.store.messages(visible.estate.id, &which, limit + 1).await?;
    Ok(Json(page(rows, limit, |message| message.id.clone(), |message| message)))
}

/// Messages as a file, oldest first.
#[utoipa::path(get, path = "/estates/{estate}/traffic/export", tag = "traffic",
    extensions(("x-right" = json!("view"))),
    params(Past, WantedForm),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 422, body = Problem)))]
pub(crate) async fn export_traffic(
    State(app): State<App>,
    visible: VisibleEstate,
    Params(past): Params<Past>,
    Params(form): Params<WantedForm>,
) -> Result<Response, Refusal> {
    let form = form.read()?;
    let (which, estate) = (past.query(&app, &visible).await?, visible.estate.id);
    let person = visible.estate.context.who.person.id;
    let (store, name) = (app.store.clone(), format!("traffic.{}", form.name()));
    let write = async move |parts| messages::export(&store, estate, form, which, &parts).await;
    written_file((&app, person), (&name, form.content_type()), write).await
}

/// New messages as Server-Sent Events; each event's data is a message. A listener that
/// comes back with `Last-Event-ID` gets what it missed. An event `gap` says how many were skipped.
#[utoipa::path(get, path = "/estates/{estate}/live", tag = "traffic",
    extensions(("x-right" = json!("view"))),
    params(Which),
    responses((status = 200, content_type = "text/event-stream", body = Message), (status = 422, body = Problem)))]
pub(crate) async fn live(
    State(app): State<App>,
    VisibleEstate { estate, .. }: VisibleEstate,
    presented: Presented,
    Params(which): Params<Which>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Refusal> {
    let person = estate.context.who.person.id;
    let one_of_few = app.streams.begin(person).ok_or_else(|| Refusal::too_many("live streams"))?;
    let filter = Arc::new((which.check(&app, estate.id).await?, estate.context.visibility.clone()));
    let (id, later) = (estate.id, Arc::clone(&filter));
    let takes_news: Takes = Arc::new(move |news| news.estate_id == id && takes(&later, &news.message));
    let lost = Listener { app: app.clone(), presented, context: estate.context }.lost();
    // Listening begins before the history is read: what comes in between may come twice, never not.
    let (receiver, listening) = app.live.listen(Arc::clone(&takes_news));
    let missed = match headers.get("last-event-id").and_then(|id| id.to_str().ok()) {
        Some(last) => app.store.messages_since(estate.id, last, MAX_MISSED).await?,
        None => Vec::new(),
    };
    let missed: Vec<Event> =
        missed.into_iter().filter(|missed| takes(&filter, missed)).map(|missed| event(&missed)).collect();
    let news = BroadcastStream::new(receiver).filter_map(move |received| {
        std::future::ready(match received {
            Ok(news) if takes_news(&news) => Some(Event::default().id(&news.message.id).data(&news.json)),
            Ok(_) => None,
            Err(BroadcastStreamRecvError::Lagged(count)) => Some(Event::default().event("gap").data(count.to_string())),
        })
    });
    // A first comment, so that a listener knows at once that it is connected.
    let hello = stream::once(std::future::ready(Event::default().comment("listening")));
    let ends = futures::future::select(Box::pin(app.live.stopping().cancelled_owned()), Box::pin(lost));
    let events = hello.chain(stream::iter(missed)).chain(news).take_until(ends).map(move |event| {
        // It counts as long as somebody listens.
        let _counts = (&one_of_few, &listening);
        Ok(event)
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

/// Whether a listener wants a message, and may see it.
fn takes((filter, visibility): &(Filter, Visibility), message: &Message) -> bool {
    let fleet = message.fleet.as_deref().unwrap_or_default();
    let reached = match (visibility, &message.device) {
        (Visibility::Whole, _) => true,
        (visibility, Some(device)) => visibility.covers(device.eui, fleet),
        (_, None) => false,
    };
    reached && filter.takes(message)
}

fn event(message: &Message) -> Event {
    Event::default().id(message.id.clone()).data(serde_json::to_string(message).unwrap_or_default())
}

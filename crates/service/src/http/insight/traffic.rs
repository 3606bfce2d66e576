//! Traffic: the history, and the live stream by Server-Sent Events.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use api::Page;
use api::message::Message;
use api::problem::Problem;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use domain::grants::Visibility;
use futures::stream::{self, Stream, StreamExt as _};
use lorawan::Eui64;
use serde::Deserialize;
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::wrappers::errors::BroadcastStreamRecvError;

use crate::http::app::App;
use crate::http::auth::authenticate::Listener;
use crate::http::auth::presented::Presented;
use crate::http::error::Refusal;
use crate::http::extract::{Paging, Params, VisibleEstate, page};
use crate::http::json::{Answer, Json};

const KINDS: [&str; 6] = ["uplink", "join", "refused", "downlink", "notice", "gateway"];
/// Missed messages sent to a listener that comes back.
const MAX_MISSED: u32 = 1000;

/// Which messages.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Which {
    /// Only those of this device.
    device: Option<String>,
    /// Only those of these types, separated by commas: uplink, join, refused, downlink, notice, gateway.
    #[serde(rename = "type")]
    kind: Option<String>,
}

struct Filter {
    device: Option<Eui64>,
    kinds: Vec<String>,
}

impl Which {
    fn check(&self) -> Result<Filter, Problem> {
        let device = self.device.as_deref().map(|text| domain::input::eui("device", text)).transpose()?;
        let kinds: Vec<String> =
            self.kind.iter().flat_map(|list| list.split(',')).map(|kind| kind.trim().to_owned()).collect();
        match kinds.iter().find(|kind| !KINDS.contains(&kind.as_str())) {
            Some(other) => Err(api::problem::bad_field("type", other, format!("{} are allowed", KINDS.join(", ")))),
            None => Ok(Filter { device, kinds }),
        }
    }
}

impl Filter {
    fn takes(&self, message: &Message) -> bool {
        let device = self.device.is_none_or(|eui| message.device.as_ref().is_some_and(|d| d.eui == eui));
        device && (self.kinds.is_empty() || self.kinds.iter().any(|kind| kind == message.body.kind()))
    }
}

/// Messages, newest first.
#[utoipa::path(get, path = "/estates/{estate}/traffic", tag = "traffic",
    extensions(("x-right" = json!("view"))),
    params(Which, Paging),
    responses((status = 200, body = Page<Message>), (status = 422, body = Problem)))]
pub(crate) async fn history(
    State(app): State<App>,
    VisibleEstate { estate, within }: VisibleEstate,
    Params(which): Params<Which>,
    Params(paging): Params<Paging>,
) -> Answer<Page<Message>> {
    let (filter, limit) = (which.check()?, paging.limit()?);
    if filter.kinds.iter().any(|kind| kind == "gateway") {
        let allowed = "what gateways do is in the live stream only; for the past, list the events of a gateway";
        return Err(api::problem::bad_field("type", "gateway", allowed).into());
    }
    let before = paging.after.as_deref();
    let rows =
        app.store.messages(estate.id, (filter.device, within.as_ref()), &filter.kinds, before, limit + 1).await?;
    Ok(Json(page(rows, limit, |message| message.id.clone(), |message| message)))
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
    let filter = Arc::new((which.check()?, estate.context.visibility.clone()));
    let lost = Listener { app: app.clone(), presented, context: estate.context }.lost();
    // Listening begins before the history is read: what comes in between may come twice, never not.
    let receiver = app.live.listen();
    let missed = match headers.get("last-event-id").and_then(|id| id.to_str().ok()) {
        Some(last) => app.store.messages_since(estate.id, last, MAX_MISSED).await?,
        None => Vec::new(),
    };
    let (first, later) = (Arc::clone(&filter), filter);
    let missed = stream::iter(missed).filter_map(move |m| std::future::ready(takes(&first, &m).then(|| event(&m))));
    let news = BroadcastStream::new(receiver).filter_map(move |received| {
        std::future::ready(match received {
            Ok(news) if news.estate_id == estate.id && takes(&later, &news.message) => {
                Some(Event::default().id(&news.message.id).data(&news.json))
            }
            Ok(_) => None,
            Err(BroadcastStreamRecvError::Lagged(count)) => Some(Event::default().event("gap").data(count.to_string())),
        })
    });
    // A first comment, so that a listener knows at once that it is connected.
    let hello = stream::once(std::future::ready(Event::default().comment("listening")));
    let ends = futures::future::select(Box::pin(app.live.stopping().cancelled_owned()), Box::pin(lost));
    let events = hello.chain(missed).chain(news).take_until(ends).map(Ok);
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

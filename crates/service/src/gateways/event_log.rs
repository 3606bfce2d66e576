//! The log of gateway events: connects, rejections, restarts, changes.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use api::gateway::GatewayState;
use api::gateway::event::{GatewayEvent, GatewayEventKind};
use chrono::{DateTime, TimeDelta, Utc};
use lorawan::Eui64;
use store::Store;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;
use ulid::Generator;

/// Events that may wait for the database; more are dropped.
const QUEUE: usize = 4096;
/// Written in one transaction.
const AT_ONCE: usize = 256;
/// The same refusal, oddity or restart is written down once in this time, however often it happens: of two gateways
/// with one EUI each frame looks like a restart.
const AGAIN_AFTER: Duration = Duration::from_secs(600);
/// Gateways whose latest events are remembered, at most.
const REMEMBERED: usize = 20_000;
/// How long events are kept.
const KEPT: TimeDelta = TimeDelta::days(400);

/// An event before it has an identifier and a time.
#[derive(Debug, Clone)]
pub struct GatewayEventDraft {
    kind: GatewayEventKind,
    text: String,
    next: Option<String>,
    address: Option<SocketAddr>,
    state: Option<GatewayState>,
}

impl GatewayEventDraft {
    pub fn new(kind: GatewayEventKind, text: impl Into<String>) -> Self {
        Self { kind, text: text.into(), next: None, address: None, state: None }
    }

    /// What to do about it.
    pub fn next(mut self, next: impl Into<String>) -> Self {
        self.next = Some(next.into());
        self
    }

    /// From where the gateway called.
    pub fn from(mut self, address: impl Into<Option<SocketAddr>>) -> Self {
        self.address = address.into();
        self
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    /// The event, at this time.
    pub(crate) fn at(self, id: String, time: DateTime<Utc>) -> GatewayEvent {
        let Self { kind, text, next, address, state } = self;
        GatewayEvent { id, time, kind, text, next, address: address.map(|address| address.to_string()), state }
    }

    pub fn state(state: GatewayState) -> Self {
        Self { state: Some(state), ..Self::new(GatewayEventKind::State, format!("It is {} now.", state.label())) }
    }
}

/// Takes events, from anywhere and without waiting.
pub struct GatewayLog {
    queue: mpsc::Sender<(Eui64, GatewayEvent)>,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    ids: Option<Generator>,
    told: HashMap<(Eui64, u64), Instant>,
}

impl GatewayLog {
    pub fn new() -> (Arc<Self>, mpsc::Receiver<(Eui64, GatewayEvent)>) {
        let (queue, written) = mpsc::channel(QUEUE);
        (Arc::new(Self { queue, inner: Mutex::default() }), written)
    }

    pub fn tell(&self, gateway: Eui64, happening: GatewayEventDraft) {
        let (kind, text) = (happening.kind, &happening.text);
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        if matches!(kind, GatewayEventKind::Refused | GatewayEventKind::Odd | GatewayEventKind::Restarted) {
            let mut hasher = DefaultHasher::new();
            (kind, text).hash(&mut hasher);
            let now = Instant::now();
            if inner.told.len() >= REMEMBERED {
                inner.told.retain(|_, at| now - *at < AGAIN_AFTER);
            }
            let key = (gateway, hasher.finish());
            let lately = inner.told.get(&key).is_some_and(|at| now - *at < AGAIN_AFTER);
            if lately || inner.told.len() >= REMEMBERED {
                return;
            }
            inner.told.insert(key, now);
        }
        let ids = inner.ids.get_or_insert_with(Generator::new);
        let id = ids.generate().unwrap_or_else(|_| ulid::Ulid::generate()).to_string();
        let event = happening.at(id, Utc::now());
        tracing::debug!(%gateway, kind = kind.label(), "{}", event.text);
        if self.queue.try_send((gateway, event)).is_err() {
            tracing::warn!(%gateway, "what happened to a gateway is not written down: too much waits for the database");
        }
    }
}

/// Writes events until the service stops, and then those that still wait.
pub(crate) async fn write(store: Store, mut queue: mpsc::Receiver<(Eui64, GatewayEvent)>, stopping: CancellationToken) {
    if let Err(error) = store.drop_gateway_events(Utc::now() - KEPT).await {
        tracing::warn!("old events of gateways could not be dropped: {error}");
    }
    let mut events = Vec::with_capacity(AT_ONCE);
    loop {
        tokio::select! {
            biased;
            _ = queue.recv_many(&mut events, AT_ONCE) => {}
            () = stopping.cancelled() => queue.close(),
        }
        if events.is_empty() && queue.is_closed() {
            return;
        }
        let mut pause = Duration::from_millis(200);
        while let Err(error) = store.add_gateway_events(&events).await {
            tracing::warn!("what happened to gateways could not be written: {error}");
            if pause > Duration::from_secs(10) || stopping.is_cancelled() {
                break;
            }
            tokio::time::sleep(pause).await;
            pause *= 2;
        }
        events.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_refusal_is_told_once_in_a_while() {
        let (gateway_log, mut written) = GatewayLog::new();
        let refused = || GatewayEventDraft::new(GatewayEventKind::Refused, "its token is not known");
        for _ in 0..5 {
            gateway_log.tell(Eui64(1), refused());
        }
        gateway_log.tell(Eui64(2), refused());
        gateway_log.tell(Eui64(1), GatewayEventDraft::new(GatewayEventKind::Refused, "its certificate has expired"));
        for _ in 0..2 {
            gateway_log.tell(Eui64(1), GatewayEventDraft::new(GatewayEventKind::Connected, "by WebSocket"));
        }
        for _ in 0..3 {
            gateway_log.tell(Eui64(1), GatewayEventDraft::new(GatewayEventKind::Restarted, "its clock has leapt"));
        }
        let told: Vec<_> = std::iter::from_fn(|| written.try_recv().ok()).map(|(eui, e)| (eui.0, e.kind)).collect();
        use GatewayEventKind::{Connected, Refused, Restarted};
        assert_eq!(told, [(1, Refused), (2, Refused), (1, Refused), (1, Connected), (1, Connected), (1, Restarted)]);
    }

    #[test]
    fn a_flood_of_refusals_takes_bounded_room() {
        let (gateway_log, mut written) = GatewayLog::new();
        for n in 0..REMEMBERED as u64 + 100 {
            gateway_log.tell(Eui64(n), GatewayEventDraft::new(GatewayEventKind::Refused, "no"));
            let _ = written.try_recv();
        }
        let inner = gateway_log.inner.lock().unwrap();
        assert_eq!(inner.told.len(), REMEMBERED);
    }
}

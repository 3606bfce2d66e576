//! The WebSocket LNS protocol: discovery, and one task a connected gateway.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use api::gateway::GatewaySoftware;
use api::gateway::credential::Purpose;
use api::gateway::event::GatewayEventKind::{Changed, Connected, Disconnected, Odd, Refused};
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Router};
use chrono::Utc;
use engine::{FrameHeard, Reception, Transmission, TxFailure, Window};
use gateway_link::layout::Layout;
use gateway_link::lns::{
    Answer, DISCOVERY_PATH, FromGateway, Heard, MAX_MESSAGE, PROTOCOL, Query, RouterConfig, TimeTold, ToGateway,
    Version,
};
use lorawan::{Eui64, gps_time};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use crate::clock;
use crate::gateways::credentials::Peer;
use crate::gateways::event_log::GatewayEventDraft;
use crate::gateways::registry::{Known, WayDown, two_of_them};
use crate::gateways::transport::admission::Admission;
use crate::gateways::transport::awaited::Awaited;
use crate::gateways::transport::connection::Connection;
use crate::ingest::network::Network;
use crate::ingest::stats::IngestStats;

/// What a message led to.
enum Heeded {
    Done,
    /// It is to be answered.
    Answer(String),
    /// A frame in it cannot be made safe.
    Unsafe,
}

/// How long a gateway has been silent.
struct Silence {
    last_word: Instant,
    /// When it was asked last, while it has not answered.
    asked: Option<Instant>,
}

impl Silence {
    /// Pings the gateway if it is time; returns why the connection has to end, if it has to.
    async fn ping(&mut self, socket: &mut WebSocket) -> Option<&'static str> {
        if self.last_word.elapsed() > SILENT_FOR {
            return Some("not a word for a minute");
        }
        self.asked = Some(Instant::now());
        match tokio::time::timeout(SEND_WITHIN, socket.send(Message::Ping(Default::default()))).await {
            Ok(Ok(())) => None,
            Ok(Err(_)) | Err(_) => Some("its network is gone"),
        }
    }

    /// It has answered: how long that took.
    fn ponged(&mut self) -> Option<Duration> {
        Some(self.last_word - self.asked.take()?)
    }
}

/// The longest wait for a gateway's first message.
const FIRST_WORD: Duration = Duration::from_secs(10);
/// The buffer of each connection; a frame's message fits.
const READ_BUFFER: usize = 2048;
/// How often a gateway is asked whether it is there; how long it takes tells the delay.
const PING_EVERY: Duration = Duration::from_secs(20);
/// The time without a message after which a connection is dead.
const SILENT_FOR: Duration = Duration::from_secs(65);
/// The longest time to write one message.
const SEND_WITHIN: Duration = Duration::from_secs(10);
/// Transmissions that may wait for a gateway's socket.
const ORDERS: usize = 64;
/// New connections replaced in a row, after which two gateways share one EUI.
const TURNS: u32 = 3;

/// All connected gateways.
pub struct Lns {
    pub admission: Admission,
    pub ingest: Arc<IngestStats>,
    pub network: Network,
    /// Where gateways connect: `wss://NAME:PORT`.
    pub address: String,
    pub stopping: CancellationToken,
    pub connections: Connections,
}

/// The connected gateways.
#[derive(Default)]
pub struct Connections {
    by_eui: Mutex<HashMap<Eui64, Arc<Connection>>>,
    next: AtomicU64,
}

impl Connections {
    fn lock(&self) -> MutexGuard<'_, HashMap<Eui64, Arc<Connection>>> {
        self.by_eui.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends a gateway's connection, if there is one: its credential or its settings are others now.
    pub fn end(&self, eui: Eui64) {
        if let Some(connection) = self.lock().get(&eui) {
            connection.ended.cancel();
        }
    }
}

/// The protocol's two addresses. The second one is told to gateways by the first.
pub(crate) fn routes(lns: Arc<Lns>) -> Router {
    Router::new()
        .route(DISCOVERY_PATH, axum::routing::any(discover))
        .route("/gateways/{eui}", axum::routing::any(connect))
        .with_state(lns)
}

fn limited(upgrade: WebSocketUpgrade) -> WebSocketUpgrade {
    upgrade.max_message_size(MAX_MESSAGE).max_frame_size(MAX_MESSAGE).read_buffer_size(READ_BUFFER).write_buffer_size(0)
}

async fn discover(
    State(lns): State<Arc<Lns>>,
    Extension(peer): Extension<Peer>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response {
    limited(upgrade).on_upgrade(async move |mut socket| {
        let Ok(Some(Ok(Message::Text(text)))) = tokio::time::timeout(FIRST_WORD, socket.recv()).await else {
            lns.ingest.dropped("no_first_word", "a gateway that asks for its way says who it is".into(), peer.address);
            return;
        };
        let answer = match Query::parse(&text) {
            Ok(query) => match lns.admit(query.gateway, &peer, &headers) {
                Ok(_) => Answer::go(query.gateway, format!("{}/gateways/{}", lns.address, query.gateway)),
                Err(why) => Answer::refused(query.gateway, why),
            },
            Err(why) => {
                lns.ingest.dropped("unreadable_json", why.to_string(), peer.address);
                Answer { router: String::new(), muxs: None, uri: None, error: Some(why.to_string()) }
            }
        };
        let _ = tokio::time::timeout(SEND_WITHIN, socket.send(Message::text(answer.emit()))).await;
        let _ = tokio::time::timeout(SEND_WITHIN, socket.send(Message::Close(None))).await;
    })
}

async fn connect(
    State(lns): State<Arc<Lns>>,
    Extension(peer): Extension<Peer>,
    Path(eui): Path<String>,
    headers: HeaderMap,
    upgrade: WebSocketUpgrade,
) -> Response {
    let Ok(eui) = eui.parse::<Eui64>() else {
        return (StatusCode::NOT_FOUND, "the address ends with the gateway's EUI, 16 hex digits").into_response();
    };
    match lns.admit(eui, &peer, &headers) {
        Ok(known) => {
            limited(upgrade).on_upgrade(async move |socket| lns.serve(eui, known, (peer, headers), socket).await)
        }
        Err(why) => (StatusCode::FORBIDDEN, why).into_response(),
    }
}

impl Lns {
    /// Whether a gateway may connect; if not, why.
    fn admit(&self, eui: Eui64, peer: &Peer, headers: &HeaderMap) -> Result<Known, String> {
        self.admission.admit(eui, Purpose::Traffic, peer, headers).map_err(|(_, why)| why)
    }

    async fn serve(self: Arc<Self>, eui: Eui64, known: Known, caller: (Peer, HeaderMap), mut socket: WebSocket) {
        let (peer, headers) = caller;
        let plan = known.region.plan();
        let refuse = |text: String, next: &str| {
            self.admission.gateway_log.tell(eui, GatewayEventDraft::new(Refused, text).next(next).from(peer.address));
        };
        let version = match first_word(&mut socket).await {
            Ok(version) => version,
            Err(why) => return refuse(format!("It connected, and {why}."), "Look into the gateway's own log."),
        };
        if version.protocol != PROTOCOL {
            let text =
                format!("It speaks version {} of the protocol; here version {PROTOCOL} is spoken.", version.protocol);
            refuse(text.clone(), "Put a newer program on the gateway.");
            return close(&mut socket, text).await;
        }
        let layout = match Layout::new(plan, known.channels) {
            Ok(layout) => layout,
            Err(why) => {
                let text = format!("Its channels cannot be set: {why}.");
                refuse(text.clone(), "Change its channels.");
                return close(&mut socket, text).await;
            }
        };
        let mut config = RouterConfig::new(plan, &layout, known.beacons);
        config.time_s = Some(clock::now().0 as f64 / 1e6);
        if !send(&mut socket, ToGateway::Config(Box::new(config)).emit()).await {
            return;
        }
        let (orders, ordered) = mpsc::channel(ORDERS);
        let displaced = self.connections.lock().get(&eui).map_or(0, |before| before.displaces());
        let connection = Arc::new(Connection {
            id: self.connections.next.fetch_add(1, Ordering::Relaxed),
            since: Instant::now(),
            displaced,
            peer: peer.address,
            plan,
            good_until: self.admission.good_until(&peer, &headers),
            orders,
            ended: CancellationToken::new(),
            recent: Mutex::default(),
            awaited: Awaited::default(),
        });
        self.enter(eui, &connection, &version);
        // A credential revoked during the introduction did not end this connection yet.
        if self.admit(eui, &peer, &headers).is_err() {
            connection.ended.cancel();
        }
        let why = self.converse(eui, &connection, &mut socket, ordered).await;
        self.leave(eui, &connection, why);
        let _ = tokio::time::timeout(SEND_WITHIN, socket.send(Message::Close(None))).await;
        drop(peer.seat);
    }

    /// A gateway is connected; if it was already, the old connection ends.
    fn enter(&self, eui: Eui64, connection: &Arc<Connection>, version: &Version) {
        let before = self.connections.lock().insert(eui, Arc::clone(connection));
        if let Some(before) = before {
            // One that lost its network comes again from the same place, and once; two that are alive take turns.
            let elsewhere = before.peer.ip() != connection.peer.ip() && !before.ended.is_cancelled();
            if elsewhere || connection.displaced == TURNS {
                self.admission.gateway_log.tell(eui, two_of_them(before.peer, connection.peer));
            }
            before.ended.cancel();
        }
        let short = |text: &str| text.chars().take(80).collect::<String>();
        let software = GatewaySoftware {
            program: short(&version.station),
            firmware: short(&version.firmware),
            package: short(&version.package),
            model: short(&version.model),
        };
        let text = format!("It is connected by WebSocket, as {:?} on {:?}.", software.program, software.model);
        self.admission.gateway_log.tell(eui, GatewayEventDraft::new(Connected, text).from(connection.peer));
        self.admission.presence.connected(eui, WayDown::Lns, software);
        self.admission.presence.heard(eui, Some(connection.peer), std::iter::empty());
    }

    fn leave(&self, eui: Eui64, connection: &Connection, why: &str) {
        {
            let mut connections = self.connections.lock();
            // Another connection may have taken its place, or be about to: that has to come after this.
            if connections.get(&eui).is_some_and(|current| current.id == connection.id) {
                connections.remove(&eui);
                self.admission.presence.disconnected(eui, WayDown::Lns);
            }
        }
        if !self.stopping.is_cancelled() {
            self.admission.gateway_log.tell(
                eui,
                GatewayEventDraft::new(Disconnected, format!("Its connection has ended: {why}.")).from(connection.peer),
            );
        }
    }

    /// Exchanges messages until one side ends the connection; returns why it ended.
    async fn converse(
        &self,
        eui: Eui64,
        connection: &Connection,
        socket: &mut WebSocket,
        mut ordered: mpsc::Receiver<String>,
    ) -> &'static str {
        let mut pings = tokio::time::interval(PING_EVERY);
        let mut silence = Silence { last_word: Instant::now(), asked: None };
        let mut used = tokio::time::interval_at((Instant::now() + FIRST_WORD).into(), Duration::from_secs(86_400));
        loop {
            let ended = tokio::select! {
                biased;
                () = self.stopping.cancelled() => Some("the service stops"),
                () = connection.ended.cancelled() => Some("its access was changed, or it has connected again"),
                Some(order) = ordered.recv() => (!send(socket, order).await).then_some("it takes no orders"),
                received = socket.recv() => match received {
                    Some(Ok(message)) => self.message(eui, connection, socket, &mut silence, message).await,
                    Some(Err(_)) | None => Some("it hung up, or its network is gone"),
                },
                _ = pings.tick() => match connection.has_expired(Utc::now()) {
                    true => Some("its credential has expired"),
                    false => silence.ping(socket).await,
                },
                _ = used.tick() => {
                    self.retire_older_credentials(eui).await;
                    None
                }
            };
            if let Some(why) = ended {
                return why;
            }
        }
    }

    /// Takes a message; returns why the connection has to end, if it has to.
    async fn message(
        &self,
        eui: Eui64,
        connection: &Connection,
        socket: &mut WebSocket,
        silence: &mut Silence,
        message: Message,
    ) -> Option<&'static str> {
        silence.last_word = Instant::now();
        match message {
            Message::Text(text) => match self.hear(eui, connection, &text).await {
                Heeded::Answer(answer) => return (!send(socket, answer).await).then_some("it takes no answer"),
                Heeded::Unsafe => return Some("its frames cannot be made safe at the moment"),
                Heeded::Done => {}
            },
            Message::Pong(_) => {
                if let Some(round_trip) = silence.ponged() {
                    self.admission.presence.round_trip(eui, round_trip.as_secs_f64() * 1000.0);
                }
                self.admission.presence.heard(eui, Some(connection.peer), std::iter::empty());
            }
            Message::Ping(_) => self.admission.presence.heard(eui, Some(connection.peer), std::iter::empty()),
            Message::Binary(_) => {
                let what = "a binary message, which no gateway has to send".into();
                self.ingest.dropped("binary_message", what, connection.peer);
            }
            Message::Close(_) => return Some("it hung up"),
        }
        None
    }

    /// A gateway that uses this credential needs no older ones.
    async fn retire_older_credentials(&self, eui: Eui64) {
        match self.admission.credentials.retire_older(eui, Purpose::Traffic).await {
            Ok(0) => {}
            Ok(count) => {
                let text = format!("It uses its new credential, so {count} older for traffic were revoked.");
                self.admission.gateway_log.tell(eui, GatewayEventDraft::new(Changed, text));
            }
            Err(error) => tracing::warn!("older credentials could not be revoked: {error}"),
        }
    }

    /// Takes a message, and returns the answer.
    async fn hear(&self, eui: Eui64, connection: &Connection, text: &str) -> Heeded {
        self.ingest.datagrams.fetch_add(1, Ordering::Relaxed);
        match FromGateway::parse(text) {
            Ok(FromGateway::Heard(heard)) => {
                if !self.frame(eui, connection, &heard).await {
                    return Heeded::Unsafe;
                }
            }
            Ok(FromGateway::Sent(sent)) => match connection.awaited.reported(&sent.diid) {
                Some((id, _)) if self.network.try_report(id, Ok(())) => {}
                Some(_) => self.ingest.dropped("overload", "a transmit report".into(), connection.peer),
                None => {
                    let what = format!("order {} of {eui}", sent.diid);
                    self.ingest.dropped("unasked_transmit_report", what, connection.peer);
                }
            },
            Ok(FromGateway::TimeAsked { txtime }) => {
                self.admission.presence.heard(eui, Some(connection.peer), std::iter::empty());
                let time =
                    TimeTold { gpstime: gps_time::from_unix_us(clock::now().0), txtime: Some(txtime), xtime: None };
                return Heeded::Answer(ToGateway::Time(time).emit());
            }
            Ok(FromGateway::Version(_)) => {
                self.ingest.dropped("unreadable_entry", "it introduced itself twice".into(), connection.peer);
            }
            Ok(FromGateway::Other(kind)) => tracing::debug!(%eui, kind, "a message nothing follows from"),
            Err(why) => self.ingest.dropped("unreadable_entry", why.to_string(), connection.peer),
        }
        Heeded::Done
    }

    /// Passes a frame to the journal; `false` if it cannot be made durable.
    async fn frame(&self, eui: Eui64, connection: &Connection, heard: &Heard) -> bool {
        let Some(rate) = connection.plan.data_rate(heard.data_rate) else {
            let why = format!("data rate {} is none of those it was given", heard.data_rate);
            self.ingest.dropped("unreadable_entry", why, connection.peer);
            return true;
        };
        self.admission.presence.heard(eui, Some(connection.peer), std::iter::once(heard.frequency_hz));
        let radio = &heard.radio;
        connection.heard((radio.xtime, radio.rctx));
        let frame = FrameHeard {
            phy_payload: heard.phy_payload.clone(),
            reception: Reception {
                gateway: eui,
                // The network's to say.
                heard_at: engine::Timestamp::default(),
                clock_us: radio.xtime as u32,
                has_gps: radio.gpstime > 0,
                frequency_hz: heard.frequency_hz,
                modulation: rate.modulation,
                rssi_dbm: radio.rssi as f32,
                snr_db: Some(radio.snr as f32),
            },
        };
        // Nothing is read from the gateway in this time, so it keeps its frames.
        let safe = self.network.hear_safely(&[frame]).await;
        if safe {
            self.ingest.took(1, true);
        } else {
            self.ingest.dropped("overload", format!("a frame from {eui}"), connection.peer);
        }
        safe
    }

    /// Hands a frame to a connected gateway.
    pub fn send(&self, transmission: &Transmission) -> Result<(), TxFailure> {
        let connection = self.connections.lock().get(&transmission.gateway).cloned().ok_or(TxFailure::Unreachable)?;
        if transmission.window == Window::Beacon {
            // Gateways of this protocol make their beacons themselves, as they were told when they connected.
            let _ = self.network.try_report(transmission.id, Ok(()));
            return Ok(());
        }
        let order = connection.order(transmission)?;
        connection.awaited.add(order.diid, transmission.id);
        let (eui, diid) = (transmission.gateway, order.diid);
        connection.orders.try_send(ToGateway::Send(order).emit()).map_err(|_| {
            connection.awaited.reported(&diid);
            self.admission.gateway_log.tell(
                eui,
                GatewayEventDraft::new(Odd, "It takes orders too slowly; a downlink was given up.")
                    .from(connection.peer),
            );
            TxFailure::Unreachable
        })
    }
}

/// A gateway introduces itself.
async fn first_word(socket: &mut WebSocket) -> Result<Version, String> {
    match tokio::time::timeout(FIRST_WORD, socket.recv()).await {
        Err(_) => Err(format!("said nothing for {} s", FIRST_WORD.as_secs())),
        Ok(Some(Ok(Message::Text(text)))) => match FromGateway::parse(&text) {
            Ok(FromGateway::Version(version)) => Ok(version),
            Ok(_) => Err("did not say first what it is".into()),
            Err(why) => Err(format!("its first word cannot be read: {why}")),
        },
        Ok(_) => Err("hung up before it had said what it is".into()),
    }
}

async fn send(socket: &mut WebSocket, text: String) -> bool {
    matches!(tokio::time::timeout(SEND_WITHIN, socket.send(Message::text(text))).await, Ok(Ok(())))
}

async fn close(socket: &mut WebSocket, mut why: String) {
    // RFC 6455 §5.5: a control frame has room for 123 bytes of reason.
    why.truncate((0..=123).rev().find(|at| why.is_char_boundary(*at)).unwrap_or(0));
    let frame = CloseFrame { code: 1008, reason: why.into() };
    let _ = tokio::time::timeout(SEND_WITHIN, socket.send(Message::Close(Some(frame)))).await;
}

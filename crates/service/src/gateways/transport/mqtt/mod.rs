//! Gateways behind an MQTT broker. Who may write to a gateway's topics is the broker's to say; see `herond
//! broker-files`.

mod access;
mod reach;

use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use api::gateway::event::GatewayEventKind::{Connected, Disconnected, Refused};
use api::gateway::{GatewaySoftware, Protocol};
use chrono::Utc;
use engine::{FrameHeard, Transmission, TxFailure};
use gateway_link::mqtt::{self, Echo, Name, Order, Report, SERVICE, State, Topic};
use lorawan::Eui64;
use rumqttc::{
    AsyncClient, ConnectReturnCode, ConnectionError, Event, EventLoop, Incoming, Publish, QoS, StateError,
    SubscribeFilter,
};
use tokio_util::sync::CancellationToken;

use crate::gateways::credentials::Credentials;
use crate::gateways::event_log::{GatewayEventDraft, GatewayLog};
use crate::gateways::registry::{CallerStatus, GatewayRegistry, WayDown};
use crate::gateways::transport::awaited::Awaited;
use crate::gateways::transport::frames;
use crate::ingest::network::Network;
use crate::ingest::stats::IngestStats;
use crate::pipeline::condition::Condition;

pub(crate) use access::BrokerAccess;
pub(crate) use reach::{BrokerAddress, reach, trust};

/// Connections in a row that end with something unreadable before the broker is told to forget what it has kept.
const POISONED: u32 = 3;
/// How often each gateway is asked whether it hears the service.
const ASK_EVERY: Duration = Duration::from_secs(20);
/// Between two attempts to reach the broker: longer each time.
const AGAIN_FIRST: Duration = Duration::from_millis(500);
const AGAIN_LAST: Duration = Duration::from_secs(10);
/// Where a message came from, as far as one can tell.
const BROKER: &str = "the broker";

/// What the task and the way down share.
pub(crate) struct Mqtt {
    pub presence: Arc<GatewayRegistry>,
    pub ingest: Arc<IngestStats>,
    pub network: Network,
    pub credentials: Arc<Credentials>,
    pub gateway_log: Arc<GatewayLog>,
    pub client: AsyncClient,
    condition: Arc<Condition>,
    awaited: Awaited<(Eui64, u32)>,
    next: AtomicU32,
    /// Questions that were not answered yet, by number.
    asked: Mutex<HashMap<u32, (Eui64, Instant)>>,
}

/// Whether a connection has ended because of what the broker sent, not because it is gone.
fn is_poison(error: &ConnectionError) -> bool {
    matches!(error, ConnectionError::MqttState(StateError::Deserialization(_) | StateError::WrongPacket))
}

impl Mqtt {
    pub(crate) fn new(
        (presence, ingest, network): (Arc<GatewayRegistry>, Arc<IngestStats>, Network),
        (credentials, gateway_log, condition): (Arc<Credentials>, Arc<GatewayLog>, Arc<Condition>),
        client: AsyncClient,
    ) -> Arc<Self> {
        let next = AtomicU32::new(rand::random());
        let awaited = Awaited::default();
        Arc::new(Self {
            presence,
            ingest,
            network,
            credentials,
            gateway_log,
            client,
            condition,
            awaited,
            next,
            asked: Mutex::default(),
        })
    }

    fn asked(&self) -> MutexGuard<'_, HashMap<u32, (Eui64, Instant)>> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Hands a frame to the broker for its gateway.
    pub(crate) fn send(&self, transmission: &Transmission) -> Result<(), TxFailure> {
        let (gateway, id) = (transmission.gateway, self.next.fetch_add(1, Ordering::Relaxed));
        self.awaited.add((gateway, id), transmission.id);
        let order = Order { id, frame: frames::packet(transmission) };
        let topic = Topic::Down.of(self.presence.broker_name(gateway).ok_or(TxFailure::Unreachable)?);
        self.client.try_publish(topic, QoS::AtLeastOnce, false, mqtt::write(&order)).map_err(|_| {
            self.awaited.reported(&(gateway, id));
            TxFailure::Unreachable
        })
    }

    /// Takes the broker's messages until the service stops.
    pub(crate) async fn run(self: Arc<Self>, mut broker: EventLoop, stopping: CancellationToken) {
        let mut ask = tokio::time::interval(ASK_EVERY);
        let (mut pause, mut poisoned) = (AGAIN_FIRST, 0u32);
        loop {
            let polled = tokio::select! {
                polled = broker.poll() => polled,
                _ = ask.tick() => {
                    self.ask_all();
                    continue;
                }
                () = stopping.cancelled() => return,
            };
            match polled {
                Ok(Event::Incoming(Incoming::ConnAck(ack))) if ack.code == ConnectReturnCode::Success => {
                    pause = AGAIN_FIRST;
                    broker.mqtt_options.set_clean_session(false);
                    self.connected();
                }
                Ok(Event::Incoming(Incoming::SubAck(_))) => {
                    let there = State { connected: true, software: Some("keen heron".into()) };
                    let _ = self.client.try_publish(SERVICE, QoS::AtLeastOnce, true, mqtt::write(&there));
                }
                Ok(Event::Incoming(Incoming::Publish(publish))) => {
                    poisoned = 0;
                    if !self.hear(&publish).await {
                        // It comes again with the next connection, and the broker keeps what is behind it.
                        tracing::warn!(
                            "the connection to the MQTT broker is closed for a moment: frames cannot be made safe"
                        );
                        broker.clean();
                        tokio::time::sleep(AGAIN_FIRST).await;
                    }
                }
                Ok(_) => {}
                Err(error) => {
                    poisoned += u32::from(is_poison(&error));
                    if poisoned >= POISONED {
                        // A message that cannot be read at all would be sent again and again, before all others.
                        poisoned = 0;
                        let what = format!("what the broker had kept for the service, as it cannot be read: {error}");
                        self.ingest.dropped("unreadable_queue", what, BROKER);
                        broker.mqtt_options.set_clean_session(true);
                    }
                    self.condition.broker(false);
                    if pause == AGAIN_FIRST {
                        self.lost(&error);
                    }
                    tokio::select! {
                        () = tokio::time::sleep(pause) => {}
                        () = stopping.cancelled() => return,
                    }
                    pause = (pause * 2).min(AGAIN_LAST);
                }
            }
        }
    }

    fn connected(&self) {
        self.condition.broker(true);
        tracing::info!("the MQTT broker is there");
        let filters = Topic::OF_GATEWAYS.map(|topic| SubscribeFilter::new(topic.of_all(), QoS::AtLeastOnce));
        if self.client.try_subscribe_many(filters).is_err() {
            tracing::error!("the gateways' topics could not be subscribed to: too much waits for the broker");
        }
    }

    /// The broker is gone, and with it the way to its gateways.
    fn lost(&self, error: &ConnectionError) {
        tracing::error!("the MQTT broker is not there: {error}");
        for gateway in self.presence.reached_by(WayDown::Mqtt) {
            self.presence.disconnected(gateway.eui, WayDown::Mqtt);
            let text = "The MQTT broker between it and the service is gone.";
            self.gateway_log.tell(gateway.eui, GatewayEventDraft::new(Disconnected, text));
        }
    }

    fn ask_all(&self) {
        let now = Instant::now();
        self.asked().retain(|_, (_, at)| now - *at < 3 * ASK_EVERY);
        for gateway in self.presence.reached_by(WayDown::Mqtt) {
            let number = self.next.fetch_add(1, Ordering::Relaxed);
            self.asked().insert(number, (gateway.eui, now));
            let _ =
                self.client.try_publish(Topic::Ask.of(gateway), QoS::AtMostOnce, false, mqtt::write(&Echo { number }));
        }
    }

    /// Takes a message; `false` if its frames cannot be made durable.
    async fn hear(&self, publish: &Publish) -> bool {
        self.ingest.datagrams.fetch_add(1, Ordering::Relaxed);
        // What cannot be read now cannot be read later: it is acknowledged as well. Only what cannot be made safe is
        // not, and comes again with the next connection.
        if !self.take(publish).await {
            return false;
        }
        if self.client.try_ack(publish).is_err() {
            tracing::debug!("an acknowledgement to the broker found no room");
        }
        true
    }

    async fn take(&self, publish: &Publish) -> bool {
        let Some((name, topic)) = Topic::parse(&publish.topic) else {
            self.ingest.dropped("unknown_topic", publish.topic.chars().take(80).collect(), BROKER);
            return true;
        };
        let eui = name.eui;
        if topic == Topic::State && publish.payload.is_empty() {
            // Nothing is kept there any more.
            return true;
        }
        if self.is_of_earlier_registration(name) {
            return true;
        }
        let mut caller_status = self.presence.caller_status(eui, Protocol::Mqtt, None);
        if caller_status == CallerStatus::Known && self.credentials.all_ended(eui, Utc::now()) {
            let text = "It comes through the broker, though each of its certificates was revoked or has expired.";
            let next = "Make a new connection kit for this gateway.";
            self.gateway_log.tell(eui, GatewayEventDraft::new(Refused, text).next(next));
            caller_status = CallerStatus::TurnedAway;
        }
        match caller_status {
            CallerStatus::Known => {}
            CallerStatus::TurnedAway => {
                self.ingest.dropped("turned_away", format!("a message of {eui}"), BROKER);
                return true;
            }
            CallerStatus::Stranger => {
                self.ingest.dropped("stranger_gateway", format!("a message from {eui}"), BROKER);
                let told = "Nothing: by MQTT strangers are not answered.";
                self.presence.stranger_calls(eui, BROKER, Protocol::Mqtt, told);
                return true;
            }
        }
        let read = match topic {
            Topic::State => self.state(eui, publish),
            Topic::Up => return self.up(eui, publish).await,
            Topic::Sent => self.sent(eui, publish),
            Topic::Answer => self.answer(eui, publish),
            Topic::Down | Topic::Ask => Ok(()),
        };
        if let Err(why) = read {
            self.ingest.dropped("unreadable_json", format!("{}: {why}", publish.topic), BROKER);
        }
        true
    }

    /// Whether the certificate was issued for an earlier registration of this EUI, perhaps by another estate. Its messages are
    /// dropped.
    fn is_of_earlier_registration(&self, name: Name) -> bool {
        if self.presence.broker_name(name.eui).is_none_or(|now| now == name) {
            return false;
        }
        self.ingest.dropped("earlier_registration", format!("a message of {name}"), BROKER);
        let text = "It comes through the broker with a certificate of an earlier registration of this EUI.";
        let next = "Make a new connection kit for this gateway.";
        self.gateway_log.tell(name.eui, GatewayEventDraft::new(Refused, text).next(next));
        true
    }

    fn state(&self, eui: Eui64, publish: &Publish) -> Result<(), mqtt::PayloadError> {
        let state: State = mqtt::read(&publish.payload)?;
        let there = self.presence.way_down(eui) == Some(WayDown::Mqtt);
        if state.connected {
            let program = state.software.unwrap_or_default().chars().take(80).collect::<String>();
            if !there {
                let text = format!("It is connected through the broker, by {program:?}.");
                self.gateway_log.tell(eui, GatewayEventDraft::new(Connected, text));
            }
            self.presence.connected(eui, WayDown::Mqtt, GatewaySoftware { program, ..GatewaySoftware::default() });
            // What was retained may be old: only an answer shows that it is there now.
            if !publish.retain {
                self.presence.heard(eui, None, std::iter::empty());
            }
        } else if there {
            self.presence.disconnected(eui, WayDown::Mqtt);
            self.gateway_log.tell(eui, GatewayEventDraft::new(Disconnected, "The broker says that it is gone."));
        }
        Ok(())
    }

    /// Says whether it is done with: it may find no room.
    async fn up(&self, eui: Eui64, publish: &Publish) -> bool {
        let push = match mqtt::read_up(&publish.payload) {
            Ok(push) => push,
            Err(why) => {
                self.ingest.dropped("unreadable_json", format!("{}: {why}", publish.topic), BROKER);
                return true;
            }
        };
        if let Some(status) = &push.status {
            self.presence.reported(eui, status);
        }
        for why in push.unreadable {
            self.ingest.dropped("unreadable_entry", why, BROKER);
        }
        self.presence.heard(eui, None, push.frames.iter().map(|frame| frame.frequency_hz));
        let (good, bad): (Vec<_>, Vec<_>) = push.frames.into_iter().partition(|frame| frame.crc_ok != Some(false));
        for frame in bad {
            self.ingest.dropped("bad_crc", format!("{} bytes heard by {eui}", frame.phy_payload.len()), BROKER);
        }
        if good.is_empty() {
            return true;
        }
        good.iter().for_each(|frame| self.presence.clock(eui, frame.clock_us));
        let count = good.len();
        let heard: Vec<FrameHeard> = good.into_iter().map(|frame| frames::heard(eui, frame)).collect();
        let safe = self.network.hear_safely(&heard).await;
        if safe {
            self.ingest.took(count, true);
        }
        safe
    }

    fn sent(&self, eui: Eui64, publish: &Publish) -> Result<(), mqtt::PayloadError> {
        let report: Report = mqtt::read(&publish.payload)?;
        let Some((id, took)) = self.awaited.reported(&(eui, report.id)) else {
            self.ingest.dropped("unasked_transmit_report", format!("order {} of {eui}", report.id), BROKER);
            return Ok(());
        };
        self.presence.round_trip(eui, took.as_secs_f64() * 1000.0);
        if !self.network.try_report(id, report.result().map_err(frames::failure)) {
            self.ingest.dropped("overload", "a transmit report".into(), BROKER);
        }
        Ok(())
    }

    fn answer(&self, eui: Eui64, publish: &Publish) -> Result<(), mqtt::PayloadError> {
        let echo: Echo = mqtt::read(&publish.payload)?;
        let asked = self.asked().remove(&echo.number).filter(|(asked, _)| *asked == eui);
        if let Some((_, at)) = asked {
            self.presence.round_trip(eui, at.elapsed().as_secs_f64() * 1000.0);
            self.presence.heard(eui, None, std::iter::empty());
        }
        Ok(())
    }
}

//! A connection to a broker by MQTT 3.1.1 or 5, told in one way.

use std::time::Duration;

use anyhow::{Result, anyhow};
use api::outlet::MqttVersion;
use rumqttc::v5::mqttbytes::QoS as QoS5;
use rumqttc::v5::mqttbytes::v5::{
    ConnectProperties, Packet as Packet5, PubAckReason, PubCompReason, PubRecReason, Publish as Publish5,
    PublishProperties, SubscribeReasonCode as Sub5,
};
use rumqttc::{Event, Outgoing, Packet, Publish, QoS, SubscribeReasonCode, v5};

/// Publications that are handed over at once, on their way included.
pub(super) const MOST_ON_WAY: usize = 1_000;
/// The longest packet that is read. What is longer ends the connection.
const LONGEST_PACKET: u32 = 1 << 20;
const KEEP_ALIVE: Duration = Duration::from_secs(30);
/// For how long the broker keeps commands while the service is away, in seconds.
const KEPT_S: u32 = 7 * 86_400;

/// How a client makes itself known.
#[derive(Clone)]
pub(super) struct Identity {
    pub version: MqttVersion,
    pub client_id: String,
    pub account: Option<(String, String)>,
    /// Whether the broker keeps the session while the service is away.
    pub kept: bool,
}

/// What is published.
#[derive(Debug, Clone, Default)]
pub(super) struct Publication {
    pub topic: String,
    pub payload: Vec<u8>,
    pub qos: u8,
    pub retain: bool,
    /// Only MQTT 5 has what follows.
    pub expires_after_s: Option<u32>,
    pub properties: Vec<(String, String)>,
    pub correlation: Option<Vec<u8>>,
}

/// A message that came on a subscribed topic.
pub(super) struct Came {
    pub topic: String,
    pub payload: Vec<u8>,
    /// It was kept by the broker, and is not of now.
    pub retained: bool,
    pub correlation: Option<Vec<u8>>,
    receipt: Receipt,
}

enum Receipt {
    V311(Publish),
    V5(Publish5),
}

/// What happens on a connection.
pub(super) enum News {
    /// A publication went out under a number; 0 with quality of service 0.
    Sent(u16),
    /// The broker has it, or refuses it.
    Answered(u16, Result<(), String>),
    Subscribed(Result<(), String>),
    Came(Box<Came>),
    /// Nothing that anybody waits for.
    Other,
}

enum Client {
    V311(rumqttc::AsyncClient),
    V5(v5::AsyncClient),
}

enum Events {
    V311(Box<rumqttc::EventLoop>),
    V5(Box<v5::EventLoop>),
}

/// A connection.
pub(super) struct Connection {
    client: Client,
    events: Events,
    /// The longest packet that may be sent.
    longest: usize,
    /// Why it has ended, if it has: what the broker said before that is told first.
    ended: Option<String>,
}

impl Connection {
    /// Connects by a socket that leads to the broker.
    ///
    /// # Errors
    /// The broker does not answer, or does not let the service in.
    pub(super) async fn open(identity: &Identity, socket: &str, within: Duration) -> Result<Self> {
        let mut connection = match identity.version {
            MqttVersion::V311 => Self::v311(identity, socket),
            MqttVersion::V5 => Self::v5(identity, socket),
        };
        let opened = async {
            match &mut connection.events {
                Events::V311(events) => events.poll().await.map(|_| None).map_err(|why| anyhow!(why_311(&why))),
                Events::V5(events) => match events.poll().await.map_err(|why| anyhow!(why_5(&why)))? {
                    v5::Event::Incoming(Packet5::ConnAck(ack)) => {
                        Ok(ack.properties.and_then(|properties| properties.max_packet_size))
                    }
                    _ => Ok(None),
                },
            }
        };
        let most = tokio::time::timeout(within, opened).await.map_err(|_| anyhow!("no answer in time"))??;
        connection.longest = most.unwrap_or(LONGEST_PACKET).min(LONGEST_PACKET) as usize;
        Ok(connection)
    }

    fn v311(identity: &Identity, socket: &str) -> Self {
        let mut options = rumqttc::MqttOptions::new(&identity.client_id, socket, 1883);
        options.set_transport(rumqttc::Transport::unix()).set_keep_alive(KEEP_ALIVE);
        options.set_clean_session(!identity.kept).set_manual_acks(true);
        options.set_max_packet_size(LONGEST_PACKET as usize, LONGEST_PACKET as usize);
        options.set_inflight(MOST_ON_WAY as u16);
        if let Some((name, password)) = &identity.account {
            options.set_credentials(name, password);
        }
        let (client, events) = rumqttc::AsyncClient::new(options, MOST_ON_WAY + 8);
        Self { client: Client::V311(client), events: Events::V311(Box::new(events)), longest: 0, ended: None }
    }

    fn v5(identity: &Identity, socket: &str) -> Self {
        let mut options = v5::MqttOptions::new(&identity.client_id, socket, 1883);
        options.set_transport(rumqttc::Transport::unix()).set_keep_alive(KEEP_ALIVE);
        options.set_clean_start(!identity.kept).set_manual_acks(true);
        options.set_outgoing_inflight_upper_limit(MOST_ON_WAY as u16);
        let mut properties = ConnectProperties::new();
        properties.max_packet_size = Some(LONGEST_PACKET);
        properties.session_expiry_interval = identity.kept.then_some(KEPT_S);
        options.set_connect_properties(properties);
        if let Some((name, password)) = &identity.account {
            options.set_credentials(name, password);
        }
        let (client, events) = v5::AsyncClient::new(options, MOST_ON_WAY + 8);
        Self { client: Client::V5(client), events: Events::V5(Box::new(events)), longest: 0, ended: None }
    }

    /// Whether a publication is short enough for the broker.
    pub(super) fn takes(&self, what: &Publication) -> bool {
        let properties: usize = what.properties.iter().map(|(name, value)| name.len() + value.len() + 5).sum();
        // The header, and the other properties.
        what.topic.len() + what.payload.len() + properties + what.correlation.as_ref().map_or(0, Vec::len) + 64
            <= self.longest
    }

    /// Hands a publication over. `News::Sent` tells in the same order when they went out.
    ///
    /// # Errors
    /// If there is no room, which [`MOST_ON_WAY`] prevents, or the topic is none.
    pub(super) fn publish(&self, what: Publication) -> Result<()> {
        let Publication { topic, payload, qos, retain, expires_after_s, properties, correlation } = what;
        match &self.client {
            Client::V311(client) => client.try_publish(topic, qos_311(qos), retain, payload)?,
            Client::V5(client) => {
                let properties = PublishProperties {
                    // The payload is text (MQTT 5.0 §3.3.2.3.2).
                    payload_format_indicator: Some(1),
                    content_type: Some("application/json".into()),
                    message_expiry_interval: expires_after_s,
                    user_properties: properties,
                    correlation_data: correlation.map(Into::into),
                    ..PublishProperties::default()
                };
                client.try_publish_with_properties(topic, qos_5(qos), retain, payload, properties)?;
            }
        }
        Ok(())
    }

    /// Subscribes to a filter, at least once.
    pub(super) fn subscribe(&self, filter: &str) -> Result<()> {
        match &self.client {
            Client::V311(client) => client.try_subscribe(filter, QoS::AtLeastOnce)?,
            Client::V5(client) => client.try_subscribe(filter, QoS5::AtLeastOnce)?,
        }
        Ok(())
    }

    /// Tells the broker that a message need not come again.
    pub(super) fn acknowledge(&self, came: &Came) -> Result<()> {
        match (&self.client, &came.receipt) {
            (Client::V311(client), Receipt::V311(publish)) => client.try_ack(publish)?,
            (Client::V5(client), Receipt::V5(publish)) => client.try_ack(publish)?,
            _ => {}
        }
        Ok(())
    }

    /// Takes leave of the broker, within a moment.
    pub(super) async fn close(mut self) {
        let asked = match &self.client {
            Client::V311(client) => client.try_disconnect().is_ok(),
            Client::V5(client) => client.try_disconnect().is_ok(),
        };
        let gone = async { while self.next().await.is_ok() {} };
        if asked {
            let _ = tokio::time::timeout(Duration::from_millis(500), gone).await;
        }
    }

    /// Waits for what happens next; it has to be called again and again, or nothing does. It may be dropped at any time.
    ///
    /// # Errors
    /// The connection has ended, and why.
    pub(super) async fn next(&mut self) -> Result<News, String> {
        if self.ended.is_none() {
            let polled = match &mut self.events {
                Events::V311(events) => events.poll().await.map(of_v311).map_err(|why| why_311(&why)),
                Events::V5(events) => events.poll().await.map(of_v5).map_err(|why| why_5(&why)),
            };
            match polled {
                Ok(news) => return Ok(news),
                Err(why) => self.ended = Some(why),
            }
        }
        // A broker may refuse something and close: then the library tells the end first.
        let left = match &mut self.events {
            Events::V311(events) => events.state.events.pop_front().map(of_v311),
            Events::V5(events) => events.state.events.pop_front().map(of_v5),
        };
        left.ok_or_else(|| self.ended.clone().unwrap_or_default())
    }
}

fn of_v311(event: Event) -> News {
    match event {
        Event::Outgoing(Outgoing::Publish(number)) => News::Sent(number),
        Event::Incoming(Packet::PubAck(ack)) => News::Answered(ack.pkid, Ok(())),
        Event::Incoming(Packet::PubComp(done)) => News::Answered(done.pkid, Ok(())),
        Event::Incoming(Packet::SubAck(ack)) => {
            let taken = |code: &SubscribeReasonCode| matches!(code, SubscribeReasonCode::Success(_));
            News::Subscribed(match ack.return_codes.iter().all(taken) {
                true => Ok(()),
                false => Err("the broker refuses the subscription".into()),
            })
        }
        Event::Incoming(Packet::Publish(publish)) => News::Came(Box::new(Came {
            topic: publish.topic.clone(),
            payload: publish.payload.to_vec(),
            retained: publish.retain,
            correlation: None,
            receipt: Receipt::V311(publish),
        })),
        _ => News::Other,
    }
}

fn of_v5(event: v5::Event) -> News {
    let packet = match event {
        v5::Event::Outgoing(Outgoing::Publish(number)) => return News::Sent(number),
        v5::Event::Incoming(packet) => packet,
        v5::Event::Outgoing(_) => return News::Other,
    };
    let refused = |what: String| Err(format!("the broker refuses it: {what}"));
    match packet {
        Packet5::PubAck(ack) => News::Answered(
            ack.pkid,
            match ack.reason {
                PubAckReason::Success | PubAckReason::NoMatchingSubscribers => Ok(()),
                reason => refused(spaced(&format!("{reason:?}"))),
            },
        ),
        Packet5::PubRec(received) => match received.reason {
            PubRecReason::Success | PubRecReason::NoMatchingSubscribers => News::Other,
            reason => News::Answered(received.pkid, refused(spaced(&format!("{reason:?}")))),
        },
        Packet5::PubComp(done) => News::Answered(
            done.pkid,
            match done.reason {
                PubCompReason::Success => Ok(()),
                reason => refused(spaced(&format!("{reason:?}"))),
            },
        ),
        Packet5::SubAck(ack) => {
            News::Subscribed(match ack.return_codes.iter().find(|code| !matches!(code, Sub5::Success(_))) {
                None => Ok(()),
                Some(code) => Err(format!("the broker refuses the subscription: {}", spaced(&format!("{code:?}")))),
            })
        }
        Packet5::Publish(publish) => News::Came(Box::new(Came {
            topic: String::from_utf8_lossy(&publish.topic).into_owned(),
            payload: publish.payload.to_vec(),
            retained: publish.retain,
            correlation: publish
                .properties
                .as_ref()
                .and_then(|properties| properties.correlation_data.as_ref())
                .map(|data| data.to_vec()),
            receipt: Receipt::V5(publish),
        })),
        _ => News::Other,
    }
}

fn qos_311(qos: u8) -> QoS {
    match qos {
        0 => QoS::AtMostOnce,
        1 => QoS::AtLeastOnce,
        _ => QoS::ExactlyOnce,
    }
}

fn qos_5(qos: u8) -> QoS5 {
    match qos {
        0 => QoS5::AtMostOnce,
        1 => QoS5::AtLeastOnce,
        _ => QoS5::ExactlyOnce,
    }
}

/// A reason as it is spelt in code, as words: `NotAuthorized` becomes `not authorized`.
fn spaced(name: &str) -> String {
    let mut words = String::new();
    for c in name.chars() {
        if c.is_ascii_uppercase() && !words.is_empty() {
            words.push(' ');
        }
        words.push(c.to_ascii_lowercase());
    }
    words
}

/// Why a connection has ended, in words.
fn why_311(why: &rumqttc::ConnectionError) -> String {
    use rumqttc::{ConnectionError as E, StateError};
    match why {
        E::ConnectionRefused(code) => {
            format!("the broker does not let the service in: {}", spaced(&format!("{code:?}")))
        }
        E::Io(why) | E::MqttState(StateError::Io(why)) => closed(why),
        E::MqttState(StateError::ConnectionAborted) => CLOSED.into(),
        other => other.to_string(),
    }
}

fn why_5(why: &v5::ConnectionError) -> String {
    use rumqttc::v5::{ConnectionError as E, StateError};
    match why {
        E::ConnectionRefused(code) | E::MqttState(StateError::ConnFail { reason: code }) => {
            format!("the broker does not let the service in: {}", spaced(&format!("{code:?}")))
        }
        E::MqttState(StateError::ServerDisconnect { reason_code, .. }) => {
            format!("the broker ended the connection: {}", spaced(&format!("{reason_code:?}")))
        }
        E::Io(why) | E::MqttState(StateError::Io(why)) => closed(why),
        E::MqttState(StateError::ConnectionAborted) => CLOSED.into(),
        other => other.to_string(),
    }
}

const CLOSED: &str = "the connection was closed";

fn closed(why: &std::io::Error) -> String {
    use std::io::ErrorKind as K;
    match why.kind() {
        K::ConnectionReset | K::ConnectionAborted | K::BrokenPipe | K::UnexpectedEof => CLOSED.into(),
        _ => why.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reasons_are_told_in_words() {
        assert_eq!(spaced("NotAuthorized"), "not authorized");
        assert_eq!(spaced("QuotaExceeded"), "quota exceeded");
    }
}

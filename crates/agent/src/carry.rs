//! Carrying a gateway that speaks UDP over MQTT.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::time::Duration;

use gateway_link::mqtt::{self, Echo, MAX_PAYLOAD, Name, Order, Report, SERVICE, State, Topic};
use gateway_link::udp::{Datagram, MAX_DATAGRAM, Token, TxAckError};
use rumqttc::{
    AsyncClient, ConnectReturnCode, Event, EventLoop, Incoming, LastWill, MqttOptions, NetworkOptions, Publish, QoS,
    SubscribeFilter, TlsConfiguration, Transport,
};
use thiserror::Error;
use tokio::net::UdpSocket;
use tokio::sync::mpsc;

use crate::kit::{Entrance, Kit, KitError};

const KEEP_ALIVE: Duration = Duration::from_secs(15);
/// Requests that wait within the client; what is beyond waits in the agent's own queue.
const REQUESTS: usize = 64;
/// How often the queue is looked at while the client has no room.
const LOOK_EVERY: Duration = Duration::from_millis(50);
const AGAIN_FIRST: Duration = Duration::from_millis(500);
const AGAIN_LAST: Duration = Duration::from_secs(15);
/// How long the last word may take.
const GOODBYE: Duration = Duration::from_secs(2);
/// Orders whose report is awaited.
const AWAITED: usize = 256;

/// Why an agent cannot work.
#[derive(Debug, Error)]
pub enum AgentError {
    /// The kit cannot be used.
    #[error(transparent)]
    Kit(#[from] KitError),
    /// The kit is for another protocol.
    #[error("it is no kit for MQTT: the gateway has to be registered with protocol mqtt")]
    NotForMqtt,
    /// The kit names no topic.
    #[error("the kit's mqtt.topic does not end with a gateway's name; make a new kit")]
    Topic,
    /// The broker's address cannot be read.
    #[error("the kit's address {0:?} is not like mqtts://HOST:PORT")]
    Address(String),
    /// The signals that end it cannot be waited for.
    #[error("a signal cannot be waited for: {0}")]
    Signal(#[from] std::io::Error),
    /// The connection has ended and does not come back.
    #[error("the link to the broker has ended by itself")]
    Ended,
}

/// How an agent works.
pub struct Options {
    /// The gateway's connection kit.
    pub kit: Kit,
    /// Where the gateway's packet forwarder calls.
    pub socket: UdpSocket,
    /// Messages kept while the link is down; the oldest gives way.
    pub keep: usize,
    /// Takes what is worth telling.
    pub tell: Box<dyn Fn(String) + Send + Sync>,
}

/// Carries a gateway until told to stop.
pub async fn run(options: Options, stop: impl Future<Output = ()>) -> Result<(), AgentError> {
    let Options { kit, socket, keep, tell } = options;
    let entrance = kit.entrance("mqtt")?.ok_or(AgentError::NotForMqtt)?;
    let topic = kit.file("mqtt.topic").ok_or(AgentError::NotForMqtt)?;
    let name = topic.trim().rsplit('/').next().and_then(|name| name.parse().ok());
    let name: Name = name.ok_or(AgentError::Topic)?;
    let (client, broker) = reach(&entrance, name)?;
    tell(format!("Carrying {} from {} (UDP) to {}.", name.eui, socket.local_addr()?, entrance.uri));
    let (events, told) = mpsc::channel(REQUESTS);
    let poller = tokio::spawn(poll(broker, events));
    let agent = Agent {
        name,
        socket,
        client: client.clone(),
        way_down: None,
        queue: VecDeque::new(),
        keep: keep.max(1),
        lost: 0,
        connected: false,
        listening: false,
        awaited: VecDeque::new(),
        next_token: rand::random(),
        tell,
    };
    let ended = agent.carry(told, stop).await;
    let gone = mqtt::write(&State::GONE);
    let _ = client.try_publish(Topic::State.of(name), QoS::AtLeastOnce, true, gone);
    let _ = client.try_disconnect();
    let _ = tokio::time::timeout(GOODBYE, poller).await;
    ended
}

/// How to reach the broker, with what it is to say once the agent is gone.
fn reach(entrance: &Entrance, name: Name) -> Result<(AsyncClient, EventLoop), AgentError> {
    let place = entrance.uri.strip_prefix("mqtts://").and_then(|place| place.rsplit_once(':'));
    let place = place.and_then(|(host, port)| Some((host, port.parse().ok()?)));
    let (host, port): (_, u16) = place.ok_or_else(|| AgentError::Address(entrance.uri.clone()))?;
    let mut options = MqttOptions::new(name.to_string(), host, port);
    options.set_keep_alive(KEEP_ALIVE).set_clean_session(false);
    options.set_max_packet_size(MAX_PAYLOAD * 2, MAX_PAYLOAD * 2);
    let gone = mqtt::write(&State::GONE);
    options.set_last_will(LastWill::new(Topic::State.of(name), gone, QoS::AtLeastOnce, true));
    options.set_transport(Transport::tls_with_config(TlsConfiguration::Rustls(entrance.tls()?)));
    let (client, mut broker) = AsyncClient::new(options, REQUESTS);
    // Reports are small and urgent.
    let mut network = NetworkOptions::new();
    network.set_tcp_nodelay(true);
    broker.set_network_options(network);
    Ok((client, broker))
}

/// What the broker says.
enum BrokerEvent {
    Connected,
    Message(Publish),
    Gone(String),
}

/// Talks with the broker, apart from the socket, so that neither waits for the other.
async fn poll(mut broker: EventLoop, events: mpsc::Sender<BrokerEvent>) {
    let mut pause = AGAIN_FIRST;
    loop {
        let told = match broker.poll().await {
            Ok(Event::Incoming(Incoming::ConnAck(ack))) if ack.code == ConnectReturnCode::Success => {
                pause = AGAIN_FIRST;
                BrokerEvent::Connected
            }
            Ok(Event::Incoming(Incoming::Publish(publish))) => BrokerEvent::Message(publish),
            Ok(Event::Outgoing(rumqttc::Outgoing::Disconnect)) => return,
            Ok(_) => continue,
            Err(error) => {
                if events.send(BrokerEvent::Gone(error.to_string())).await.is_err() {
                    return;
                }
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(AGAIN_LAST);
                continue;
            }
        };
        if events.send(told).await.is_err() {
            // The agent ends; its last word is still to go out.
            while !matches!(broker.poll().await, Err(_) | Ok(Event::Outgoing(rumqttc::Outgoing::Disconnect))) {}
            return;
        }
    }
}

struct Agent {
    /// The gateway's name at the broker.
    name: Name,
    socket: UdpSocket,
    client: AsyncClient,
    /// Where the last PULL_DATA came from.
    way_down: Option<SocketAddr>,
    /// What is to be published, oldest first.
    queue: VecDeque<(Topic, Vec<u8>)>,
    keep: usize,
    /// What had to give way.
    lost: u64,
    connected: bool,
    /// Whether the service hears what is published.
    listening: bool,
    /// Orders handed to the gateway: the datagram's token, and the order's name.
    awaited: VecDeque<(Token, u32)>,
    next_token: Token,
    tell: Box<dyn Fn(String) + Send + Sync>,
}

impl Agent {
    async fn carry(
        mut self,
        mut told: mpsc::Receiver<BrokerEvent>,
        stop: impl Future<Output = ()>,
    ) -> Result<(), AgentError> {
        let mut buffer = vec![0; MAX_DATAGRAM + 1];
        let mut look = tokio::time::interval(LOOK_EVERY);
        tokio::pin!(stop);
        loop {
            tokio::select! {
                received = self.socket.recv_from(&mut buffer) => {
                    if let Ok((length, from)) = received {
                        self.datagram(&buffer[..length], from).await;
                    }
                }
                event = told.recv() => match event {
                    Some(BrokerEvent::Connected) => self.greet(),
                    Some(BrokerEvent::Message(publish)) => self.message(&publish).await,
                    Some(BrokerEvent::Gone(why)) => {
                        if self.connected {
                            (self.tell)(format!("The broker is gone: {why}. Frames are kept until it is back."));
                        }
                        (self.connected, self.listening) = (false, false);
                    }
                    None => return Err(AgentError::Ended),
                },
                _ = look.tick(), if self.listening && !self.queue.is_empty() => {}
                () = &mut stop => return Ok(()),
            }
            self.flush();
        }
    }

    /// The broker is there, for the first time or again.
    fn greet(&mut self) {
        self.connected = true;
        let software = Some(concat!("heron agent ", env!("CARGO_PKG_VERSION")).to_owned());
        let state = mqtt::write(&State { connected: true, software });
        let greeted = self.client.try_publish(Topic::State.of(self.name), QoS::AtLeastOnce, true, state);
        let filters = Topic::OF_SERVICE.map(|topic| SubscribeFilter::new(topic.of(self.name), QoS::AtLeastOnce));
        let service = SubscribeFilter::new(SERVICE.to_owned(), QoS::AtLeastOnce);
        let filters: Vec<_> = filters.into_iter().chain([service]).collect();
        if greeted.is_err() || self.client.try_subscribe_many(filters).is_err() {
            (self.tell)("Too much waits within the client to greet the broker.".into());
        }
        let lost = match std::mem::take(&mut self.lost) {
            0 => String::new(),
            lost => format!("; {lost} older ones had to give way"),
        };
        (self.tell)(format!("The broker is there; {} messages were kept{lost}.", self.queue.len()));
    }

    fn queue(&mut self, topic: Topic, payload: Vec<u8>) {
        if self.queue.len() == self.keep {
            self.queue.pop_front();
            self.lost += 1;
        }
        self.queue.push_back((topic, payload));
    }

    /// Hands over what the client has room for.
    fn flush(&mut self) {
        while self.listening
            && let Some((topic, payload)) = self.queue.front()
            && self.client.try_publish(topic.of(self.name), QoS::AtLeastOnce, false, payload.clone()).is_ok()
        {
            self.queue.pop_front();
        }
    }

    async fn answer(&self, to: SocketAddr, datagram: &Datagram) {
        // A gateway that is gone finds its way back by itself.
        let _ = self.socket.send_to(&datagram.emit(), to).await;
    }

    async fn datagram(&mut self, bytes: &[u8], from: SocketAddr) {
        let Ok(datagram) = Datagram::parse(bytes) else { return };
        let (Datagram::PushData { gateway, .. } | Datagram::PullData { gateway, .. } | Datagram::TxAck { gateway, .. }) =
            datagram
        else {
            return;
        };
        if gateway != self.name.eui {
            let kit = self.name.eui;
            return (self.tell)(format!("{from} calls itself {gateway}, and the kit is for {kit}: not carried."));
        }
        match datagram {
            Datagram::PushData { token, push, .. } => {
                self.answer(from, &Datagram::PushAck { token }).await;
                for payload in mqtt::write_up(push) {
                    self.queue(Topic::Up, payload);
                }
            }
            Datagram::PullData { token, .. } => {
                self.way_down = Some(from);
                self.answer(from, &Datagram::PullAck { token }).await;
            }
            Datagram::TxAck { token, result, .. } => {
                let at = self.awaited.iter().position(|(awaited, _)| *awaited == token);
                if let Some((_, id)) = at.and_then(|at| self.awaited.remove(at)) {
                    self.queue(Topic::Sent, mqtt::write(&Report::new(id, &result)));
                }
            }
            _ => {}
        }
    }

    async fn message(&mut self, publish: &Publish) {
        if publish.topic == SERVICE {
            self.listening = mqtt::read::<State>(&publish.payload).is_ok_and(|state| state.connected);
            let is = if self.listening { "hears the broker" } else { "is away; frames are kept until it is back" };
            return (self.tell)(format!("The service {is}."));
        }
        match Topic::parse(&publish.topic) {
            Some((_, Topic::Ask)) => {
                if let Ok(echo) = mqtt::read::<Echo>(&publish.payload) {
                    self.queue(Topic::Answer, mqtt::write(&echo));
                }
            }
            Some((_, Topic::Down)) => {
                let Ok(order) = mqtt::read::<Order>(&publish.payload) else { return };
                let Some(to) = self.way_down else {
                    let why = Err(TxAckError::Other("NO_GATEWAY".into()));
                    return self.queue(Topic::Sent, mqtt::write(&Report::new(order.id, &why)));
                };
                self.next_token = self.next_token.wrapping_add(1);
                if self.awaited.len() == AWAITED {
                    self.awaited.pop_front();
                }
                self.awaited.push_back((self.next_token, order.id));
                self.answer(to, &Datagram::PullResp { token: self.next_token, packet: order.frame }).await;
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use gateway_link::udp::{PushData, RxPacket};
    use lorawan::{Eui64, Modulation};

    use super::*;

    const GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_0001);
    const NAME: Name = Name { eui: GATEWAY, registered_us: 0xabc };

    /// An agent without a broker: what it publishes stays in its queue.
    async fn agent(keep: usize) -> (Agent, UdpSocket) {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let caller = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        caller.connect(socket.local_addr().unwrap()).await.unwrap();
        let client = AsyncClient::new(MqttOptions::new("test", "127.0.0.1", 1), 8).0;
        let agent = Agent {
            name: NAME,
            socket,
            client,
            way_down: None,
            queue: VecDeque::new(),
            keep,
            lost: 0,
            connected: false,
            listening: false,
            awaited: VecDeque::new(),
            next_token: 6,
            tell: Box::new(|_| {}),
        };
        (agent, caller)
    }

    fn push(gateway: Eui64, clock_us: u32) -> Vec<u8> {
        let frame = RxPacket::lora(clock_us, 868_100_000, Modulation::lora(7, 125).unwrap(), (-80.0, 9.0), vec![1]);
        let push = PushData { frames: vec![frame], ..PushData::default() };
        Datagram::PushData { token: 1, gateway, push }.emit()
    }

    async fn received(caller: &UdpSocket) -> Datagram {
        let mut buffer = [0; 1024];
        let length = caller.recv(&mut buffer).await.unwrap();
        Datagram::parse(&buffer[..length]).unwrap()
    }

    #[tokio::test]
    async fn the_oldest_gives_way_and_another_gateway_is_not_carried() {
        let (mut agent, caller) = agent(3).await;
        let from = caller.local_addr().unwrap();
        for clock_us in 0..5 {
            agent.datagram(&push(GATEWAY, clock_us), from).await;
            assert_eq!(received(&caller).await, Datagram::PushAck { token: 1 });
        }
        agent.datagram(&push(Eui64(7), 9), from).await;
        agent.datagram(b"nonsense", from).await;
        let clocks = |agent: &Agent| {
            let up = agent.queue.iter().map(|(_, payload)| mqtt::read_up(payload).unwrap());
            up.map(|up| up.frames[0].clock_us).collect::<Vec<_>>()
        };
        assert_eq!((clocks(&agent), agent.lost), (vec![2, 3, 4], 2));
        agent.flush();
        assert_eq!(agent.queue.len(), 3, "nobody listens yet");
    }

    #[tokio::test]
    async fn orders_go_down_and_reports_come_back_under_their_name() {
        let (mut agent, caller) = agent(10).await;
        let order =
            br#"{"id":77,"frame":{"when":"at_once","frequency_hz":869525000,"power_dbm":27,"inverted_polarity":true,
            "modulation":{"lora":{"spreading_factor":12,"bandwidth_khz":125}},"phy_payload":"ab"}}"#;
        let message = |topic: Topic, payload: &[u8]| Publish::new(topic.of(NAME), QoS::AtLeastOnce, payload.to_vec());
        agent.message(&message(Topic::Down, order)).await;
        let (topic, report) = agent.queue.pop_front().unwrap();
        let refused = mqtt::read::<Report>(&report).unwrap();
        let no_gateway = Err(TxAckError::Other("NO_GATEWAY".into()));
        assert_eq!((topic, refused.id, refused.result()), (Topic::Sent, 77, no_gateway));

        let from = caller.local_addr().unwrap();
        agent.datagram(&Datagram::PullData { token: 3, gateway: GATEWAY }.emit(), from).await;
        assert_eq!(received(&caller).await, Datagram::PullAck { token: 3 });
        agent.message(&message(Topic::Down, order)).await;
        let Datagram::PullResp { token, packet } = received(&caller).await else { panic!("an order") };
        assert_eq!((token, packet.phy_payload), (7, vec![0xab]));
        agent.datagram(&Datagram::TxAck { token, gateway: GATEWAY, result: Ok(()) }.emit(), from).await;
        let (_, report) = agent.queue.pop_front().unwrap();
        assert_eq!(mqtt::read::<Report>(&report).unwrap(), Report::new(77, &Ok(())));
        // A report of something never asked for goes nowhere.
        agent.datagram(&Datagram::TxAck { token, gateway: GATEWAY, result: Ok(()) }.emit(), from).await;
        assert_eq!(agent.queue.len(), 0);

        agent.message(&message(Topic::Ask, br#"{"number":5}"#)).await;
        assert_eq!(agent.queue.pop_front(), Some((Topic::Answer, br#"{"number":5}"#.to_vec())));
        let there = Publish::new(SERVICE, QoS::AtLeastOnce, mqtt::write(&State { connected: true, software: None }));
        agent.message(&there).await;
        assert!(agent.listening);
        agent.message(&Publish::new(SERVICE, QoS::AtLeastOnce, mqtt::write(&State::GONE))).await;
        assert!(!agent.listening);
    }
}

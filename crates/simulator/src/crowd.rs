//! Many gateways that are there and hear nothing: what a service spends on their being connected, and how it stands it
//! when all come back at once.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use agent::kit::Entrance;
use api::gateway::Protocol;
use gateway_link::lns::FromGateway;
use gateway_link::udp::{Datagram, GatewayStatus, PushData};
use lorawan::Eui64;
use tokio::net::UdpSocket;
use tokio::sync::watch;
use tokio::task::JoinSet;

use crate::gateway::any_port_towards;
use crate::lns::Connection;

/// How often a gateway by UDP keeps its way down open, and how often it reports.
const PULL_EVERY: Duration = Duration::from_secs(10);
const STATUS_EVERY: Duration = Duration::from_secs(30);
/// How often one by WebSocket asks what time it is.
const TIME_EVERY: Duration = Duration::from_secs(30);
/// How long one waits that was not let in, at first and at most.
const AGAIN_FIRST: Duration = Duration::from_millis(200);
const AGAIN_LAST: Duration = Duration::from_secs(5);

/// Who there is to register, as lines of a CSV file.
pub fn csv(by_udp: usize, by_websocket: usize) -> String {
    let line = |protocol: Protocol| {
        move |n| format!("{},crowd-{}-{n:04},{}\n", eui(protocol, n), protocol.name(), protocol.name())
    };
    let udp = (0..by_udp).map(line(Protocol::Udp));
    let lns = (0..by_websocket).map(line(Protocol::Websocket));
    std::iter::once("eui,name,protocol\n".to_owned()).chain(udp).chain(lns).collect()
}

/// The EUI of one of them.
pub fn eui(protocol: Protocol, n: usize) -> Eui64 {
    let kind = if protocol == Protocol::Udp { 1 } else { 2 };
    Eui64(0x02a1_0bed_0000_0000 + (kind << 24) + n as u64)
}

/// The running crowd; it ends when dropped.
pub struct Crowd {
    tasks: JoinSet<()>,
    /// Counts up each time all connections are dropped.
    round: watch::Sender<u64>,
    connected: Arc<AtomicUsize>,
    attempts: Arc<AtomicUsize>,
    acknowledged: Arc<AtomicUsize>,
}

impl Default for Crowd {
    fn default() -> Self {
        Self {
            tasks: JoinSet::new(),
            round: watch::Sender::new(0),
            connected: Arc::default(),
            attempts: Arc::default(),
            acknowledged: Arc::default(),
        }
    }
}

impl Crowd {
    /// One more by UDP, each with a socket of its own.
    pub async fn add_udp(&mut self, eui: Eui64, server: SocketAddr) -> io::Result<()> {
        let socket = UdpSocket::bind(any_port_towards(server)).await?;
        socket.connect(server).await?;
        let acknowledged = Arc::clone(&self.acknowledged);
        self.tasks.spawn(async move {
            // Not all at the same moment.
            let start = tokio::time::Instant::now() + PULL_EVERY.mul_f64(rand::random());
            let mut pull = tokio::time::interval_at(start, PULL_EVERY);
            let mut status = tokio::time::interval_at(start, STATUS_EVERY);
            let mut buffer = [0; 1024];
            let mut heard = false;
            loop {
                let datagram = tokio::select! {
                    _ = pull.tick() => Datagram::PullData { token: rand::random(), gateway: eui },
                    _ = status.tick() => {
                        let status = Some(GatewayStatus { received: Some(0), ..GatewayStatus::default() });
                        let push = PushData { status, ..PushData::default() };
                        Datagram::PushData { token: rand::random(), gateway: eui, push }
                    }
                    received = socket.recv(&mut buffer) => {
                        if received.is_ok() && !std::mem::replace(&mut heard, true) {
                            acknowledged.fetch_add(1, Ordering::Relaxed);
                        }
                        continue;
                    }
                };
                let _ = socket.send(&datagram.emit()).await;
            }
        });
        Ok(())
    }

    /// One more by WebSocket.
    pub fn add_websocket(&mut self, eui: Eui64, entrance: Entrance) {
        let (mut round, connected) = (self.round.subscribe(), Arc::clone(&self.connected));
        let attempts = Arc::clone(&self.attempts);
        self.tasks.spawn(async move {
            let mut pause = AGAIN_FIRST;
            loop {
                attempts.fetch_add(1, Ordering::Relaxed);
                let Ok(mut connection) = Connection::open(&entrance, eui).await else {
                    tokio::time::sleep(pause.mul_f64(rand::random_range(0.5..1.5))).await;
                    pause = (pause * 2).min(AGAIN_LAST);
                    continue;
                };
                pause = AGAIN_FIRST;
                connected.fetch_add(1, Ordering::Relaxed);
                let mut time = tokio::time::interval(TIME_EVERY);
                loop {
                    tokio::select! {
                        _ = time.tick() => {
                            if connection.send(&FromGateway::TimeAsked { txtime: 0 }).await.is_err() { break }
                        }
                        said = connection.next() => if said.is_err() { break },
                        _ = round.changed() => break,
                    }
                }
                connected.fetch_sub(1, Ordering::Relaxed);
            }
        });
    }

    /// How many WebSocket connections are up.
    pub fn connected(&self) -> usize {
        self.connected.load(Ordering::Relaxed)
    }

    /// How many gateways by UDP have been answered.
    pub fn acknowledged(&self) -> usize {
        self.acknowledged.load(Ordering::Relaxed)
    }

    /// How often a gateway has tried to connect by WebSocket.
    pub fn attempts(&self) -> usize {
        self.attempts.load(Ordering::Relaxed)
    }

    /// Drops all WebSocket connections at once; each gateway comes back at once.
    pub fn drop_all(&self) {
        self.round.send_modify(|round| *round += 1);
    }
}

#[cfg(test)]
mod tests {
    use api::gateway::import::GatewayImport;
    use domain::Check as _;
    use domain::gateway::import;

    use super::*;

    #[test]
    fn the_crowd_can_be_registered() {
        let file = GatewayImport { csv: csv(2, 3), ..GatewayImport::default() };
        let rows = import::read(&file).unwrap();
        let protocols: Vec<_> = rows.iter().map(|row| row.new.as_ref().unwrap().check().unwrap().protocol).collect();
        use Protocol::{Udp, Websocket};
        assert_eq!(protocols, [Udp, Udp, Websocket, Websocket, Websocket]);
        assert_eq!(rows[2].eui, eui(Websocket, 0).to_string());
    }
}

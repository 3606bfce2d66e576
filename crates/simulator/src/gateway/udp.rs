//! Calling by the UDP packet-forwarder protocol.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use gateway_link::udp::{Datagram, GatewayStatus, PushData, RxPacket, Token};
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::time::Instant;

use super::{Gateway, Sending, any_port_towards, tenths};
use crate::air::Arrival;
use crate::clock;
use crate::device::Emission;

/// How often the way down is kept open.
const PULL_EVERY: Duration = Duration::from_secs(5);
/// How often the gateway reports on itself.
const STATUS_EVERY: Duration = Duration::from_secs(30);

pub(super) struct Link {
    server: SocketAddr,
    socket: RwLock<Arc<UdpSocket>>,
    next_token: AtomicU32,
}

impl Link {
    pub(super) async fn towards(server: SocketAddr) -> std::io::Result<Self> {
        let socket = RwLock::new(Self::fresh(server).await?);
        Ok(Self { server, socket, next_token: AtomicU32::new(rand::random()) })
    }

    async fn fresh(server: SocketAddr) -> std::io::Result<Arc<UdpSocket>> {
        let socket = UdpSocket::bind(any_port_towards(server)).await?;
        socket.connect(server).await?;
        Ok(Arc::new(socket))
    }

    fn socket(&self) -> Arc<UdpSocket> {
        Arc::clone(&self.socket.read().unwrap_or_else(PoisonError::into_inner))
    }

    fn token(&self) -> Token {
        self.next_token.fetch_add(1, Ordering::Relaxed) as Token
    }

    async fn call(&self, datagram: Datagram) {
        // A server that is not there yet refuses; the next call may find it.
        if let Err(error) = self.socket().send(&datagram.emit()).await {
            tracing::debug!("sending: {error}");
        }
    }
}

impl Gateway {
    pub(super) async fn push(&self, link: &Link, emission: &Emission, end: Instant, arrival: Arrival) {
        let Emission { frequency_hz, modulation, .. } = *emission;
        let level = (arrival.rssi_dbm.round(), tenths(arrival.snr_db));
        let clock_us = self.transmitter.clock_us(end);
        let frame = RxPacket {
            gps_time_ms: self.transmitter.gps_us(end).map(|us| us.unsigned_abs() / 1000),
            ..RxPacket::lora(clock_us, frequency_hz, modulation, level, emission.phy_payload.clone())
        };
        let push = PushData { frames: vec![frame], ..PushData::default() };
        link.call(Datagram::PushData { token: link.token(), gateway: self.eui, push }).await;
    }

    pub(super) async fn run_udp(&self, link: &Link, sendings: mpsc::Sender<Sending>) {
        let mut pull = tokio::time::interval(PULL_EVERY);
        let mut status = tokio::time::interval(STATUS_EVERY);
        let mut breaks = self.breaks();
        let mut buffer = vec![0; 4096];
        loop {
            let socket = link.socket();
            tokio::select! {
                _ = breaks.tick() => {
                    if let Ok(fresh) = Link::fresh(link.server).await {
                        *link.socket.write().unwrap_or_else(PoisonError::into_inner) = fresh;
                        link.call(Datagram::PullData { token: link.token(), gateway: self.eui }).await;
                    }
                }
                _ = pull.tick() => {
                    link.call(Datagram::PullData { token: link.token(), gateway: self.eui }).await;
                },
                _ = status.tick() => {
                    let push = PushData { status: Some(self.status()), ..PushData::default() };
                    link.call(Datagram::PushData { token: link.token(), gateway: self.eui, push }).await;
                },
                received = socket.recv(&mut buffer) => {
                    let Ok(len) = received else {
                        // Nobody listens on the other side; do not ask in a tight loop.
                        tokio::time::sleep(Duration::from_millis(100)).await;
                        continue;
                    };
                    if let Ok(Datagram::PullResp { token, packet }) = Datagram::parse(&buffer[..len]) {
                        let result = self.transmitter.plan(&packet, Instant::now());
                        let ack = result.as_ref().map(|_| ()).map_err(Clone::clone);
                        link.call(Datagram::TxAck { token, gateway: self.eui, result: ack }).await;
                        if let Ok(at) = result {
                            let _ = sendings.send(Sending { gateway: self.eui, at_us: clock::us(at), packet }).await;
                        }
                    }
                }
            }
        }
    }

    /// Its report. The counters tell what came since the report before.
    fn status(&self) -> GatewayStatus {
        let received = self.received.swap(0, Ordering::Relaxed);
        GatewayStatus {
            latitude_deg: Some(self.site.place.latitude_deg),
            longitude_deg: Some(self.site.place.longitude_deg),
            received: Some(received),
            received_ok: Some(received),
            forwarded: Some(received),
            acknowledged_percent: Some(100.0),
            sent: Some(self.transmitter.sent.swap(0, Ordering::Relaxed)),
            ..GatewayStatus::default()
        }
    }
}

#[cfg(test)]
mod tests {
    use gateway_link::udp::TxTime;
    use lorawan::Eui64;
    use lorawan::region::Region;

    use super::super::transmitter::tests::packet;
    use super::super::{Site, Way};
    use super::*;
    use coverage::geo::Place;

    #[tokio::test]
    async fn it_calls_reports_and_acknowledges_over_its_socket() {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let faults = super::super::Faults { reconnects_every_s: Some(0.2), ..Default::default() };
        let place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let site = Site { name: "test".into(), place, has_gps: false, region: Region::Eu868, faults };
        let gateway = Gateway::new(Eui64(7), site, Way::Udp(server.local_addr().unwrap())).await.unwrap();
        let (sender, mut sendings) = mpsc::channel(4);
        let task = tokio::spawn(Arc::clone(&gateway).run(sender));
        let mut buffer = [0; 2048];
        let (mut pulled, mut reported) = (None, false);
        while pulled.is_none() || !reported {
            let (len, from) = server.recv_from(&mut buffer).await.unwrap();
            match Datagram::parse(&buffer[..len]).unwrap() {
                Datagram::PullData { gateway: Eui64(7), .. } => pulled = Some(from),
                Datagram::PushData { push, .. } => reported = push.status.is_some_and(|s| s.latitude_deg == Some(54.7)),
                other => panic!("{other:?}"),
            }
        }
        let down = Datagram::PullResp { token: 99, packet: packet(TxTime::AtOnce) };
        server.send_to(&down.emit(), pulled.unwrap()).await.unwrap();
        let (len, _) = server.recv_from(&mut buffer).await.unwrap();
        assert_eq!(
            Datagram::parse(&buffer[..len]),
            Ok(Datagram::TxAck { token: 99, gateway: Eui64(7), result: Ok(()) })
        );
        assert_eq!(sendings.recv().await.unwrap().packet, packet(TxTime::AtOnce));
        // Its address changes, as behind a router that forgets it.
        let first = pulled.unwrap();
        loop {
            let (len, from) = server.recv_from(&mut buffer).await.unwrap();
            if matches!(Datagram::parse(&buffer[..len]), Ok(Datagram::PullData { .. })) && from != first {
                break;
            }
        }
        task.abort();
    }
}

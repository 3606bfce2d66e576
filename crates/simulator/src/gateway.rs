//! A stand-in gateway: the UDP packet-forwarder protocol over a real socket, with a clock of its own
//! and one transmitter.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use gateway_link::udp::{Datagram, GatewayStatus, PushData, RxPacket, Token, TxAckError, TxPacket, TxTime};
use lorawan::{Eui64, Modulation, airtime, gps_time};
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::time::Instant;

use crate::clock;
use crate::device::Emission;
use crate::radio::{Arrival, Place};

/// How often the way down is kept open.
const PULL_EVERY: Duration = Duration::from_secs(5);
/// How often the gateway reports on itself.
const STATUS_EVERY: Duration = Duration::from_secs(30);
/// How far ahead a transmission may be planned.
const TOO_EARLY_US: i32 = 15_000_000;

/// A stand-in gateway.
pub struct Gateway {
    pub eui: Eui64,
    pub name: String,
    pub place: Place,
    pub gain_dbi: f64,
    has_gps: bool,
    socket: UdpSocket,
    started: Instant,
    /// What the clock showed at the start; real ones start anywhere.
    clock_start_us: u32,
    next_token: AtomicU32,
    received: AtomicU32,
    sent: AtomicU32,
    busy: Mutex<Vec<(Instant, Instant)>>,
}

/// A frame a gateway sends: when, and what.
#[derive(Debug, Clone)]
pub struct Sending {
    pub gateway: Eui64,
    pub at: Instant,
    pub packet: TxPacket,
}

/// Where to bind a socket that is to call `server`.
pub(crate) fn any_port_towards(server: SocketAddr) -> SocketAddr {
    if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() }
}

impl Gateway {
    /// Opens a socket towards `server`.
    pub async fn connect(
        eui: Eui64,
        name: &str,
        place: Place,
        gain_dbi: f64,
        has_gps: bool,
        server: SocketAddr,
    ) -> std::io::Result<Arc<Self>> {
        let socket = UdpSocket::bind(any_port_towards(server)).await?;
        socket.connect(server).await?;
        Ok(Arc::new(Self {
            eui,
            name: name.into(),
            place,
            gain_dbi,
            has_gps,
            socket,
            started: Instant::now(),
            clock_start_us: rand::random(),
            next_token: AtomicU32::new(rand::random()),
            received: AtomicU32::new(0),
            sent: AtomicU32::new(0),
            busy: Mutex::default(),
        }))
    }

    fn token(&self) -> Token {
        self.next_token.fetch_add(1, Ordering::Relaxed) as Token
    }

    fn clock_us(&self, at: Instant) -> u32 {
        self.clock_start_us.wrapping_add((at - self.started).as_micros() as u32)
    }

    async fn call(&self, datagram: Datagram) {
        // A server that is not there yet refuses; the next call may find it.
        if let Err(error) = self.socket.send(&datagram.emit()).await {
            tracing::debug!(gateway = self.name, "sending: {error}");
        }
    }

    /// Forwards a frame that was heard until `end`.
    pub async fn heard(&self, emission: &Emission, end: Instant, arrival: Arrival) {
        self.received.fetch_add(1, Ordering::Relaxed);
        let tenths = |value: f64| (value * 10.0).round() / 10.0;
        let Emission { frequency_hz, modulation, .. } = *emission;
        let level = (arrival.rssi_dbm.round(), tenths(arrival.snr_db));
        let gps_time_ms = self.has_gps.then(|| gps_time::from_unix_us(clock::us(end)).unsigned_abs() / 1000);
        let frame = RxPacket {
            gps_time_ms,
            ..RxPacket::lora(self.clock_us(end), frequency_hz, modulation, level, emission.phy_payload.clone())
        };
        let push = PushData { frames: vec![frame], ..PushData::default() };
        self.call(Datagram::PushData { token: self.token(), gateway: self.eui, push }).await;
    }

    /// Keeps calling, and takes what is to be sent, until dropped.
    pub async fn run(self: Arc<Self>, sendings: mpsc::Sender<Sending>) {
        let mut pull = tokio::time::interval(PULL_EVERY);
        let mut status = tokio::time::interval(STATUS_EVERY);
        let mut buffer = vec![0; 4096];
        loop {
            tokio::select! {
                _ = pull.tick() => {
                    self.call(Datagram::PullData { token: self.token(), gateway: self.eui }).await;
                },
                _ = status.tick() => {
                    let push = PushData { status: Some(self.status()), ..PushData::default() };
                    self.call(Datagram::PushData { token: self.token(), gateway: self.eui, push }).await;
                },
                received = self.socket.recv(&mut buffer) => {
                    let Ok(len) = received else {
                        // Nobody listens on the other side; do not ask in a tight loop.
                        tokio::time::sleep(Duration::from_millis(100)).await;
                        continue;
                    };
                    if let Ok(Datagram::PullResp { token, packet }) = Datagram::parse(&buffer[..len]) {
                        let result = self.plan(&packet, Instant::now());
                        let ack = result.as_ref().map(|_| ()).map_err(Clone::clone);
                        self.call(Datagram::TxAck { token, gateway: self.eui, result: ack }).await;
                        if let Ok(at) = result {
                            let _ = sendings.send(Sending { gateway: self.eui, at, packet }).await;
                        }
                    }
                }
            }
        }
    }

    /// When a frame goes out, or why it cannot.
    fn plan(&self, packet: &TxPacket, now: Instant) -> Result<Instant, TxAckError> {
        let at = match packet.when {
            TxTime::AtOnce => now,
            TxTime::GpsMs(_) if !self.has_gps => return Err(TxAckError::GpsUnlocked),
            TxTime::GpsMs(ms) => {
                let at = clock::instant(gps_time::to_unix_us(i64::try_from(ms).unwrap_or(i64::MAX / 1000) * 1000));
                if at <= now {
                    return Err(TxAckError::TooLate);
                }
                if at > now + Duration::from_micros(u64::from(TOO_EARLY_US.unsigned_abs())) {
                    return Err(TxAckError::TooEarly);
                }
                at
            }
            TxTime::Clock(clock) => match clock.wrapping_sub(self.clock_us(now)).cast_signed() {
                ..=0 => return Err(TxAckError::TooLate),
                TOO_EARLY_US.. => return Err(TxAckError::TooEarly),
                us => now + Duration::from_micros(u64::from(us.unsigned_abs())),
            },
        };
        let length = match packet.modulation {
            Modulation::Lora { spreading_factor, bandwidth } if packet.no_header => {
                airtime::LoraPacket::BEACON.airtime_us(spreading_factor, bandwidth.hz(), packet.phy_payload.len())
            }
            modulation => airtime::downlink_us(modulation, packet.phy_payload.len()),
        };
        let end = at + Duration::from_micros(length);
        let mut busy = self.busy.lock().unwrap_or_else(PoisonError::into_inner);
        busy.retain(|(_, end)| *end > now);
        if busy.iter().any(|(from, to)| at < *to && *from < end) {
            return Err(TxAckError::CollisionPacket);
        }
        busy.push((at, end));
        self.sent.fetch_add(1, Ordering::Relaxed);
        Ok(at)
    }

    fn status(&self) -> GatewayStatus {
        let received = self.received.load(Ordering::Relaxed);
        GatewayStatus {
            latitude_deg: Some(self.place.latitude_deg),
            longitude_deg: Some(self.place.longitude_deg),
            received: Some(received),
            received_ok: Some(received),
            forwarded: Some(received),
            acknowledged_percent: Some(100.0),
            sent: Some(self.sent.load(Ordering::Relaxed)),
            ..GatewayStatus::default()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLACE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    async fn towards(server: &UdpSocket) -> Arc<Gateway> {
        Gateway::connect(Eui64(7), "test", PLACE, 2.0, false, server.local_addr().unwrap()).await.unwrap()
    }

    fn packet(at_clock_us: Option<u32>) -> TxPacket {
        at(at_clock_us.map_or(TxTime::AtOnce, TxTime::Clock))
    }

    fn at(when: TxTime) -> TxPacket {
        TxPacket {
            when,
            frequency_hz: 868_100_000,
            rf_chain: 0,
            power_dbm: 14,
            modulation: Modulation::lora(7, 125).unwrap(),
            inverted_polarity: true,
            deviation_hz: None,
            no_crc: true,
            no_header: false,
            preamble_symbols: None,
            phy_payload: vec![0; 20],
        }
    }

    #[tokio::test]
    async fn a_transmission_has_its_time_and_the_transmitter_to_itself() {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let gateway = towards(&server).await;
        let now = Instant::now();
        let clock = |after_us: u32| Some(gateway.clock_us(now).wrapping_add(after_us));
        assert_eq!(gateway.plan(&packet(clock(0)), now), Err(TxAckError::TooLate));
        assert_eq!(gateway.plan(&packet(clock(u32::MAX)), now), Err(TxAckError::TooLate), "a microsecond ago");
        assert_eq!(gateway.plan(&packet(clock(20_000_000)), now), Err(TxAckError::TooEarly));
        assert_eq!(gateway.plan(&packet(clock(1_000_000)), now), Ok(now + Duration::from_secs(1)));
        // 20 bytes at SF7 without CRC take 56.576 ms.
        assert_eq!(gateway.plan(&packet(clock(1_050_000)), now), Err(TxAckError::CollisionPacket));
        assert!(gateway.plan(&packet(clock(1_056_576)), now).is_ok());
        assert_eq!(gateway.plan(&packet(None), now), Ok(now), "at once");
        assert_eq!(gateway.plan(&at(TxTime::GpsMs(1_400_000_000_000)), now), Err(TxAckError::GpsUnlocked));
    }

    #[tokio::test]
    async fn it_calls_reports_and_acknowledges_over_its_socket() {
        let server = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let gateway = towards(&server).await;
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
        let down = Datagram::PullResp { token: 99, packet: packet(None) };
        server.send_to(&down.emit(), pulled.unwrap()).await.unwrap();
        let (len, _) = server.recv_from(&mut buffer).await.unwrap();
        assert_eq!(
            Datagram::parse(&buffer[..len]),
            Ok(Datagram::TxAck { token: 99, gateway: Eui64(7), result: Ok(()) })
        );
        assert_eq!(sendings.recv().await.unwrap().packet, packet(None));
        task.abort();
    }
}

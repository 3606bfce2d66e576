//! The UDP packet-forwarder protocol's socket: answers gateways, hands frames to the network, sends
//! what the network wants sent.

use std::io;
use std::iter;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};

use engine::{FrameHeard, Transmission, TxFailure};
use gateway_link::udp::{Datagram, MAX_DATAGRAM, PushData, Token};
use lorawan::Eui64;
use tokio::net::UdpSocket;
use tokio_util::sync::CancellationToken;

use super::awaited::Awaited;
use super::frames;
use crate::intake::{self, Intake};
use crate::network::{Network, Taken};
use crate::presence::{Presence, Standing};

/// Datagrams that are taken before any of them is acknowledged.
const AT_ONCE: usize = 64;

/// The gateways' socket and the transmissions under way on it.
pub struct Udp {
    socket: UdpSocket,
    presence: Arc<Presence>,
    intake: Arc<Intake>,
    network: Network,
    next_token: AtomicU16,
    awaited: Awaited<(Eui64, Token)>,
}

impl Udp {
    pub fn new(socket: UdpSocket, presence: Arc<Presence>, intake: Arc<Intake>, network: Network) -> Arc<Self> {
        let next_token = AtomicU16::new(rand::random());
        Arc::new(Self { socket, presence, intake, network, next_token, awaited: Awaited::default() })
    }

    /// Hands a frame to its gateway.
    pub async fn send(&self, transmission: &Transmission, to: SocketAddr) -> Result<(), TxFailure> {
        let token = self.next_token.fetch_add(1, Ordering::Relaxed);
        self.awaited.add((transmission.gateway, token), transmission.id);
        let packet = frames::packet(transmission);
        match self.socket.send_to(&Datagram::PullResp { token, packet }.emit(), to).await {
            Ok(_) => Ok(()),
            Err(error) => {
                self.awaited.reported(&(transmission.gateway, token));
                tracing::warn!(%to, "a downlink could not be sent: {error}");
                Err(TxFailure::Unreachable)
            }
        }
    }

    async fn answer(&self, to: SocketAddr, datagram: Datagram) {
        if let Err(error) = self.socket.send_to(&datagram.emit(), to).await {
            tracing::debug!(%to, "an acknowledgement could not be sent: {error}");
        }
    }

    async fn received(&self, bytes: &[u8], from: SocketAddr, pushed: &mut Pushed) {
        self.intake.datagrams.fetch_add(1, Ordering::Relaxed);
        match Datagram::parse(bytes) {
            Ok(Datagram::PushData { token, gateway, push }) => {
                let frames_hz = push.frames.iter().map(|frame| frame.frequency_hz);
                let standing = self.presence.datagram(gateway, from, frames_hz, false);
                self.sift(gateway, push, standing, from, pushed);
                // Strangers are answered as well, so that they keep calling and can be seen; pretenders are not.
                if standing != Standing::TurnedAway {
                    pushed.acknowledge.push((from, token));
                }
            }
            Ok(Datagram::PullData { token, gateway }) => {
                match self.presence.datagram(gateway, from, iter::empty(), true) {
                    Standing::TurnedAway => {
                        self.intake.dropped("turned_away", format!("a call of {gateway}"), from);
                    }
                    Standing::Known | Standing::Stranger => self.answer(from, Datagram::PullAck { token }).await,
                }
            }
            Ok(Datagram::TxAck { token, gateway, result }) => {
                let Some((id, took)) = self.awaited.reported(&(gateway, token)) else {
                    self.intake.dropped("unasked_transmit_report", format!("token {token} of {gateway}"), from);
                    return;
                };
                self.presence.round_trip(gateway, took.as_secs_f64() * 1000.0);
                if !self.network.try_report(id, result.map_err(frames::failure)) {
                    self.intake.dropped("overload", "a transmit report".into(), from);
                }
            }
            Ok(Datagram::PushAck { .. } | Datagram::PullAck { .. } | Datagram::PullResp { .. }) => {
                self.intake.dropped("wrong_direction", "a message only a server sends".into(), from);
            }
            Err(error) => self.intake.dropped(intake::reason(&error), error.to_string(), from),
        }
    }

    fn sift(&self, gateway: Eui64, push: PushData, standing: Standing, from: SocketAddr, pushed: &mut Pushed) {
        if let Some(status) = push.status.as_ref().filter(|_| standing == Standing::Known) {
            self.presence.reported(gateway, status);
        }
        for why in push.unreadable {
            self.intake.dropped("unreadable_entry", why, from);
        }
        for frame in push.frames {
            if standing == Standing::Stranger {
                self.intake.dropped("stranger_gateway", format!("a frame from {gateway}"), from);
            } else if standing == Standing::TurnedAway {
                self.intake.dropped("turned_away", format!("a frame from {gateway}"), from);
            } else if frame.crc_ok == Some(false) {
                self.intake.dropped("bad_crc", format!("{} bytes heard by {gateway}", frame.phy_payload.len()), from);
            } else {
                self.presence.clock(gateway, frame.clock_us);
                pushed.from.push((gateway, from));
                pushed.frames.push(frames::heard(gateway, frame));
            }
        }
    }

    /// Hands in what gateways have pushed, and acknowledges it once it is safe.
    async fn take(&self, pushed: &mut Pushed) {
        let frames = std::mem::take(&mut pushed.frames);
        let count = frames.len();
        if count > 0 {
            match self.network.hear(frames) {
                Taken::Shed => {
                    for (gateway, from) in pushed.from.iter().copied() {
                        self.intake.dropped("overload", format!("a frame from {gateway}"), from);
                    }
                }
                taken => self.intake.took(count, taken == Taken::Journalled),
            }
        }
        pushed.from.clear();
        for (from, token) in pushed.acknowledge.drain(..) {
            self.answer(from, Datagram::PushAck { token }).await;
        }
    }
}

/// What gateways have pushed, before it is in the journal.
#[derive(Default)]
struct Pushed {
    frames: Vec<FrameHeard>,
    /// Where each came from.
    from: Vec<(Eui64, SocketAddr)>,
    /// Whose datagrams are to be acknowledged then.
    acknowledge: Vec<(SocketAddr, Token)>,
}

/// Receives until the service stops.
pub async fn listen(links: Arc<Udp>, stopping: CancellationToken) {
    // One byte more than is allowed, so that a longer datagram is seen to be too long.
    let mut buffer = vec![0; MAX_DATAGRAM + 1];
    let mut pushed = Pushed::default();
    loop {
        let mut received = tokio::select! {
            received = links.socket.recv_from(&mut buffer) => received,
            () = stopping.cancelled() => return,
        };
        // What has come in meanwhile goes into the journal with it.
        let mut left = AT_ONCE;
        loop {
            match received {
                Ok((len, from)) => links.received(&buffer[..len], from, &mut pushed).await,
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                // On Linux an ICMP error for an earlier answer shows up here; the socket goes on.
                Err(error) => tracing::debug!("receiving: {error}"),
            }
            left -= 1;
            if left == 0 {
                break;
            }
            received = links.socket.try_recv_from(&mut buffer);
        }
        links.take(&mut pushed).await;
    }
}

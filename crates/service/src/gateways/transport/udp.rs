//! The UDP packet-forwarder protocol's socket: answers gateways, hands frames to the network, sends
//! what the network wants sent.

use std::io;
use std::iter;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::Duration;

use api::gateway::Protocol;
use engine::{FrameHeard, Transmission, TxFailure};
use gateway_link::udp::{Datagram, MAX_DATAGRAM, PushData, Token};
use lorawan::Eui64;
use rustix::net::sockopt;
use tokio::net::UdpSocket;
use tokio_util::sync::CancellationToken;

use crate::gateways::registry::{CallerStatus, GatewayRegistry};
use crate::gateways::transport::awaited::Awaited;
use crate::gateways::transport::frames;
use crate::ingest::network::{Network, Taken};
use crate::ingest::stats;
use crate::ingest::stats::IngestStats;

/// Datagrams that are taken before any of them is acknowledged.
const AT_ONCE: usize = 64;

/// The gateways' socket and the transmissions under way on it.
pub(crate) struct Udp {
    socket: UdpSocket,
    presence: Arc<GatewayRegistry>,
    ingest: Arc<IngestStats>,
    network: Network,
    next_token: AtomicU16,
    awaited: Awaited<(Eui64, Token)>,
}

impl Udp {
    pub(crate) fn new(
        socket: UdpSocket,
        presence: Arc<GatewayRegistry>,
        ingest: Arc<IngestStats>,
        network: Network,
    ) -> Arc<Self> {
        let next_token = AtomicU16::new(rand::random());
        Arc::new(Self { socket, presence, ingest, network, next_token, awaited: Awaited::default() })
    }

    /// Hands a frame to its gateway.
    pub(crate) async fn send(&self, transmission: &Transmission, to: SocketAddr) -> Result<(), TxFailure> {
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
        self.ingest.datagrams.fetch_add(1, Ordering::Relaxed);
        match Datagram::parse(bytes) {
            Ok(Datagram::PushData { token, gateway, push }) => {
                let frames_hz = push.frames.iter().map(|frame| frame.frequency_hz);
                let caller_status = self.presence.datagram(gateway, from, frames_hz, false);
                let before = pushed.frames.len();
                self.sift(gateway, push, caller_status, from, pushed);
                let frames = pushed.frames.len() - before;
                // Strangers are answered as well, so that they keep calling and can be seen; pretenders are not.
                if caller_status != CallerStatus::TurnedAway {
                    pushed.acknowledge.push((from, token, frames));
                }
            }
            Ok(Datagram::PullData { token, gateway }) => {
                match self.presence.datagram(gateway, from, iter::empty(), true) {
                    CallerStatus::TurnedAway => {
                        self.ingest.dropped("turned_away", format!("a call of {gateway}"), from);
                    }
                    CallerStatus::Known | CallerStatus::Stranger => {
                        self.answer(from, Datagram::PullAck { token }).await;
                    }
                }
            }
            Ok(Datagram::TxAck { gateway, .. })
                if self.presence.caller_status(gateway, Protocol::Udp, Some(from)) == CallerStatus::TurnedAway =>
            {
                self.ingest.dropped("turned_away", format!("a transmit report of {gateway}"), from);
            }
            Ok(Datagram::TxAck { token, gateway, result }) => {
                let Some((id, took)) = self.awaited.reported(&(gateway, token)) else {
                    self.ingest.dropped("unasked_transmit_report", format!("token {token} of {gateway}"), from);
                    return;
                };
                self.presence.round_trip(gateway, took.as_secs_f64() * 1000.0);
                if !self.network.try_report(id, result.map_err(frames::failure)) {
                    self.ingest.dropped("overload", "a transmit report".into(), from);
                }
            }
            Ok(Datagram::PushAck { .. } | Datagram::PullAck { .. } | Datagram::PullResp { .. }) => {
                self.ingest.dropped("wrong_direction", "a message only a server sends".into(), from);
            }
            Err(error) => self.ingest.dropped(stats::reason(&error), error.to_string(), from),
        }
    }

    fn sift(&self, gateway: Eui64, push: PushData, caller_status: CallerStatus, from: SocketAddr, pushed: &mut Pushed) {
        if let Some(status) = push.status.as_ref().filter(|_| caller_status == CallerStatus::Known) {
            self.presence.reported(gateway, status);
        }
        for why in push.unreadable {
            self.ingest.dropped("unreadable_entry", why, from);
        }
        for frame in push.frames {
            if caller_status == CallerStatus::Stranger {
                self.ingest.dropped("stranger_gateway", format!("a frame from {gateway}"), from);
            } else if caller_status == CallerStatus::TurnedAway {
                self.ingest.dropped("turned_away", format!("a frame from {gateway}"), from);
            } else if frame.crc_ok == Some(false) {
                self.ingest.dropped("bad_crc", format!("{} bytes heard by {gateway}", frame.phy_payload.len()), from);
            } else {
                self.presence.clock(gateway, frame.clock_us);
                pushed.from.push((gateway, from));
                pushed.frames.push(frames::heard(gateway, frame));
            }
        }
    }

    /// Writes pushed frames to the journal, and acknowledges them once they are durable.
    async fn take(&self, pushed: &mut Pushed) {
        let frames = std::mem::take(&mut pushed.frames);
        let count = frames.len();
        let taken = if count > 0 { self.network.hear(frames, true) } else { Taken::Journalled };
        match taken {
            Taken::Shed => {
                for (gateway, from) in pushed.from.iter().copied() {
                    self.ingest.dropped("overload", format!("a frame from {gateway}"), from);
                }
            }
            taken => self.ingest.took(count, taken == Taken::Journalled),
        }
        pushed.from.clear();
        for (from, token, frames) in pushed.acknowledge.drain(..) {
            // Only durable frames are acknowledged. A datagram without a frame is acknowledged at once.
            if taken == Taken::Journalled || frames == 0 {
                self.answer(from, Datagram::PushAck { token }).await;
            }
        }
    }
}

/// Pushed frames that are not in the journal yet.
#[derive(Default)]
struct Pushed {
    frames: Vec<FrameHeard>,
    /// The address of each.
    from: Vec<(Eui64, SocketAddr)>,
    /// The datagrams to acknowledge then, with the number of frames in each.
    acknowledge: Vec<(SocketAddr, Token, usize)>,
}

/// Room that the kernel is asked for: some ten thousand datagrams, so that a busy moment loses none.
const KERNEL_BYTES: usize = 16 << 20;
/// How often the kernel is asked what it had no room for.
const DROPS_EVERY: Duration = Duration::from_secs(5);

/// Asks the kernel for room; it gives what the machine allows.
pub(crate) fn widen(socket: &UdpSocket) {
    // Beyond the machine's limit only root may ask.
    let asked = sockopt::set_socket_recv_buffer_size_force(socket, KERNEL_BYTES)
        .or_else(|_| sockopt::set_socket_recv_buffer_size(socket, KERNEL_BYTES));
    let got = sockopt::socket_recv_buffer_size(socket).unwrap_or(0);
    if asked.is_err() || got < KERNEL_BYTES {
        tracing::info!("the kernel keeps {} kB of datagrams; more with net.core.rmem_max", got / 1024);
    }
}

/// Datagrams for a local address that the kernel had no room for: the last column of proc(5)'s `/proc/net/udp`.
fn lost_by_kernel(tables: &str, local: SocketAddr) -> Option<u64> {
    let port = format!(":{:04X}", local.port());
    let mut found = None;
    for line in tables.lines() {
        let mut fields = line.split_whitespace().skip(1);
        if fields.next().is_some_and(|address| address.ends_with(&port)) {
            let drops: u64 = fields.last()?.parse().ok()?;
            found = Some(found.unwrap_or(0) + drops);
        }
    }
    found
}

/// Counts what the kernel had no room for, until the service stops.
pub(crate) async fn watch_drops(local: SocketAddr, ingest: Arc<IngestStats>, stopping: CancellationToken) {
    let mut often = tokio::time::interval(DROPS_EVERY);
    let mut known: Option<u64> = None;
    loop {
        tokio::select! {
            _ = often.tick() => {}
            () = stopping.cancelled() => return,
        }
        let tables =
            ["/proc/self/net/udp", "/proc/self/net/udp6"].map(|path| std::fs::read_to_string(path).unwrap_or_default());
        let Some(now) = lost_by_kernel(&tables.concat(), local) else { continue };
        // A socket before this one, on the same port, may have lost some as well.
        let lost = now.saturating_sub(known.unwrap_or(0));
        if lost > 0 {
            ingest.lost_by_kernel(lost);
            tracing::warn!("the kernel had no room for {lost} datagrams of gateways");
        }
        known = Some(now);
    }
}

/// Receives until the service stops.
pub(crate) async fn listen(links: Arc<Udp>, stopping: CancellationToken) {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kernels_table_says_what_it_had_no_room_for() {
        let tables = "   sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode ref pointer drops\n\
            100: 0100007F:06A4 00000000:0000 07 00000000:00000000 00:00000000 00000000     0        0 34251 2 0000000000000000 17\n\
            101: 0100007F:06A5 00000000:0000 07 00000000:00000000 00:00000000 00000000     0        0 34252 2 0000000000000000 4\n";
        assert_eq!(lost_by_kernel(tables, ([127, 0, 0, 1], 1700).into()), Some(17));
        assert_eq!(lost_by_kernel(tables, ([127, 0, 0, 1], 1702).into()), None);
    }
}

//! A stand-in gateway over a real socket, by UDP or by WebSocket.

mod beaconing;
mod faults;
mod transmitter;
mod udp;
mod websocket;

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use agent::kit::Entrance;
use coverage::geo::Place;
use gateway_link::udp::TxPacket;
use lorawan::Eui64;
use lorawan::region::Region;
use tokio::sync::mpsc;
use tokio::time::Instant;

use crate::air::Arrival;
use crate::device::Emission;
use crate::environment::MomentUs;
use transmitter::Transmitter;

pub use faults::Faults;
pub(crate) use transmitter::sending_us;

/// What it sends with where nobody tells it: by WebSocket the power is the gateway's own to know.
const OWN_POWER_DBM: i32 = 14;
/// A century of uptime.
const NEVER: Duration = Duration::from_secs(3_000_000_000);

/// Where a gateway stands, and what it has.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its state.
    pub place: Place,
    /// Whether it has GPS time.
    pub has_gps: bool,
    /// Whose channels it hears.
    pub region: Region,
    /// What goes wrong with it.
    pub faults: Faults,
}

/// Its protocol.
#[derive(Debug, Clone)]
pub enum Way {
    /// Datagrams to this address.
    Udp(SocketAddr),
    /// By the files of its kit.
    WebSocket(Box<Entrance>),
}

/// A stand-in gateway.
pub struct Gateway {
    /// Its EUI.
    pub eui: Eui64,
    /// Where it is, and how it is built.
    pub site: Site,
    transmitter: Transmitter,
    received: AtomicU32,
    link: Link,
}

enum Link {
    Udp(udp::Link),
    WebSocket(websocket::Link),
}

/// A frame that a gateway sends.
#[derive(Debug, Clone)]
pub struct Sending {
    /// The gateway's EUI.
    pub gateway: Eui64,
    /// When it begins.
    pub at_us: MomentUs,
    /// What it sends.
    pub packet: TxPacket,
}

/// Where to bind a socket that is to call `server`.
pub(crate) fn any_port_towards(server: SocketAddr) -> SocketAddr {
    if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() }
}

impl Gateway {
    /// Sets one up; it calls once it runs.
    pub async fn new(eui: Eui64, site: Site, way: Way) -> std::io::Result<Arc<Self>> {
        let link = match way {
            Way::Udp(server) => Link::Udp(udp::Link::towards(server).await?),
            Way::WebSocket(entrance) => Link::WebSocket(websocket::Link::new(*entrance)),
        };
        let transmitter = Transmitter::new(site.has_gps, site.faults.clone());
        Ok(Arc::new(Self { eui, site, transmitter, received: AtomicU32::new(0), link }))
    }

    /// Forwards a frame that was heard until `end`.
    pub async fn heard(self: &Arc<Self>, emission: &Emission, end: Instant, arrival: Arrival) {
        self.received.fetch_add(1, Ordering::Relaxed);
        let faults = &self.site.faults;
        if faults.loses() {
            return;
        }
        let frequency_hz = faults.heard_on_hz(self.site.region, emission.frequency_hz);
        let emission = Emission { frequency_hz, ..emission.clone() };
        if faults.delay_ms == 0 {
            return self.forward(&emission, end, arrival).await;
        }
        // Others hear it meanwhile.
        let (gateway, delay) = (Arc::clone(self), Duration::from_millis(faults.delay_ms));
        tokio::spawn(async move {
            tokio::time::sleep(delay).await;
            gateway.forward(&emission, end, arrival).await;
        });
    }

    async fn forward(&self, emission: &Emission, end: Instant, arrival: Arrival) {
        match &self.link {
            Link::Udp(link) => self.push(link, emission, end, arrival).await,
            Link::WebSocket(link) => self.tell(link, emission, end, arrival),
        }
    }

    /// When its connection breaks next.
    fn breaks(&self) -> tokio::time::Interval {
        let every = self.site.faults.reconnects_every_s.map_or(NEVER, Duration::from_secs_f64);
        tokio::time::interval_at(Instant::now() + every, every)
    }

    /// Keeps calling, and takes what is to be sent, until dropped.
    pub async fn run(self: Arc<Self>, sendings: mpsc::Sender<Sending>) {
        match &self.link {
            Link::Udp(link) => self.run_udp(link, sendings).await,
            Link::WebSocket(link) => self.run_websocket(link, sendings).await,
        }
    }
}

fn tenths(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

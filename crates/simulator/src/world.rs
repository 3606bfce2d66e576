//! A simulation in real time: its gateways call a service over sockets, and what they send reaches its devices.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use agent::kit::Kit;
use api::gateway::Protocol;
use coverage::geo::Place;
use lorawan::Eui64;
use tokio::net::UdpSocket;
use tokio::sync::{broadcast, mpsc};
use tokio::task::JoinSet;
use tokio::time::Instant;

pub use crate::simulation::{Event, What};

use crate::clock;
use crate::gateway::{Gateway, Sending, Site, Way};
use crate::lns;
use crate::scenario::{GatewayEntry, Scenario, ScenarioError, parsed};
use crate::simulation::{News, SavedWorld, Simulation};

/// Messages that an agent beside a gateway keeps.
const KEPT_BY_AGENT: usize = 1000;
/// Frames of gateways that wait to be brought to devices.
const SENDINGS: usize = 256;

/// The running world; it ends when dropped.
pub struct World {
    events: broadcast::Sender<Event>,
    simulation: Arc<Mutex<Simulation>>,
    _tasks: JoinSet<()>,
}

fn no_socket(source: std::io::Error) -> ScenarioError {
    ScenarioError::File { file: "a socket".into(), source }
}

fn site(entry: &GatewayEntry) -> Site {
    Site {
        name: entry.name.clone(),
        place: Place { latitude_deg: entry.latitude_deg, longitude_deg: entry.longitude_deg },
        has_gps: entry.beacons,
        region: entry.region,
        faults: entry.faults.clone(),
    }
}

/// How a gateway reaches the service; an agent that it needs is started with `tasks`.
async fn way_of(
    entry: &GatewayEntry,
    (eui, kit): (Eui64, Option<&Kit>),
    server: SocketAddr,
    tasks: &mut JoinSet<()>,
) -> Result<Way, ScenarioError> {
    match (entry.protocol, kit) {
        (Protocol::Udp, _) => Ok(Way::Udp(server)),
        (Protocol::Websocket, Some(kit)) => {
            let entrance = lns::entrance(kit, eui).await.map_err(|source| ScenarioError::Kit { eui, source })?;
            Ok(Way::WebSocket(Box::new(entrance)))
        }
        (Protocol::Mqtt, Some(kit)) => {
            // Most gateways behind MQTT speak UDP to an agent that runs beside them.
            let socket = UdpSocket::bind("127.0.0.1:0").await.map_err(no_socket)?;
            let beside = socket.local_addr().map_err(no_socket)?;
            let tell = Box::new(|text: String| tracing::info!("{text}"));
            let options = agent::Options { kit: kit.clone(), socket, keep: KEPT_BY_AGENT, tell };
            tasks.spawn(async {
                if let Err(why) = agent::run(options, std::future::pending()).await {
                    tracing::warn!("an agent has ended: {why}");
                }
            });
            Ok(Way::Udp(beside))
        }
        (Protocol::Websocket | Protocol::Mqtt, None) => Err(ScenarioError::NoKit { name: entry.name.clone(), eui }),
    }
}

impl World {
    /// Sets everything going for the first time; gateways call `server` by UDP, or as their kit says.
    ///
    /// # Errors
    /// A value of the scenario cannot be used, or a gateway cannot call.
    pub async fn start(
        scenario: &Scenario,
        server: SocketAddr,
        kits: &HashMap<Eui64, Kit>,
    ) -> Result<Self, ScenarioError> {
        Self::go_on(scenario, (server, kits), None).await
    }

    /// The same, from a saved state.
    ///
    /// # Errors
    /// As [`World::start`].
    pub async fn go_on(
        scenario: &Scenario,
        (server, kits): (SocketAddr, &HashMap<Eui64, Kit>),
        saved: Option<SavedWorld>,
    ) -> Result<Self, ScenarioError> {
        let now_us = clock::us(Instant::now());
        let (present_us, seed) =
            saved.as_ref().map_or((now_us, rand::random()), |saved| (saved.present_us, saved.seed));
        let mut simulation = Simulation::new(scenario, (now_us, present_us), seed)?;
        if let Some(saved) = saved {
            simulation.restore(saved);
        }
        let simulation = Arc::new(Mutex::new(simulation));
        let mut tasks = JoinSet::new();
        let (sendings, to_send) = mpsc::channel::<Sending>(SENDINGS);
        let mut gateways = Vec::new();
        for entry in &scenario.gateways {
            let wrong = |problem| ScenarioError::Value { what: entry.name.clone(), problem: Box::new(problem) };
            let eui = parsed::<Eui64>("eui", &entry.eui).map_err(wrong)?;
            let way = way_of(entry, (eui, kits.get(&eui)), server, &mut tasks).await?;
            let gateway = Gateway::new(eui, site(entry), way).await.map_err(no_socket)?;
            tasks.spawn(Arc::clone(&gateway).run(sendings.clone()));
            gateways.push(gateway);
        }
        let events = broadcast::Sender::new(1024);
        tasks.spawn(live(Arc::clone(&simulation), gateways, to_send, events.clone()));
        Ok(Self { events, simulation, _tasks: tasks })
    }

    /// What goes on from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.events.subscribe()
    }

    /// Its state now, to be saved.
    pub fn saved(&self) -> SavedWorld {
        self.simulation.lock().unwrap_or_else(PoisonError::into_inner).saved()
    }
}

/// Runs the simulation at the pace of the clock.
async fn live(
    simulation: Arc<Mutex<Simulation>>,
    gateways: Vec<Arc<Gateway>>,
    mut to_send: mpsc::Receiver<Sending>,
    events: broadcast::Sender<Event>,
) {
    let locked = || simulation.lock().unwrap_or_else(PoisonError::into_inner);
    loop {
        let next = locked().next_at().map(clock::instant);
        let due = async {
            match next {
                Some(at) => tokio::time::sleep_until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = due => {}
            sending = to_send.recv() => match sending {
                Some(sending) => {
                    locked().send(sending);
                    continue;
                }
                None => return,
            },
        }
        let news = locked().advance(clock::us(Instant::now()));
        for one in news {
            match one {
                News::Event(event) => drop(events.send(event)),
                News::Heard { nth, emission, end_us, arrival, .. } => {
                    gateways[nth].heard(&emission, clock::instant(end_us), arrival).await;
                }
            }
        }
    }
}

//! A scenario come to life: gateways call, devices join and send, and what gateways send reaches the
//! devices that listen at that moment.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use agent::kit::Kit;
use api::gateway::Protocol;
use api::problem::Problem;
use gateway_link::udp::TxPacket;
use lorawan::Eui64;
use lorawan::mac::UpCommand;
use rand::RngExt as _;
use tokio::net::UdpSocket;
use tokio::sync::{Notify, broadcast, mpsc};
use tokio::task::JoinSet;
use tokio::time::Instant;

use crate::device::{Device, Downlink, Emission};
use crate::gateway::{Gateway, Sending, Site, Way};
use crate::radio::{self, Place};
use crate::scenario::{DeviceEntry, GatewayEntry, Scenario, ScenarioError, parsed};
use crate::sensor::Sensor;
use crate::{clock, lns};

/// Uplinks from one LinkCheckReq of a device to the next.
const LINK_CHECK_EVERY: u32 = 6;
/// How soon a device that always listens, or in ping slots, acknowledges what it hears without having sent. The
/// network waits no longer than CLASS_B_RESP_TIMEOUT or CLASS_C_RESP_TIMEOUT, 8 s by default (RP002 §2.3).
const ACKNOWLEDGED_AFTER_S: std::ops::Range<f64> = 1.0..4.0;
/// Messages that an agent beside a gateway keeps.
const KEPT_BY_RELAY: usize = 1000;
/// Between two join-requests that were not answered.
const JOIN_AGAIN: Duration = Duration::from_secs(20);

/// What goes on in the world, as text for people and as values for tests.
#[derive(Debug, Clone)]
pub struct Event {
    /// The device's name.
    pub device: String,
    /// What happened.
    pub what: What,
}

/// What happened to a device.
#[derive(Debug, Clone, PartialEq)]
pub enum What {
    /// It sent a frame.
    Sent {
        /// Whether it is a join-request.
        join: bool,
        /// How many gateways heard it.
        heard_by: usize,
    },
    /// It received a frame.
    Received(Downlink),
    /// It did something about a downlink.
    Did(String),
}

struct Inhabitant {
    entry: DeviceEntry,
    place: Place,
    device: Mutex<Device>,
    sensor: Mutex<Sensor>,
    /// A downlink that came by itself is to be acknowledged.
    asked: Notify,
}

impl Inhabitant {
    fn device(&self) -> MutexGuard<'_, Device> {
        self.device.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn sensor(&self) -> MutexGuard<'_, Sensor> {
        self.sensor.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The running world; it ends when dropped.
pub struct World {
    events: broadcast::Sender<Event>,
    _tasks: JoinSet<()>,
}

fn inhabitant(entry: &DeviceEntry) -> Result<Inhabitant, Problem> {
    let (identity, build) = entry.to_build()?;
    Ok(Inhabitant {
        entry: entry.clone(),
        place: Place { latitude_deg: entry.latitude_deg, longitude_deg: entry.longitude_deg },
        device: Mutex::new(Device::new(identity, build, rand::random())),
        sensor: Mutex::new(Sensor::new(entry.sensor, entry.latitude_deg, entry.longitude_deg)),
        asked: Notify::new(),
    })
}

fn no_socket(source: std::io::Error) -> ScenarioError {
    ScenarioError::File { file: "a socket".into(), source }
}

fn site(entry: &GatewayEntry) -> Site {
    Site {
        name: entry.name.clone(),
        place: Place { latitude_deg: entry.latitude_deg, longitude_deg: entry.longitude_deg },
        gain_dbi: f64::from(entry.antenna_gain_dbi),
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
            let options = agent::Options { kit: kit.clone(), socket, keep: KEPT_BY_RELAY, tell };
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
    /// Sets everything going; gateways call `server` by UDP, or as their kit says.
    pub async fn start(
        scenario: &Scenario,
        server: SocketAddr,
        kits: &HashMap<Eui64, Kit>,
    ) -> Result<Self, ScenarioError> {
        let wrong = |what: &str| {
            let what = what.to_owned();
            move |problem| ScenarioError::Value { what, problem: Box::new(problem) }
        };
        let mut tasks = JoinSet::new();
        let (sendings, mut to_send) = mpsc::channel::<Sending>(256);
        let mut gateways = Vec::new();
        for entry in &scenario.gateways {
            let eui = parsed::<Eui64>("eui", &entry.eui).map_err(wrong(&entry.name))?;
            let way = way_of(entry, (eui, kits.get(&eui)), server, &mut tasks).await?;
            let gateway = Gateway::new(eui, site(entry), way).await.map_err(no_socket)?;
            tasks.spawn(Arc::clone(&gateway).run(sendings.clone()));
            gateways.push(gateway);
        }
        let mut inhabitants = Vec::new();
        for entry in &scenario.devices {
            inhabitants.push(Arc::new(inhabitant(entry).map_err(wrong(&entry.name))?));
        }
        let events = broadcast::Sender::new(1024);
        for (i, inhabitant) in inhabitants.iter().enumerate() {
            // Not all at once: real devices are switched on one after another too.
            let start = Duration::from_millis(300 + 700 * i as u64);
            tasks.spawn(live(Arc::clone(inhabitant), gateways.clone(), events.clone(), start));
        }
        let tell = events.clone();
        tasks.spawn(async move {
            while let Some(sending) = to_send.recv().await {
                let (all, radios, tell) = (inhabitants.clone(), gateways.clone(), tell.clone());
                tokio::spawn(async move { spread(&sending, &all, &radios, &tell).await });
            }
        });
        Ok(Self { events, _tasks: tasks })
    }

    /// What goes on from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.events.subscribe()
    }
}

/// A device's life: join until it is answered, then measure and send.
async fn live(me: Arc<Inhabitant>, gateways: Vec<Arc<Gateway>>, events: broadcast::Sender<Event>, start: Duration) {
    tokio::time::sleep(start).await;
    let mut last = Instant::now();
    let mut sent = 0u32;
    loop {
        let joined = me.device().joined();
        let emission = if joined {
            sent += 1;
            if sent.is_multiple_of(LINK_CHECK_EVERY) {
                me.device().ask(UpCommand::LinkCheckReq);
            }
            if me.entry.restarts_every.is_some_and(|every| sent.is_multiple_of(every)) {
                me.device().restart();
            }
            if me.entry.rejoins_every.is_some_and(|every| sent.is_multiple_of(every)) {
                rejoin(&me, &gateways, &events).await;
            }
            let (port, payload) = me.sensor().measure(last.elapsed().as_secs_f64());
            me.device().uplink(port, &payload, me.entry.confirmed)
        } else {
            Some(me.device().join_request())
        };
        last = Instant::now();
        let Some(mut emission) = emission else { return };
        let times = if joined { me.device().nb_trans() } else { 1 };
        for sent in 0..times {
            if sent > 0 {
                let Some(again) = me.device().again() else { break };
                emission = again;
            }
            tokio::time::sleep(Duration::from_micros(emission.airtime_us.unsigned_abs())).await;
            let end = Instant::now();
            let closed = me.device().listen_after(&emission, clock::us(end));
            let heard_by = emit(&me, &emission, end, &gateways).await;
            let _ = events.send(Event { device: me.entry.name.clone(), what: What::Sent { join: !joined, heard_by } });
            tokio::time::sleep_until(clock::instant(closed)).await;
        }
        let wait = match (joined, me.device().joined()) {
            (false, true) => Duration::from_millis(500),
            (false, false) => JOIN_AGAIN.mul_f64(jitter()),
            _ => Duration::from_secs_f64(me.entry.interval_s * jitter()).saturating_sub(last.elapsed()),
        };
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            () = me.asked.notified() => {
                let soon = rand::rng().random_range(ACKNOWLEDGED_AFTER_S);
                tokio::time::sleep(Duration::from_secs_f64(soon)).await;
            }
        }
    }
}

/// Asks for a new session; if no answer comes, the running one goes on.
async fn rejoin(me: &Inhabitant, gateways: &[Arc<Gateway>], events: &broadcast::Sender<Event>) {
    let Some(emission) = me.device().rejoin_request(0) else { return };
    tokio::time::sleep(Duration::from_micros(emission.airtime_us.unsigned_abs())).await;
    let end = Instant::now();
    let closed = me.device().listen_after(&emission, clock::us(end));
    let heard_by = emit(me, &emission, end, gateways).await;
    let _ = events.send(Event { device: me.entry.name.clone(), what: What::Sent { join: true, heard_by } });
    tokio::time::sleep_until(clock::instant(closed)).await;
}

/// Real intervals are never quite even, and two devices must not collide for ever.
fn jitter() -> f64 {
    rand::rng().random_range(0.9..1.1)
}

/// Brings a frame of a device to the gateways that hear it; says how many.
async fn emit(me: &Inhabitant, emission: &Emission, end: Instant, gateways: &[Arc<Gateway>]) -> usize {
    let mut heard = 0;
    for gateway in gateways {
        let arrival = radio::arrival(
            me.place,
            gateway.site.place,
            emission.eirp_dbm,
            gateway.site.gain_dbi,
            emission.frequency_hz,
            emission.modulation,
            rand::random(),
        );
        if arrival.heard {
            gateway.heard(emission, end, arrival).await;
            heard += 1;
        }
    }
    heard
}

/// A frame from a gateway to the devices that listen at that moment and are near enough.
async fn spread(
    sending: &Sending,
    inhabitants: &[Arc<Inhabitant>],
    gateways: &[Arc<Gateway>],
    events: &broadcast::Sender<Event>,
) {
    tokio::time::sleep_until(sending.at).await;
    let Some(gateway) = gateways.iter().find(|g| g.eui == sending.gateway) else { return };
    let TxPacket { frequency_hz, modulation, power_dbm, .. } = sending.packet;
    for inhabitant in inhabitants {
        let eirp_dbm = f64::from(power_dbm) + gateway.site.gain_dbi;
        let arrival = radio::arrival(
            gateway.site.place,
            inhabitant.place,
            eirp_dbm,
            0.0,
            frequency_hz,
            modulation,
            rand::random(),
        );
        let at_us = clock::us(sending.at);
        let received = {
            let mut device = inhabitant.device();
            let bytes = &sending.packet.phy_payload;
            if arrival.heard && !sending.packet.inverted_polarity && device.hear_beacon(bytes, modulation, at_us) {
                None
            } else {
                let hears = arrival.heard && device.listens(at_us, frequency_hz, modulation);
                if hears { device.receive(bytes) } else { None }
            }
        };
        let Some(downlink) = received else { continue };
        let tell = |what| {
            let _ = events.send(Event { device: inhabitant.entry.name.clone(), what });
        };
        tell(What::Received(downlink.clone()));
        if matches!(downlink, Downlink::Data { confirmed: true, .. }) && inhabitant.device().listens_by_itself() {
            inhabitant.asked.notify_one();
        }
        if let Downlink::Data { port: Some(port), payload, .. } = downlink {
            let done = inhabitant.sensor().command(port, &payload);
            tell(What::Did(done));
        }
    }
}

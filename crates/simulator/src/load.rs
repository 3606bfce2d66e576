//! A load to measure a service with: many personalized devices that send as fast as they are allowed, each
//! uplink heard by several gateways, over the real protocol.
//!
//! Sender and gateways have threads of their own, and do no more than real gateways would: frames heard at the
//! same moment share a datagram, which the protocol has a list for, and each frame to send is reported.

use std::collections::HashMap;
use std::io;
use std::net::{SocketAddr, UdpSocket};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use api::device::place::Place;
use api::device::register::{NewDevice, PersonalSession};
use api::gateway::{GatewayAbout, NewGateway};
use api::model::PutModel;
use api::radio::settings::{RadioSettings, RateSettings};
use api::reading::ReadingRule;
use gateway_link::udp::{Datagram, PushData, RxPacket};
use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::region::Region;
use lorawan::wire::{DataRepr, DataView, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, Modulation};

use crate::gateway::any_port_towards;

/// Frames under way to the service at most: what its socket can hold.
const UNACKNOWLEDGED: u64 = 192;
/// Frames in a datagram at most; as many as a concentrator hears at the same moment on its eight channels.
const TOGETHER: usize = 8;
/// After this one is lost.
const LOST_AFTER: Duration = Duration::from_millis(200);
/// How often a gateway keeps its way down open.
const PULL_EVERY: Duration = Duration::from_secs(5);
/// How long anybody waits before looking whether it is over.
const LOOK_EVERY: Duration = Duration::from_millis(50);
/// The channels every device of EU868 knows.
const FREQUENCIES_HZ: [u32; 3] = [868_100_000, 868_300_000, 868_500_000];
/// A script such as many devices have: a few numbers from a few bytes.
const SCRIPT: &str = "\
function decodeUplink(input) {
  var b = input.bytes;
  var level = (b[0] << 8) | b[1];
  var celsius = ((b[2] << 24) >> 16 | b[3]) / 10;
  return { data: { level: level / 1000, temperature: celsius, battery: b[4] / 50 }, warnings: [], errors: [] };
}
";

const ENDLESS: &str = "function decodeUplink() { for (;;) {} }";

/// How large a load is.
#[derive(Debug, Clone, Copy)]
pub struct Size {
    /// Devices; every second one has a script.
    pub devices: u32,
    /// Gateways that hear each uplink.
    pub gateways: u8,
    /// Further devices, whose decoder never ends.
    pub endless: u32,
}

impl Size {
    /// The model with the script.
    pub fn model() -> PutModel {
        let units = [("level", "m"), ("temperature", "°C"), ("battery", "V")];
        PutModel {
            maker: "Benchwright".into(),
            name: "Load probe".into(),
            decoder: Some(SCRIPT.into()),
            readings: units.map(|(name, unit)| (name.into(), ReadingRule::of_unit(unit))).into(),
            radio: RadioSettings::default(),
            ..PutModel::default()
        }
    }

    /// The model of the devices whose decoder never ends.
    pub fn endless_model() -> PutModel {
        PutModel {
            maker: "Benchwright".into(),
            name: "Endless probe".into(),
            decoder: Some(ENDLESS.into()),
            ..PutModel::default()
        }
    }

    /// One of those devices, to register.
    pub fn endless_device(&self, n: u32, fleet: &str, model: &str) -> NewDevice {
        NewDevice { model: Some(model.into()), ..Self::device(self.devices + n, fleet, model) }
    }

    /// A gateway to register.
    pub fn gateway(n: u8) -> NewGateway {
        let about = GatewayAbout { name: format!("load-{n}"), region: Some(Region::Eu868), ..GatewayAbout::default() };
        NewGateway { eui: gateway_eui(n).to_string(), about }
    }

    /// A device to register.
    pub fn device(n: u32, fleet: &str, model: &str) -> NewDevice {
        let keys = keys(n);
        NewDevice {
            dev_eui: Eui64(0x02b0_0bec_0000_0000 + u64::from(n)).to_string(),
            join_eui: Eui64(0x02aa_0bec_0000_0000).to_string(),
            personal: Some(PersonalSession {
                dev_addr: dev_addr(n).to_string(),
                app_s_key: keys.1.to_hex().into(),
                nwk_s_key: keys.0.to_hex().into(),
                s_nwk_s_int_key: None,
                nwk_s_enc_key: None,
            }),
            region: Some(Region::Eu868),
            // The network asks nothing by itself: every downlink is one that the load has caused.
            radio: RadioSettings {
                channels: Some("0-2".into()),
                rates: Some(RateSettings::Device),
                status_interval_s: Some(0),
                ..RadioSettings::default()
            },
            name: format!("load-{n:06}"),
            fleet: fleet.into(),
            model: n.is_multiple_of(2).then(|| model.into()),
            place: Some(place(n)),
            ..NewDevice::default()
        }
    }
}

fn gateway_eui(n: u8) -> Eui64 {
    Eui64(0x02a1_0bec_0000_0000 + u64::from(n))
}

fn dev_addr(n: u32) -> DevAddr {
    DevAddr(n)
}

/// A place of its own, on a grid of some 100 m: what is heard from there is evidence of coverage.
fn place(n: u32) -> Place {
    let (row, column) = (n / 100, n % 100);
    Place {
        latitude_deg: 54.5 + f64::from(row) / 1000.0,
        longitude_deg: 3.8 + f64::from(column) / 1000.0,
        ..Place::default()
    }
}

/// Network and application session key of a device.
fn keys(n: u32) -> (AesKey, AesKey) {
    let key = |purpose: u8| {
        let mut bytes = [purpose; 16];
        bytes[..4].copy_from_slice(&n.to_be_bytes());
        AesKey(bytes)
    };
    (key(0x4e), key(0x41))
}

#[derive(Default)]
struct Shared {
    over: AtomicBool,
    /// Uplinks that may have been sent by now.
    allowed: AtomicU64,
    sent: AtomicU64,
    /// Datagrams in which they were, and frames in those that were acknowledged.
    datagrams: AtomicU64,
    acknowledged: AtomicU64,
    acknowledged_frames: AtomicU64,
    /// Uplinks from one confirmed uplink to the next; none are confirmed while this is 0.
    confirmed_every: AtomicU64,
    /// Uplinks between two of devices whose decoder never ends; none while this is 0.
    endless_every: AtomicU64,
    /// Those that were sent.
    endless_sent: AtomicU64,
    /// Confirmed uplinks that were not answered yet.
    unanswered: Mutex<HashMap<DevAddr, Instant>>,
    /// From the end of a confirmed uplink to its answer at the gateway.
    answered_us: Mutex<Vec<u64>>,
}

/// A load under way; it ends when dropped.
pub struct Load {
    shared: Arc<Shared>,
    threads: Vec<JoinHandle<()>>,
}

impl Load {
    /// Opens the gateways' sockets. Nothing is sent until it is [allowed](Self::allow).
    pub fn start(size: Size, server: SocketAddr) -> io::Result<Self> {
        let shared = Arc::new(Shared::default());
        let mut sockets = Vec::new();
        let mut threads = Vec::new();
        for n in 0..size.gateways {
            let socket = UdpSocket::bind(any_port_towards(server))?;
            socket.connect(server)?;
            socket.set_read_timeout(Some(LOOK_EVERY))?;
            sockets.push((gateway_eui(n), socket.try_clone()?));
            let shared = Arc::clone(&shared);
            threads.push(thread::spawn(move || answer(&shared, gateway_eui(n), &socket)));
        }
        let sending = Arc::clone(&shared);
        threads.push(thread::spawn(move || send(&sending, size, &sockets)));
        Ok(Self { shared, threads })
    }

    /// Lets it send until it has sent this many uplinks in all.
    pub fn allow(&self, uplinks: u64) {
        self.shared.allowed.fetch_max(uplinks, Ordering::Relaxed);
    }

    /// Sets how many uplinks there are from one confirmed uplink to the next; 0 for none.
    pub fn confirm_every(&self, uplinks: u64) {
        self.shared.confirmed_every.store(uplinks, Ordering::Relaxed);
    }

    /// Sets how many uplinks there are between two of devices whose decoder never ends; 0 for none.
    pub fn endless_every(&self, uplinks: u64) {
        self.shared.endless_every.store(uplinks, Ordering::Relaxed);
    }

    /// Uplinks sent so far by devices whose decoder never ends.
    pub fn endless_sent(&self) -> u64 {
        self.shared.endless_sent.load(Ordering::Relaxed)
    }

    /// Uplinks sent so far by the others.
    pub fn sent(&self) -> u64 {
        self.shared.sent.load(Ordering::Relaxed)
    }

    /// Datagrams that the service has not acknowledged.
    pub fn unacknowledged(&self) -> u64 {
        let datagrams = self.shared.datagrams.load(Ordering::Relaxed);
        datagrams.saturating_sub(self.shared.acknowledged.load(Ordering::Relaxed))
    }

    /// How long answers took, from the end of an uplink to the gateway's having it.
    pub fn answered_us(&self) -> Vec<u64> {
        self.shared.answered_us.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::Relaxed);
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}

fn send(shared: &Shared, size: Size, gateways: &[(Eui64, UdpSocket)]) {
    let Some(writer) = FrameWriter::new(shared, size) else { return };
    let start = Instant::now();
    let (mut sent, mut lost) = (0u64, 0u64);
    while !shared.over.load(Ordering::Relaxed) {
        // What may be sent by now is sent together.
        let due = shared.allowed.load(Ordering::Relaxed).saturating_sub(sent).min(TOGETHER as u64);
        if due == 0 {
            thread::sleep(Duration::from_micros(500));
            continue;
        }
        lost += wait_for_acknowledgements(shared, sent, lost, gateways.len());
        let mut frames = writer.regular(sent..sent + due);
        frames.extend(writer.endless(sent..sent + due));
        for (i, (gateway, socket)) in gateways.iter().enumerate() {
            let clock_us = start.elapsed().as_micros() as u32;
            let level = (-80.0 - i as f64, 9.0 - i as f64);
            let heard = |(frequency_hz, frame): &(u32, Vec<u8>)| {
                RxPacket::lora(clock_us, *frequency_hz, writer.modulation, level, frame.clone())
            };
            let push = PushData { frames: frames.iter().map(heard).collect(), ..PushData::default() };
            shared.datagrams.fetch_add(1, Ordering::Relaxed);
            // A full socket buffer sheds, as a gateway's would; what is not acknowledged is counted. The token
            // tells how many frames that was.
            let _ = socket.send(&Datagram::PushData { token: frames.len() as u16, gateway: *gateway, push }.emit());
        }
        sent += due;
        shared.sent.store(sent, Ordering::Relaxed);
    }
}

/// Waits until few enough frames are without an acknowledgement; how many have to be taken for lost.
fn wait_for_acknowledgements(shared: &Shared, sent: u64, lost: u64, gateways: usize) -> u64 {
    let wait = Instant::now();
    loop {
        let open = ((sent + shared.endless_sent.load(Ordering::Relaxed)) * gateways as u64)
            .saturating_sub(lost + shared.acknowledged_frames.load(Ordering::Relaxed));
        if open < UNACKNOWLEDGED {
            return 0;
        }
        if wait.elapsed() > LOST_AFTER {
            return open;
        }
        thread::sleep(Duration::from_micros(50));
    }
}

/// Writes the frames of all devices, each with its frequency.
struct FrameWriter<'a> {
    shared: &'a Shared,
    size: Size,
    keys: Vec<(MicKey, PayloadKey)>,
    modulation: Modulation,
}

impl<'a> FrameWriter<'a> {
    fn new(shared: &'a Shared, size: Size) -> Option<Self> {
        let keys = (0..size.devices + size.endless)
            .map(keys)
            .map(|(network, app)| (MicKey::new(&network), PayloadKey::new(&app)))
            .collect();
        Some(Self { shared, size, keys, modulation: Modulation::lora(7, 125)? })
    }

    fn frame(&self, i: u64, n: u32, counter: u32, confirmed: bool) -> Option<(u32, Vec<u8>)> {
        let [high, low] = (counter as u16).to_be_bytes();
        let payload = [high, low, 0x00, 0xd2, 0xb4, 0, 0, 0, 0, 0, 0, n as u8];
        let (flags, payload) = (UplinkFlags::default(), Some((2, &payload[..])));
        let repr = DataRepr::uplink(dev_addr(n), counter, flags, payload).confirmed(confirmed);
        let (network, app) = &self.keys[n as usize];
        Some((FREQUENCIES_HZ[i as usize % FREQUENCIES_HZ.len()], repr.emit(network, app).ok()?))
    }

    /// Uplinks of the devices in turn, some of them confirmed.
    fn regular(&self, range: Range<u64>) -> Vec<(u32, Vec<u8>)> {
        let every = self.shared.confirmed_every.load(Ordering::Relaxed);
        let devices = u64::from(self.size.devices);
        range
            .filter_map(|i| {
                let n = (i % devices) as u32;
                let confirmed = every > 0 && i.is_multiple_of(every);
                if confirmed {
                    let mut unanswered = self.shared.unanswered.lock().unwrap_or_else(PoisonError::into_inner);
                    unanswered.insert(dev_addr(n), Instant::now());
                }
                self.frame(i, n, (i / devices) as u32, confirmed)
            })
            .collect()
    }

    /// Uplinks of the devices whose decoder never ends.
    fn endless(&self, range: Range<u64>) -> Vec<(u32, Vec<u8>)> {
        let every = self.shared.endless_every.load(Ordering::Relaxed);
        let devices = u64::from(self.size.endless.max(1));
        range
            .filter(|i| every > 0 && i.is_multiple_of(every))
            .filter_map(|i| {
                let before = self.shared.endless_sent.fetch_add(1, Ordering::Relaxed);
                let n = self.size.devices + (before % devices) as u32;
                self.frame(i, n, (before / devices) as u32, false)
            })
            .collect()
    }
}

/// A gateway's other half: keeps the way down open, counts acknowledgements, reports what it is to send.
fn answer(shared: &Shared, gateway: Eui64, socket: &UdpSocket) {
    let mut buffer = [0; 4096];
    let mut pulled: Option<Instant> = None;
    while !shared.over.load(Ordering::Relaxed) {
        if pulled.is_none_or(|at| at.elapsed() >= PULL_EVERY) {
            let _ = socket.send(&Datagram::PullData { token: 0, gateway }.emit());
            pulled = Some(Instant::now());
        }
        let Ok(len) = socket.recv(&mut buffer) else { continue };
        match Datagram::parse(&buffer[..len]) {
            Ok(Datagram::PushAck { token }) => {
                shared.acknowledged.fetch_add(1, Ordering::Relaxed);
                shared.acknowledged_frames.fetch_add(u64::from(token), Ordering::Relaxed);
            }
            Ok(Datagram::PullResp { token, packet }) => {
                let _ = socket.send(&Datagram::TxAck { token, gateway, result: Ok(()) }.emit());
                let Ok(view) = DataView::new_checked(&packet.phy_payload) else { continue };
                let asked = shared.unanswered.lock().unwrap_or_else(PoisonError::into_inner).remove(&view.dev_addr());
                if let Some(at) = asked {
                    let us = at.elapsed().as_micros() as u64;
                    shared.answered_us.lock().unwrap_or_else(PoisonError::into_inner).push(us);
                }
            }
            _ => {}
        }
    }
}

//! A run of faults against a service under load, and an account of what became of what it had acknowledged.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;
use std::process::Command;
use std::time::{Duration, Instant};

use gateway_link::udp::Datagram;
use lorawan::region::Region;
use lorawan::wire::Frame;
use lorawan::{AesKey, Eui64};
use serde_json::{Value, json};
use simulator::device::{Build, Device, Identity};

use crate::gateway::Gateway;
use crate::mariadb::MariaDb;
use crate::service::{ESTATE, Service};

const GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_00fa);
const JOIN_EUI: Eui64 = Eui64(0x02aa_0000_0000_00fa);
const KEY: AesKey = AesKey([0x3d; 16]);
const DEVICES: u64 = 4;
/// The time after a fault within which everything acknowledged has to be stored.
const CATCH_UP: Duration = Duration::from_secs(90);
const DECODER: &str = "function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }";

/// What is done to the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The service is killed, and started again.
    Kill,
    /// It is stopped as an operator would, and started again.
    Stop,
    /// The database falls silent for some seconds.
    SilentDatabase,
    /// The database takes nothing for some seconds, as when it is full.
    FullDatabase,
    /// The service is killed while the database is silent.
    KillWhileSilent,
    /// The disk with the journal is full for some seconds.
    FullJournal,
    /// The decoders' workers are killed.
    KillWorkers,
}

impl Fault {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::Kill,
        Self::Stop,
        Self::SilentDatabase,
        Self::FullDatabase,
        Self::KillWhileSilent,
        Self::FullJournal,
        Self::KillWorkers,
    ];

    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Kill => "service killed",
            Self::Stop => "service stopped",
            Self::SilentDatabase => "database silent",
            Self::FullDatabase => "database refuses to write",
            Self::KillWhileSilent => "killed, database silent",
            Self::FullJournal => "journal's disk full",
            Self::KillWorkers => "decoder workers killed",
        }
    }
}

/// What became of the uplinks of one kind of fault.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct Tally {
    /// How many rounds there were.
    pub rounds: u32,
    /// How many frames were sent.
    pub sent: usize,
    /// How many of them were acknowledged.
    pub acknowledged: usize,
    /// How many of them were stored.
    pub stored: usize,
    /// Acknowledged, and not stored.
    pub lost: usize,
    /// Stored more than once.
    pub doubled: usize,
    /// Counters towards devices that stand in two different frames.
    pub reused: usize,
    /// Until all that was acknowledged was stored.
    pub longest: Duration,
}

/// The account of a run.
#[derive(Debug, Default)]
pub struct Account(pub Vec<(&'static str, Tally)>);

impl Account {
    /// Whether everything held.
    pub fn holds(&self) -> bool {
        self.0.iter().all(|(_, tally)| (tally.lost, tally.doubled, tally.reused) == (0, 0, 0))
    }
}

impl fmt::Display for Account {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{:<28} rounds   sent  acknowledged  stored  lost  doubled  counters reused  stored within", "")?;
        for (what, t) in &self.0 {
            let within = format!("{:.1} s", t.longest.as_secs_f64());
            let Tally { rounds, sent, acknowledged, stored, lost, doubled, reused, .. } = t;
            writeln!(
                f,
                "{what:<28} {rounds:>6} {sent:>6} {acknowledged:>13} {stored:>7} {lost:>5} {doubled:>8} {reused:>16} {within:>14}"
            )?;
        }
        Ok(())
    }
}

/// A service under load.
struct Load {
    server: &'static MariaDb,
    service: Service,
    gateway: Gateway,
    devices: Vec<(Eui64, Device)>,
    clock_us: u32,
    /// Uplinks that wait for their acknowledgement, by token.
    waiting: HashMap<u16, (Eui64, u32)>,
    sent: BTreeSet<(Eui64, u32)>,
    acknowledged: BTreeSet<(Eui64, u32)>,
    /// The frame behind each address and counter towards it.
    downlinks: BTreeMap<(u32, u16), Vec<u8>>,
    reused: usize,
}

impl Load {
    async fn set_up() -> Self {
        let server: &'static MariaDb = Box::leak(Box::new(MariaDb::start()));
        let service = match Service::with_small_journal_on(server).await {
            Some(service) => service,
            None => Service::on(server).await,
        };
        let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "mast" })).await;
        let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
        let model = json!({ "maker": "Benchwright", "name": "Probe", "decoder": DECODER });
        let path = format!("/estates/{ESTATE}/models/probe");
        let _: Value = service.done(reqwest::Method::PUT, &path, Some(model)).await;
        let gateway = Gateway::towards(service.udp, GATEWAY).await;
        let mut load = Self {
            server,
            service,
            gateway,
            devices: Vec::new(),
            clock_us: 0,
            waiting: HashMap::new(),
            sent: BTreeSet::new(),
            acknowledged: BTreeSet::new(),
            downlinks: BTreeMap::new(),
            reused: 0,
        };
        load.gateway.pull().await;
        for n in 0..DEVICES {
            load.join(Eui64(0x02b0_0900_0000_0f00 + n)).await;
        }
        load
    }

    async fn join(&mut self, eui: Eui64) {
        let radio = json!({ "rates": { "by": "device" }, "status_interval_s": 0, "rx_delay_s": 1 });
        let new = json!({ "dev_eui": eui, "join_eui": JOIN_EUI, "app_key": KEY.to_hex(), "name": format!("probe-{eui}"),
            "fleet": "bench", "model": "probe", "radio": radio });
        let _: Value = self.service.post("devices", new).await;
        let identity = Identity::joining(eui, JOIN_EUI, KEY);
        let mut device = Device::new(identity, Build::plain(Region::Eu868, 5), eui.0);
        while !device.joined() {
            self.clock_us = self.clock_us.wrapping_add(10_000_000);
            let request = device.join_request();
            self.gateway.throw(&request, self.clock_us).await;
            while let Some(datagram) = self.gateway.receive(Duration::from_secs(2)).await {
                if let Datagram::PullResp { token, packet } = datagram {
                    self.gateway.report(token, Ok(())).await;
                    device.receive(&packet.phy_payload);
                    break;
                }
            }
        }
        self.devices.push((eui, device));
    }

    /// Every device sends once, some asking for an acknowledgement; what comes back is taken.
    async fn round(&mut self, n: u8) {
        for at in 0..self.devices.len() {
            let (eui, device) = &mut self.devices[at];
            let confirmed = (usize::from(n) + at).is_multiple_of(3);
            let emission = device.uplink(2, &[n], confirmed).expect("it has joined");
            let Ok(Frame::Data(view)) = Frame::parse(&emission.phy_payload) else { continue };
            let uplink = (*eui, u32::from(view.counter_low()));
            self.sent.insert(uplink);
            self.clock_us = self.clock_us.wrapping_add(50_000);
            let token = self.gateway.throw(&emission, self.clock_us).await;
            self.waiting.insert(token, uplink);
            self.take(Duration::from_millis(8)).await;
        }
    }

    async fn take(&mut self, time: Duration) {
        let end = Instant::now() + time;
        while let Some(left) = end.checked_duration_since(Instant::now()) {
            match self.gateway.receive(left).await {
                Some(Datagram::PushAck { token }) => {
                    self.acknowledged.extend(self.waiting.remove(&token));
                }
                Some(Datagram::PullResp { token, packet }) => {
                    self.gateway.report(token, Ok(())).await;
                    if let Ok(Frame::Data(view)) = Frame::parse(&packet.phy_payload) {
                        let key = (view.dev_addr().0, view.counter_low());
                        let first = self.downlinks.entry(key).or_insert_with(|| packet.phy_payload.clone());
                        self.reused += usize::from(*first != packet.phy_payload);
                    }
                    self.devices.iter_mut().for_each(|(_, device)| drop(device.receive(&packet.phy_payload)));
                }
                Some(_) => {}
                None => return,
            }
        }
    }

    async fn rounds(&mut self, count: u8) {
        for n in 0..count {
            self.round(n).await;
        }
    }

    /// Does something to it, under load; `false` if that cannot be done here.
    async fn suffer(&mut self, fault: Fault) -> bool {
        self.rounds(12).await;
        match fault {
            Fault::Kill => {
                self.service.kill();
                self.service.start_again();
            }
            Fault::Stop => {
                self.service.stop();
                self.service.start_again();
            }
            Fault::SilentDatabase => {
                self.server.freeze(true);
                self.rounds(40).await;
                self.server.freeze(false);
            }
            Fault::FullDatabase => {
                self.server.as_root("SET GLOBAL read_only = ON");
                self.rounds(40).await;
                self.server.as_root("SET GLOBAL read_only = OFF");
            }
            Fault::KillWhileSilent => {
                self.server.freeze(true);
                self.rounds(30).await;
                self.service.kill();
                self.server.freeze(false);
                self.service.start_again();
            }
            Fault::FullJournal if self.service.has_small_journal() => {
                self.service.fill_journal(true);
                self.rounds(40).await;
                self.service.fill_journal(false);
            }
            Fault::FullJournal => return false,
            Fault::KillWorkers => {
                let parent = self.service.process_id().to_string();
                for _ in 0..10 {
                    let _ = Command::new("pkill").args(["-KILL", "-P", &parent]).status();
                    self.rounds(4).await;
                }
            }
        }
        self.gateway.pull().await;
        self.rounds(12).await;
        self.take(Duration::from_millis(500)).await;
        true
    }

    /// What is in the history, with how often it is there.
    fn stored(&self) -> BTreeMap<(Eui64, u32), usize> {
        let rows = self.service.query(
            "SELECT CONV(HEX(dev_eui), 16, 10), JSON_VALUE(body, '$.frame.counter'), COUNT(*) FROM messages
             WHERE kind = 'uplink' GROUP BY 1, 2",
        );
        let number = |text: &str| text.parse::<u64>().expect("a number");
        let row = |line: &str| {
            let mut columns = line.split('\t').map(number);
            let mut next = || columns.next().expect("three columns");
            ((Eui64(next()), next() as u32), next() as usize)
        };
        rows.lines().map(row).collect()
    }

    /// Waits until all that was acknowledged is stored, or for as long as it may take; then counts.
    async fn count(&mut self, tally: &mut Tally) {
        let begun = Instant::now();
        let stored = loop {
            let stored = self.stored();
            let all = self.acknowledged.iter().all(|uplink| stored.contains_key(uplink));
            if all || begun.elapsed() > CATCH_UP {
                break stored;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        tally.rounds += 1;
        tally.longest = tally.longest.max(begun.elapsed());
        tally.sent += self.sent.len();
        tally.acknowledged += self.acknowledged.len();
        tally.stored += self.sent.iter().filter(|uplink| stored.contains_key(uplink)).count();
        tally.lost += self.acknowledged.iter().filter(|uplink| !stored.contains_key(uplink)).count();
        tally.doubled += self.sent.iter().filter(|uplink| stored.get(uplink).is_some_and(|count| *count > 1)).count();
        tally.reused += std::mem::take(&mut self.reused);
        self.sent.clear();
        self.acknowledged.clear();
        self.waiting.clear();
    }
}

/// Does each kind of fault this many times to one service; tells each round.
pub async fn run(faults: &[Fault], rounds: u32, mut told: impl FnMut(&str)) -> Account {
    let mut load = Load::set_up().await;
    let mut account = Account::default();
    for fault in faults {
        let mut tally = Tally::default();
        for round in 1..=rounds {
            told(&format!("{}, {round} of {rounds}", fault.label()));
            if !load.suffer(*fault).await {
                told("left out: no file system can be mounted here (run as root)");
                break;
            }
            load.count(&mut tally).await;
        }
        account.0.push((fault.label(), tally));
    }
    account
}

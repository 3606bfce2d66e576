//! A scenario as a simulation without clock and sockets: devices wake, send and listen, and gateways' frames reach those who
//! listen at that moment.
//!
//! The caller gives the time, passes each [`News::Heard`] to a network, and hands in what gateways send. So the same simulation
//! covers thirty days in seconds on a virtual clock, and continues in real time ([`crate::world`]).

mod inhabitant;
mod saved;

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};

use api::problem::Problem;
use coverage::geo::Place;
use coverage::link::antenna::Antenna;
use lorawan::Eui64;
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};

pub use saved::SavedWorld;

use crate::air::{Air, Arrival, Mast};
use crate::device::{Downlink, Emission};
use crate::environment::{DAY_US, MomentUs};
use crate::gateway::{Sending, sending_us};
use crate::on_air::{Burst, OnAir};
use crate::scenario::{DaysAgo, GatewayEntry, Scenario, ScenarioError, Weaker, parsed};
use inhabitant::{Frame, Inhabitant, UnderWay};

/// Between the first wakes of two devices: real ones are switched on one after another too.
const APART_US: i64 = 700_000;
/// From the start to the first of them.
const FIRST_US: i64 = 300_000;

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

/// What came of a turn of the simulation.
#[derive(Debug, Clone)]
pub enum News {
    /// A gateway has heard a frame.
    Heard {
        /// Its place among the scenario's gateways, of which two may have one EUI.
        nth: usize,
        /// Its EUI.
        gateway: Eui64,
        /// The frame.
        emission: Emission,
        /// When it ended.
        end_us: MomentUs,
        /// How it arrived.
        arrival: Arrival,
    },
    /// Something happened to a device.
    Event(Event),
}

/// What is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Turn {
    /// A device wakes, if that is its latest plan.
    Wakes(usize, u32),
    /// Its frame ends.
    Ends(usize),
    /// Its windows close.
    Closes(usize),
    /// A gateway sends.
    Sends(u64),
}

/// A gateway's side of the air.
struct Post {
    eui: Eui64,
    /// When it was not there.
    away: Vec<DaysAgo>,
    /// Since when its antenna or its cable has lost something.
    weaker: Option<Weaker>,
}

/// The running simulation.
pub struct Simulation {
    /// The moment that the scenario's days are counted back from.
    present_us: MomentUs,
    now_us: MomentUs,
    seed: u64,
    rng: StdRng,
    air: Air,
    on_air: OnAir,
    posts: Vec<Post>,
    inhabitants: Vec<Inhabitant>,
    queue: BinaryHeap<Reverse<(MomentUs, u64, Turn)>>,
    /// Counts what was put into the queue, and names sendings.
    count: u64,
    sendings: HashMap<u64, Sending>,
    news: Vec<News>,
}

/// A time so many days before the present.
fn days_ago(present_us: MomentUs, days: f64) -> MomentUs {
    present_us - (days * DAY_US as f64) as i64
}

fn mast(entry: &GatewayEntry) -> Mast {
    let usual = || Antenna::Omni { gain_dbi: f64::from(entry.antenna_gain_dbi), vertical_beam_deg: 60.0 };
    Mast {
        place: Place { latitude_deg: entry.latitude_deg, longitude_deg: entry.longitude_deg },
        height_m: entry.height_m,
        antenna: entry.antenna.clone().unwrap_or_else(usual),
        noise_db: entry.noise_db,
    }
}

impl Simulation {
    /// The scenario's world from `start_us` on. Its past ends at `present_us`, which may be the same. The same seed makes the
    /// same world.
    ///
    /// # Errors
    /// A value of the scenario cannot be used, or a file of its ground cannot be read.
    pub fn new(
        scenario: &Scenario,
        (start_us, present_us): (MomentUs, MomentUs),
        seed: u64,
    ) -> Result<Self, ScenarioError> {
        let wrong = |what: &str, problem: Problem| ScenarioError::Value { what: what.into(), problem: problem.into() };
        let terrain = scenario.terrain()?;
        let masts = scenario.gateways.iter().map(mast).collect();
        let mut simulation = Self {
            present_us,
            now_us: start_us,
            seed,
            rng: StdRng::seed_from_u64(seed),
            air: Air::new(terrain, masts, seed),
            on_air: OnAir::default(),
            posts: Vec::new(),
            inhabitants: Vec::new(),
            queue: BinaryHeap::new(),
            count: 0,
            sendings: HashMap::new(),
            news: Vec::new(),
        };
        for entry in &scenario.gateways {
            let eui = parsed::<Eui64>("eui", &entry.eui).map_err(|why| wrong(&entry.name, why))?;
            simulation.posts.push(Post { eui, away: entry.away.clone(), weaker: entry.weaker });
        }
        for (nth, entry) in scenario.devices.iter().enumerate() {
            let made = Inhabitant::new(entry, scenario, (present_us, seed)).map_err(|why| wrong(&entry.name, why))?;
            let first_us = start_us + FIRST_US + APART_US * nth as i64;
            let since_us = entry.since_days_ago.map_or(first_us, |days| days_ago(present_us, days));
            simulation.inhabitants.push(made);
            simulation.plan(nth, first_us.max(since_us));
        }
        Ok(simulation)
    }

    /// When something is due next.
    pub fn next_at(&self) -> Option<MomentUs> {
        self.queue.peek().map(|Reverse((at_us, ..))| *at_us)
    }

    /// Does all that is due until then, and gives what came of it.
    pub fn advance(&mut self, until_us: MomentUs) -> Vec<News> {
        while let Some(Reverse((at_us, _, turn))) = self.queue.peek().copied()
            && at_us <= until_us
        {
            self.queue.pop();
            self.now_us = self.now_us.max(at_us);
            match turn {
                Turn::Wakes(who, plan) if self.inhabitants[who].plan == plan => self.wakes(who),
                Turn::Wakes(..) => {}
                Turn::Ends(who) => self.ends(who),
                Turn::Closes(who) => self.closes(who),
                Turn::Sends(id) => self.sends(id),
            }
        }
        std::mem::take(&mut self.news)
    }

    /// Takes a frame that a gateway is about to send.
    pub fn send(&mut self, sending: Sending) {
        let at_us = sending.at_us.max(self.now_us);
        let id = self.put(at_us, Turn::Sends);
        self.sendings.insert(id, sending);
    }

    /// Whether a gateway is there.
    pub fn is_there(&self, gateway: Eui64, at_us: MomentUs) -> bool {
        self.posts.iter().any(|post| post.eui == gateway && self.post_is_there(post, at_us))
    }

    /// When registered gateways were away in the past: which, from when, until when.
    pub fn away(&self) -> Vec<(Eui64, MomentUs, MomentUs)> {
        let of = |post: &Post| {
            let away = post.away.iter().map(|away| {
                let at = |days| days_ago(self.present_us, days);
                (post.eui, at(away.from_days_ago), at(away.until_days_ago))
            });
            away.collect::<Vec<_>>()
        };
        self.posts.iter().flat_map(of).collect()
    }

    fn post_is_there(&self, post: &Post, at_us: MomentUs) -> bool {
        !post.away.iter().any(|away| {
            (days_ago(self.present_us, away.from_days_ago)..days_ago(self.present_us, away.until_days_ago))
                .contains(&at_us)
        })
    }

    /// What a gateway's antenna or cable loses, in dB.
    fn lost_db(&self, mast: usize, at_us: MomentUs) -> f64 {
        let weaker = self.posts.get(mast).and_then(|post| post.weaker);
        weaker
            .filter(|weaker| at_us >= days_ago(self.present_us, weaker.since_days_ago))
            .map_or(0.0, |weaker| weaker.loss_db)
    }

    fn put(&mut self, at_us: MomentUs, turn: impl FnOnce(u64) -> Turn) -> u64 {
        self.count += 1;
        self.queue.push(Reverse((at_us, self.count, turn(self.count))));
        self.count
    }

    /// Has a device wake then, instead of when it was to.
    fn plan(&mut self, who: usize, at_us: MomentUs) {
        let one = &mut self.inhabitants[who];
        one.plan = one.plan.wrapping_add(1);
        one.wakes_us = at_us;
        let plan = one.plan;
        self.put(at_us, |_| Turn::Wakes(who, plan));
    }

    fn tell(&mut self, who: usize, what: What) {
        let device = self.inhabitants[who].name().to_owned();
        self.news.push(News::Event(Event { device, what }));
    }

    fn wakes(&mut self, who: usize) {
        let (now_us, terrain) = (self.now_us, self.air.terrain());
        match self.inhabitants[who].wake(now_us, terrain) {
            Some((frame, emission)) => self.begins(who, frame, emission),
            // It has nothing to send on; it tries again later.
            None => self.plan(who, now_us + 60_000_000),
        }
    }

    fn begins(&mut self, who: usize, frame: Frame, emission: Emission) {
        let until_us = self.now_us + emission.airtime_us;
        let burst = Burst {
            from_us: self.now_us,
            until_us,
            frequency_hz: emission.frequency_hz,
            modulation: emission.modulation,
            eirp_dbm: emission.eirp_dbm,
            spot: self.inhabitants[who].spot,
            sender: who,
        };
        self.on_air.begins(burst);
        self.inhabitants[who].under_way = Some(UnderWay { frame, emission, burst });
        self.put(until_us, |_| Turn::Ends(who));
    }

    /// Brings a frame of a device to the gateways that hear it.
    fn ends(&mut self, who: usize) {
        let Some(UnderWay { frame, emission, burst }) = self.inhabitants[who].under_way.clone() else { return };
        let closes_us = self.inhabitants[who].device.listen_after(&emission, self.now_us);
        let mut heard_by = 0;
        for mast in 0..self.posts.len() {
            if !self.post_is_there(&self.posts[mast], self.now_us) {
                continue;
            }
            let lost_db = self.lost_db(mast, self.now_us);
            let how = (emission.eirp_dbm - lost_db, emission.modulation);
            let arrival = self.air.up((mast, burst.spot), how, self.now_us, &mut self.rng);
            if arrival.heard && !self.on_air.loses(&burst, (mast, arrival.rssi_dbm + lost_db), &mut self.air) {
                heard_by += 1;
                let (gateway, emission) = (self.posts[mast].eui, emission.clone());
                self.news.push(News::Heard { nth: mast, gateway, emission, end_us: self.now_us, arrival });
            }
        }
        self.tell(who, What::Sent { join: frame != Frame::Uplink, heard_by });
        self.put(closes_us, |_| Turn::Closes(who));
    }

    fn closes(&mut self, who: usize) {
        let (now_us, terrain) = (self.now_us, self.air.terrain());
        if let Some((frame, emission)) = self.inhabitants[who].goes_on(now_us, terrain) {
            return self.begins(who, frame, emission);
        }
        let at_us = self.inhabitants[who].next_wake(now_us, &mut self.rng);
        self.plan(who, at_us);
    }

    /// A frame from a gateway to the devices that listen at that moment and are near enough.
    fn sends(&mut self, id: u64) {
        let Some(Sending { gateway, packet, .. }) = self.sendings.remove(&id) else { return };
        let Some(mast) = self.posts.iter().position(|post| post.eui == gateway) else { return };
        let at_us = self.now_us;
        let how = (f64::from(packet.power_dbm) - self.lost_db(mast, at_us), packet.modulation);
        self.on_air.mast_sends(mast, at_us, at_us + sending_us(&packet) as i64);
        for who in 0..self.inhabitants.len() {
            let one = &self.inhabitants[who];
            let for_beacon = !packet.inverted_polarity && one.device.looks_for_beacons();
            if !for_beacon && !one.device.listens(at_us, packet.frequency_hz, packet.modulation) {
                continue;
            }
            let arrival = self.air.down((mast, one.spot), how, at_us, &mut self.rng);
            if !arrival.heard {
                continue;
            }
            let one = &mut self.inhabitants[who];
            if for_beacon && one.device.hear_beacon(&packet.phy_payload, packet.modulation, at_us) {
                continue;
            }
            one.device.heard_with(arrival.snr_db);
            let Some(downlink) = one.device.receive(&packet.phy_payload) else { continue };
            self.received(who, downlink);
        }
    }

    fn received(&mut self, who: usize, downlink: Downlink) {
        let at_us = self.now_us;
        self.tell(who, What::Received(downlink.clone()));
        let one = &mut self.inhabitants[who];
        if matches!(downlink, Downlink::Data { confirmed: true, .. }) && one.device.listens_by_itself() {
            one.soon_us = Some(at_us + (self.rng.random_range(inhabitant::ACKNOWLEDGED_AFTER_S) * 1e6) as i64);
        }
        if let Downlink::Data { port: Some(port), payload, .. } = downlink {
            let did = one.sensor.command(port, &payload, at_us);
            self.tell(who, What::Did(did));
        }
        let one = &mut self.inhabitants[who];
        if one.under_way.is_none()
            && let Some(soon_us) = one.soon_us.take()
        {
            self.plan(who, soon_us);
        }
    }
}

#[cfg(test)]
mod tests;

//! The observations of a network in memory. It grows as they come; each is 64 bytes and eight for each gateway that heard it.

use std::collections::{HashMap, HashSet};
use std::hash::Hash;

use super::observation::{Heard, Implausible, Observation};
use crate::geo::Place;

/// Nothing that carries a device is faster, in metres a second.
const FASTEST_M_S: f64 = 100.0;
/// A position may be this far off by itself, in metres.
const OFF_M: f64 = 2_000.0;
const HOUR_S: i64 = 3_600;

/// Numbers for what has long names.
#[derive(Debug, Clone)]
struct Numbers<T> {
    all: Vec<T>,
    of: HashMap<T, u32>,
}

impl<T: Copy + Eq + Hash> Numbers<T> {
    fn new() -> Self {
        Self { all: Vec::new(), of: HashMap::new() }
    }

    fn number(&mut self, one: T) -> u32 {
        let next = self.all.len() as u32;
        let number = *self.of.entry(one).or_insert(next);
        if number == next {
            self.all.push(one);
        }
        number
    }
}

#[derive(Debug, Clone, Copy)]
struct Reception {
    gateway: u32,
    /// In tenths of a decibel.
    rssi: i16,
    snr: i16,
}

#[derive(Debug, Clone)]
struct Row {
    at_s: i64,
    place: Option<Place>,
    device: u32,
    first: u32,
    count: u16,
    uplinks: u16,
    lost: u16,
    data_rate: u8,
    moves: bool,
    needed_snr_db: f32,
    power_dbm: f32,
    reserve_db: f32,
}

/// Which observations.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Filter {
    /// From this time on, in seconds since 1970.
    pub from_s: Option<i64>,
    /// Before this time.
    pub until_s: Option<i64>,
    /// Of this device.
    pub device: Option<u64>,
    /// As this gateway heard them, or did not.
    pub gateway: Option<u64>,
    /// At this data rate.
    pub data_rate: Option<u8>,
    /// Of these devices, in order; of all if none are given.
    pub among: Option<Vec<u64>>,
}

/// Observations, in the order in which they came.
#[derive(Debug)]
pub struct Record {
    rows: Vec<Row>,
    receptions: Vec<Reception>,
    devices: Numbers<u64>,
    gateways: Numbers<u64>,
    /// Where each device that moves was last.
    last: HashMap<u32, (Place, i64)>,
    /// The hours in which each gateway heard something.
    listening: HashSet<(u32, i64)>,
    refused: [u64; Implausible::REASONS.len()],
}

/// An observation of the record.
#[derive(Debug, Clone, Copy)]
pub struct Seen<'a> {
    record: &'a Record,
    row: &'a Row,
}

impl Default for Record {
    fn default() -> Self {
        Self {
            rows: Vec::new(),
            receptions: Vec::new(),
            devices: Numbers::new(),
            gateways: Numbers::new(),
            last: HashMap::new(),
            listening: HashSet::new(),
            refused: [0; Implausible::REASONS.len()],
        }
    }
}

impl Record {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// How many were refused, by the reasons of [`Implausible::REASONS`].
    pub fn refused(&self) -> [u64; Implausible::REASONS.len()] {
        self.refused
    }

    /// Adds an observation. Those of one device come in the order of their times.
    ///
    /// # Errors
    /// It cannot be; it is left out and counted.
    pub fn add(&mut self, observed: &Observation) -> Result<(), Implausible> {
        let device = self.devices.number(observed.device);
        let taken = observed.check().and_then(|()| self.follow(device, observed));
        if let Err(why) = taken {
            self.refused[why.reason()] += 1;
            return Err(why);
        }
        let first = self.receptions.len() as u32;
        for heard in &observed.heard {
            let gateway = self.gateways.number(heard.gateway);
            let tenths = |value: f32| (value * 10.0).round() as i16;
            self.receptions.push(Reception { gateway, rssi: tenths(heard.rssi_dbm), snr: tenths(heard.snr_db) });
            self.listening.insert((gateway, observed.at_s.div_euclid(HOUR_S)));
        }
        self.rows.push(Row {
            at_s: observed.at_s,
            place: observed.place,
            device,
            first,
            count: (self.receptions.len() - first as usize) as u16,
            uplinks: observed.uplinks,
            lost: observed.lost,
            data_rate: observed.data_rate,
            moves: observed.moves,
            needed_snr_db: observed.needed_snr_db as f32,
            power_dbm: observed.power_dbm as f32,
            reserve_db: observed.reserve_db as f32,
        });
        Ok(())
    }

    /// Refuses a place that the device cannot have got to; that may also be the end of one that was wrong before.
    fn follow(&mut self, device: u32, observed: &Observation) -> Result<(), Implausible> {
        let Some(place) = observed.place.filter(|_| observed.moves) else { return Ok(()) };
        let Some((was, then_s)) = self.last.insert(device, (place, observed.at_s)) else { return Ok(()) };
        let (distance_m, seconds) = (was.distance_m(place), observed.at_s.saturating_sub(then_s).saturating_abs());
        if distance_m <= OFF_M + FASTEST_M_S * seconds as f64 {
            return Ok(());
        }
        Err(Implausible::Jump { distance_km: distance_m / 1000.0, seconds })
    }

    /// The observations that a filter lets through, from the one of this number on. A filter's gateway lets all through at
    /// whose time it was listening.
    pub fn seen<'a>(&'a self, filter: &'a Filter, from: usize) -> impl Iterator<Item = Seen<'a>> {
        let device = filter.device.map(|device| self.devices.of.get(&device).copied());
        let gateway = filter.gateway.map(|gateway| self.gateways.of.get(&gateway).copied());
        let among: Option<HashSet<u32>> =
            filter.among.as_ref().map(|all| all.iter().filter_map(|one| self.devices.of.get(one).copied()).collect());
        let wanted = move |row: &Row| {
            filter.from_s.is_none_or(|from_s| row.at_s >= from_s)
                && filter.until_s.is_none_or(|until_s| row.at_s < until_s)
                && device.is_none_or(|device| device == Some(row.device))
                && filter.data_rate.is_none_or(|data_rate| data_rate == row.data_rate)
                && among.as_ref().is_none_or(|among| among.contains(&row.device))
                && gateway.is_none_or(|gateway| {
                    gateway.is_some_and(|gateway| self.listening.contains(&(gateway, row.at_s.div_euclid(HOUR_S))))
                })
        };
        let rows = self.rows.get(from..).unwrap_or_default();
        rows.iter().filter(move |row| wanted(row)).map(|row| Seen { record: self, row })
    }

    /// Whether a gateway heard something in the hour of this moment.
    pub fn listened(&self, gateway: u64, at_s: i64) -> bool {
        let number = self.gateways.of.get(&gateway);
        number.is_some_and(|number| self.listening.contains(&(*number, at_s.div_euclid(HOUR_S))))
    }

    /// The gateways' numbers.
    pub(super) fn numbers(&self) -> &HashMap<u64, u32> {
        &self.gateways.of
    }

    /// The gateways that heard anything, in the order of their numbers.
    pub fn gateways(&self) -> &[u64] {
        &self.gateways.all
    }
}

impl<'a> Seen<'a> {
    /// When, in seconds since 1970.
    pub fn at_s(self) -> i64 {
        self.row.at_s
    }

    /// The device's DevEUI.
    pub fn device(self) -> u64 {
        self.record.devices.all[self.row.device as usize]
    }

    /// Where it was, if that is known.
    pub fn place(self) -> Option<Place> {
        self.row.place
    }

    /// Whether it tells its own position.
    pub fn moves(self) -> bool {
        self.row.moves
    }

    /// The index of the data rate.
    pub fn data_rate(self) -> u8 {
        self.row.data_rate
    }

    /// The SNR that the data rate needs, in dB.
    pub fn needed_snr_db(self) -> f64 {
        f64::from(self.row.needed_snr_db)
    }

    /// What the device transmitted, in dBm.
    pub fn power_dbm(self) -> f64 {
        f64::from(self.row.power_dbm)
    }

    /// The margin that it would have more at full power and the slowest data rate, in dB.
    pub fn reserve_db(self) -> f64 {
        f64::from(self.row.reserve_db)
    }

    /// Uplinks that it stands for, and those that were lost before it.
    pub fn counts(self) -> (u32, u32) {
        (u32::from(self.row.uplinks), u32::from(self.row.lost))
    }

    /// Uplinks that a gateway heard, and those that it did not; of any gateway if none is named, and then with what was lost.
    pub fn heard_and_not(self, gateway: Option<u64>) -> (u32, u32) {
        let (uplinks, lost) = self.counts();
        let lost = if gateway.is_none() { lost } else { 0 };
        if self.by(gateway).is_some() { (uplinks, lost) } else { (0, uplinks.saturating_add(lost)) }
    }

    /// By how much a gateway heard it better than its data rate needs, in dB.
    pub fn margin_db(self, heard: &Heard) -> f64 {
        f64::from(heard.snr_db) - self.needed_snr_db()
    }

    /// Who heard it.
    pub fn heard(self) -> impl Iterator<Item = Heard> + use<'a> {
        let (first, count) = (self.row.first as usize, usize::from(self.row.count));
        let all = self.record.receptions.get(first..first + count).unwrap_or_default();
        let record = self.record;
        all.iter().map(move |one| Heard {
            gateway: record.gateways.all[one.gateway as usize],
            rssi_dbm: f32::from(one.rssi) / 10.0,
            snr_db: f32::from(one.snr) / 10.0,
        })
    }

    /// How many heard it.
    pub fn heard_count(self) -> usize {
        usize::from(self.row.count)
    }

    /// As a gateway heard it, or the best of all if none is named.
    pub fn by(self, gateway: Option<u64>) -> Option<Heard> {
        match gateway {
            Some(gateway) => self.heard().find(|one| one.gateway == gateway),
            None => self.heard().max_by(|a, b| a.signal_dbm().total_cmp(&b.signal_dbm())),
        }
    }
}

impl Heard {
    /// The signal without the noise that RSSI holds as well, in dBm.
    pub fn signal_dbm(&self) -> f64 {
        super::signal_dbm(f64::from(self.rssi_dbm), f64::from(self.snr_db))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::observation::tests::{MIDDLE, START_S, observed};
    use super::*;

    type Raw = (i64, f64, f64, f32, f32, u8, bool);

    /// Any numbers as an observation.
    fn any_observation((after_s, north, east, rssi_dbm, snr_db, device, moves): Raw) -> Observation {
        let place = Place { latitude_deg: north, longitude_deg: east };
        let heard = vec![Heard { gateway: u64::from(device % 3), rssi_dbm, snr_db }];
        let (device, data_rate) = (u64::from(device), device % 7);
        Observation { device, data_rate, moves, heard, ..observed(place, after_s, -90.0) }
    }

    proptest! {
        #[test]
        fn any_observation_is_taken_or_counted(
            raw in proptest::collection::vec(
                (any::<i64>(), any::<f64>(), any::<f64>(), any::<f32>(), any::<f32>(), any::<u8>(), any::<bool>()),
                0..60,
            )
        ) {
            let mut record = Record::default();
            let all: Vec<Observation> = raw.into_iter().map(|mut one| {
                one.0 %= 1_000_000_000;
                any_observation(one)
            }).collect();
            let taken = all.iter().filter(|one| record.add(one).is_ok()).count();
            prop_assert_eq!(record.len(), taken);
            prop_assert_eq!(record.refused().iter().sum::<u64>() as usize, all.len() - taken);
            prop_assert_eq!(record.seen(&Filter::default(), 0).count(), taken);
        }

        #[test]
        fn what_is_near_is_in_one_hexagon_or_its_neighbours(
            raw in proptest::collection::vec((0.0f64..360.0, 0.0f64..4_000.0, -120.0f32..-60.0), 1..80)
        ) {
            use super::super::areas::areas;
            use super::super::hexagons::{Hexagons, Quantity, corners, middle};
            let mut record = Record::default();
            for (n, (bearing, far, rssi_dbm)) in raw.iter().enumerate() {
                record.add(&observed(MIDDLE.towards(*bearing, *far), n as i64 * 60, *rssi_dbm)).unwrap();
            }
            let mut hexagons = Hexagons::new(8, Quantity::Rssi, Filter::default()).unwrap();
            hexagons.catch_up(&record);
            let all = hexagons.all();
            prop_assert_eq!(all.iter().map(|one| one.uplinks as usize).sum::<usize>(), raw.len());
            for one in &all {
                prop_assert!((-120.0..=-60.0).contains(&one.value) && one.spread.unwrap() >= 0.0);
                prop_assert!(middle(one.index).unwrap().distance_m(MIDDLE) < 5_000.0);
                prop_assert!(corners(one.index).unwrap().len() >= 5);
            }
            let found = areas(&record, &Filter::default(), 8);
            prop_assert!(found.iter().map(|area| area.uplinks as usize).sum::<usize>() <= raw.len());
            prop_assert!(found.windows(2).all(|pair| pair[0].kind <= pair[1].kind), "the worst first");
        }
    }

    #[test]
    fn a_jump_is_refused_unless_the_device_stays_there() {
        let mut record = Record::default();
        record.add(&observed(MIDDLE, 0, -90.0)).unwrap();
        let far = MIDDLE.towards(10.0, 500_000.0);
        let why = record.add(&observed(far, 60, -90.0)).unwrap_err();
        assert_eq!(why.to_string(), "500 km from where the device was 60 s before");
        record.add(&observed(far, 120, -90.0)).expect("it stays there, so it is there");
        record.add(&observed(MIDDLE, 120 + 6_000, -90.0)).expect("it had the time to come back");
        let still = Observation { moves: false, device: 2, ..observed(MIDDLE, 0, -90.0) };
        record.add(&still).unwrap();
        record.add(&Observation { place: Some(far), ..still }).expect("somebody corrected its place");
        assert_eq!((record.len(), record.refused()), (5, [0, 1, 0, 0]));
    }

    #[test]
    fn filters_let_through_what_they_name() {
        let mut record = Record::default();
        for n in 0..10u8 {
            let one = observed(MIDDLE, i64::from(n) * 1_800, -90.0 - f32::from(n));
            let heard = Heard { gateway: if n < 4 { 8 } else { 9 }, rssi_dbm: -110.0, snr_db: -9.0 };
            let heard = one.heard.iter().copied().chain([heard]).collect();
            record.add(&Observation { device: u64::from(n % 3), data_rate: n % 2, heard, ..one }).unwrap();
        }
        let count = |filter: Filter| record.seen(&filter, 0).count();
        assert_eq!(count(Filter::default()), 10);
        assert_eq!(count(Filter { from_s: Some(START_S + 3_600), ..Filter::default() }), 8);
        assert_eq!(count(Filter { until_s: Some(START_S + 3_600), ..Filter::default() }), 2);
        assert_eq!(count(Filter { device: Some(0), ..Filter::default() }), 4);
        assert_eq!(count(Filter { device: Some(77), ..Filter::default() }), 0);
        assert_eq!(count(Filter { data_rate: Some(1), ..Filter::default() }), 5);
        assert_eq!(count(Filter { among: Some(vec![1, 2]), ..Filter::default() }), 6);
        // Gateway 8 heard something until 2 h 10 min, and says nothing of the hours after that.
        assert_eq!(count(Filter { gateway: Some(8), ..Filter::default() }), 5);
        assert_eq!(record.seen(&Filter::default(), 9).count(), 1, "from a number on");
        let best = record.seen(&Filter::default(), 0).next().unwrap().by(None).unwrap();
        assert_eq!((best.gateway, best.rssi_dbm), (7, -90.0));
    }
}

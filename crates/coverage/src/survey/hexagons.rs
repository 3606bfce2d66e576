//! A survey in hexagons: what gateways measured of devices, by where the devices were.
//!
//! Points are added as they come; a hexagon keeps counts by whole decibels, so that its median needs none of them again.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use h3o::{CellIndex, LatLng, Resolution};
use thiserror::Error;

use crate::geo::Place;

/// A device's uplink as one gateway measured it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// Where the device was.
    pub place: Place,
    /// When, in seconds since 1970.
    pub at_s: i64,
    /// The device's DevEUI.
    pub device: u64,
    /// The gateway's EUI.
    pub gateway: u64,
    /// The index of the data rate.
    pub data_rate: u8,
    /// Signal strength, in dBm.
    pub rssi_dbm: f64,
    /// Signal over noise, in dB.
    pub snr_db: f64,
    /// SNR above what the data rate needs, in dB.
    pub margin_db: f64,
}

/// Why a point is not taken.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum Implausible {
    /// What receivers without a position tell.
    #[error("the position is 0°, 0°: the device had none")]
    NullIsland,
    /// It is no place.
    #[error("{latitude_deg}, {longitude_deg} is no place")]
    NoPlace {
        /// Its latitude.
        latitude_deg: f64,
        /// Its longitude.
        longitude_deg: f64,
    },
    /// Too far from where the device was before.
    #[error("{distance_km:.0} km from where the device was {seconds} s before")]
    Jump {
        /// How far.
        distance_km: f64,
        /// In what time.
        seconds: i64,
    },
    /// A number that cannot be measured.
    #[error("{name} is {value}")]
    Number {
        /// Which.
        name: &'static str,
        /// What it is.
        value: f64,
    },
}

/// Places nearer to 0°, 0° than this are no places, in degrees.
const NULL_ISLAND_DEG: f64 = 0.01;
/// Nothing that carries a device is faster, in metres a second.
const FASTEST_M_S: f64 = 100.0;
/// A position may be this far off by itself, in metres.
const OFF_M: f64 = 2_000.0;
/// Devices whose last place is remembered.
const DEVICES: usize = 100_000;

/// What hexagons are coloured by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quantity {
    /// Signal strength, in dBm.
    Rssi,
    /// Signal over noise, in dB.
    Snr,
    /// Above what the data rate needs, in dB.
    Margin,
    /// The index of the data rate.
    DataRate,
    /// How many gateways heard something from there.
    Gateways,
}

/// Counts by whole decibels.
#[derive(Debug, Clone, Default)]
struct Histogram(BTreeMap<i16, u32>);

impl Histogram {
    fn add(&mut self, value: f64) {
        *self.0.entry(value.round() as i16).or_default() += 1;
    }

    /// The value below which this share of all lies.
    fn quantile(&self, share: f64) -> f64 {
        let all: u64 = self.0.values().map(|count| u64::from(*count)).sum();
        let wanted = (all.saturating_sub(1)) as f64 * share;
        let mut below = 0u64;
        for (value, count) in &self.0 {
            below += u64::from(*count);
            if below as f64 > wanted {
                return f64::from(*value);
            }
        }
        0.0
    }
}

#[derive(Debug, Clone, Default)]
struct Tally {
    count: u32,
    rssi: Histogram,
    snr: Histogram,
    margin: Histogram,
    data_rate: Histogram,
    gateways: BTreeSet<u64>,
}

/// A hexagon with what was measured in it.
#[derive(Debug, Clone, PartialEq)]
pub struct Hexagon {
    /// Its H3 index.
    pub index: u64,
    /// The middle value.
    pub median: f64,
    /// From the lower to the upper quartile.
    pub spread: f64,
    /// How many points are in it.
    pub count: u32,
}

/// A survey that grows.
#[derive(Debug)]
pub struct Survey {
    resolution: Resolution,
    cells: HashMap<CellIndex, Tally>,
    last: HashMap<u64, (Place, i64)>,
}

impl Survey {
    /// An empty one with hexagons of this resolution of H3, 0 to 15; 10 has sides of some 66 m. `None` if there is no such one.
    pub fn new(resolution: u8) -> Option<Self> {
        let resolution = Resolution::try_from(resolution).ok()?;
        Some(Self { resolution, cells: HashMap::new(), last: HashMap::new() })
    }

    /// Adds a point.
    ///
    /// # Errors
    /// The point cannot be; it is left out.
    pub fn add(&mut self, point: &Point) -> Result<(), Implausible> {
        let Place { latitude_deg, longitude_deg } = point.place;
        let place =
            Place::new(latitude_deg, longitude_deg).ok_or(Implausible::NoPlace { latitude_deg, longitude_deg })?;
        if latitude_deg.abs() < NULL_ISLAND_DEG && longitude_deg.abs() < NULL_ISLAND_DEG {
            return Err(Implausible::NullIsland);
        }
        for (name, value) in [("rssi_dbm", point.rssi_dbm), ("snr_db", point.snr_db), ("margin_db", point.margin_db)] {
            if !(-250.0..=150.0).contains(&value) {
                return Err(Implausible::Number { name, value });
            }
        }
        self.follow(point, place)?;
        let there = LatLng::new(latitude_deg, longitude_deg);
        let there = there.map_err(|_| Implausible::NoPlace { latitude_deg, longitude_deg })?;
        let tally = self.cells.entry(there.to_cell(self.resolution)).or_default();
        tally.count = tally.count.saturating_add(1);
        tally.rssi.add(point.rssi_dbm);
        tally.snr.add(point.snr_db);
        tally.margin.add(point.margin_db);
        tally.data_rate.add(f64::from(point.data_rate));
        tally.gateways.insert(point.gateway);
        Ok(())
    }

    /// Refuses a place that the device cannot have got to; that may also be the end of one that was wrong before.
    fn follow(&mut self, point: &Point, place: Place) -> Result<(), Implausible> {
        let before = self.last.get(&point.device).copied();
        if self.last.len() >= DEVICES && before.is_none() {
            self.last.clear();
        }
        self.last.insert(point.device, (place, point.at_s));
        let Some((was, then_s)) = before else { return Ok(()) };
        let (distance_m, seconds) = (was.distance_m(place), point.at_s.saturating_sub(then_s).saturating_abs());
        if distance_m <= OFF_M + FASTEST_M_S * seconds as f64 {
            return Ok(());
        }
        Err(Implausible::Jump { distance_km: distance_m / 1000.0, seconds })
    }

    /// The hexagons by one quantity, in the order of their indices.
    pub fn hexagons(&self, quantity: Quantity) -> Vec<Hexagon> {
        let of = |(cell, tally): (&CellIndex, &Tally)| {
            let histogram = match quantity {
                Quantity::Rssi => &tally.rssi,
                Quantity::Snr => &tally.snr,
                Quantity::Margin => &tally.margin,
                Quantity::DataRate => &tally.data_rate,
                Quantity::Gateways => {
                    let median = tally.gateways.len() as f64;
                    return Hexagon { index: (*cell).into(), median, spread: 0.0, count: tally.count };
                }
            };
            let spread = histogram.quantile(0.75) - histogram.quantile(0.25);
            Hexagon { index: (*cell).into(), median: histogram.quantile(0.5), spread, count: tally.count }
        };
        let mut all: Vec<Hexagon> = self.cells.iter().map(of).collect();
        all.sort_by_key(|hexagon| hexagon.index);
        all
    }
}

/// The corners of a hexagon, to be drawn; `None` if it is none.
pub fn corners(index: u64) -> Option<Vec<Place>> {
    let cell = CellIndex::try_from(index).ok()?;
    let place = |corner: &LatLng| Place { latitude_deg: corner.lat(), longitude_deg: corner.lng() };
    Some(cell.boundary().iter().map(place).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const MIDDLE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    fn point(place: Place, at_s: i64, rssi_dbm: f64) -> Point {
        Point { place, at_s, device: 1, gateway: 7, data_rate: 5, rssi_dbm, snr_db: 3.0, margin_db: 10.5 }
    }

    #[test]
    fn a_hexagon_has_the_middle_of_its_points_and_lies_around_them() {
        let mut survey = Survey::new(9).unwrap();
        for (n, rssi_dbm) in [-120.0, -100.0, -101.0, -99.0, -60.0].into_iter().enumerate() {
            survey.add(&Point { gateway: n as u64 % 2, ..point(MIDDLE, n as i64 * 60, rssi_dbm) }).unwrap();
        }
        survey.add(&point(MIDDLE.towards(90.0, 3_000.0), 600, -80.0)).unwrap();
        let all = survey.hexagons(Quantity::Rssi);
        assert_eq!(all.len(), 2);
        let here = all.iter().find(|hexagon| hexagon.count == 5).unwrap();
        assert_eq!((here.median, here.spread), (-100.0, 2.0));
        let corners = corners(here.index).unwrap();
        assert_eq!(corners.len(), 6);
        assert!(corners.iter().all(|corner| corner.distance_m(MIDDLE) < 450.0));
        let heard = survey.hexagons(Quantity::Gateways);
        assert_eq!(heard.iter().map(|hexagon| hexagon.median).fold(0.0, f64::max), 2.0);
        assert_eq!(survey.hexagons(Quantity::DataRate)[0].median, 5.0);
        assert!(Survey::new(16).is_none() && super::corners(7).is_none());
    }

    #[test]
    fn what_cannot_be_is_refused_with_the_reason() {
        let mut survey = Survey::new(9).unwrap();
        let zero = Place { latitude_deg: 0.0, longitude_deg: 0.001 };
        assert_eq!(survey.add(&point(zero, 0, -90.0)), Err(Implausible::NullIsland));
        let nowhere = Place { latitude_deg: 95.0, longitude_deg: 3.9 };
        assert!(matches!(survey.add(&point(nowhere, 0, -90.0)), Err(Implausible::NoPlace { .. })));
        assert!(survey.add(&point(MIDDLE, 0, f64::NAN)).unwrap_err().to_string().contains("rssi_dbm is NaN"));
        survey.add(&point(MIDDLE, 0, -90.0)).unwrap();
        let far = MIDDLE.towards(10.0, 500_000.0);
        let why = survey.add(&point(far, 60, -90.0)).unwrap_err();
        assert_eq!(why.to_string(), "500 km from where the device was 60 s before");
        survey.add(&point(far, 120, -90.0)).expect("it stays there, so it is there");
        survey.add(&point(MIDDLE, 120 + 6_000, -90.0)).expect("it had the time to come back");
        assert_eq!(survey.hexagons(Quantity::Snr).iter().map(|hexagon| hexagon.count).sum::<u32>(), 3);
    }
}

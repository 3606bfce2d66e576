//! A survey in hexagons. A hexagon keeps counts by whole units, so that observations can be added one after the other.

use std::collections::{BTreeMap, HashMap};

use h3o::{CellIndex, LatLng, Resolution};

use super::record::{Filter, Record, Seen};
use crate::area::legend::{Legend, Scale};
use crate::geo::Place;

/// What hexagons are coloured by: of the best gateway, or of the one that the filter names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Quantity {
    /// Signal strength, in dBm.
    Rssi,
    /// Signal over noise, in dB.
    Snr,
    /// SNR above what the data rate needs, in dB.
    Margin,
    /// The same at full power and the slowest data rate, in dB.
    Reserve,
    /// The index of the data rate.
    DataRate,
    /// Which gateway heard best most often, by its number in the record.
    BestGateway,
    /// How many gateways heard an uplink.
    Gateways,
    /// The share of uplinks that were heard, in per cent: of the gateway that the filter names, or of all.
    Heard,
    /// How many uplinks there are.
    Count,
}

impl Quantity {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Margin,
        Self::Reserve,
        Self::Rssi,
        Self::Snr,
        Self::DataRate,
        Self::BestGateway,
        Self::Gateways,
        Self::Heard,
        Self::Count,
    ];

    /// Its legend.
    pub const fn legend(self) -> Legend {
        let (title, unit, bounds, scale): (_, _, &[f64], _) = match self {
            Self::Rssi => ("RSSI", " dBm", &[-125.0, -120.0, -115.0, -110.0, -100.0, -90.0], Scale::MuchIsGood),
            Self::Snr => ("SNR", " dB", &[-15.0, -10.0, -5.0, 0.0, 5.0, 10.0], Scale::MuchIsGood),
            Self::Margin => {
                ("margin at the data rate used", " dB", &[0.0, 3.0, 6.0, 10.0, 15.0, 20.0], Scale::MuchIsGood)
            }
            Self::Reserve => (
                "margin at full power and the slowest data rate",
                " dB",
                &[0.0, 5.0, 10.0, 20.0, 30.0, 40.0],
                Scale::MuchIsGood,
            ),
            Self::DataRate => ("data rate used", "", &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0], Scale::DataRates),
            Self::BestGateway => ("best gateway", "", &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0], Scale::Names),
            Self::Gateways => ("gateways that heard it", "", &[1.0, 2.0, 3.0, 4.0], Scale::MuchIsGood),
            Self::Heard => ("uplinks heard", " %", &[25.0, 50.0, 80.0, 90.0, 95.0, 99.0], Scale::MuchIsGood),
            Self::Count => ("uplinks", "", &[3.0, 10.0, 30.0, 100.0, 300.0, 1000.0], Scale::MuchIsGood),
        };
        Legend { title, unit, bounds, scale }
    }
}

/// Counts by whole units.
#[derive(Debug, Clone, Default)]
struct Histogram(BTreeMap<i16, u32>);

impl Histogram {
    fn add(&mut self, value: f64) {
        *self.0.entry(value.round() as i16).or_default() += 1;
    }

    /// The value below which this share of all lies; `None` of none.
    fn quantile(&self, share: f64) -> Option<f64> {
        let all: u64 = self.0.values().map(|count| u64::from(*count)).sum();
        let wanted = all.saturating_sub(1) as f64 * share;
        let mut below = 0u64;
        let found = self.0.iter().find(|(_, count)| {
            below += u64::from(**count);
            below as f64 > wanted
        });
        found.map(|(value, _)| f64::from(*value))
    }

    fn most_frequent(&self) -> Option<f64> {
        self.0.iter().max_by_key(|(_, count)| **count).map(|(value, _)| f64::from(*value))
    }
}

/// Uplinks of one hexagon, and their values by one quantity.
#[derive(Debug, Clone, Default)]
pub(super) struct Tally {
    uplinks: u32,
    unheard: u32,
    values: Histogram,
}

/// A hexagon with what was measured in it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Hexagon {
    /// Its H3 index.
    pub index: u64,
    /// The value: the median, or as the quantity says.
    pub value: f64,
    /// From the lower to the upper quartile, where the value is a median.
    pub spread: Option<f64>,
    /// How many uplinks were heard in it.
    pub uplinks: u32,
    /// How many were not heard.
    pub unheard: u32,
}

/// The hexagons of a record by one quantity.
#[derive(Debug, Clone)]
pub struct Hexagons {
    resolution: Resolution,
    quantity: Quantity,
    filter: Filter,
    cells: HashMap<CellIndex, Tally>,
    /// The observations of the record that are in it.
    taken: usize,
}

/// The hexagon of a place.
fn cell_of(place: Place, resolution: Resolution) -> Option<CellIndex> {
    Some(LatLng::new(place.latitude_deg, place.longitude_deg).ok()?.to_cell(resolution))
}

/// Finds the hexagons of observations. Most devices stand still, so that the last one of each is remembered.
#[derive(Debug)]
pub struct CellFinder {
    resolution: Resolution,
    last: HashMap<u64, (Place, CellIndex)>,
}

impl CellFinder {
    /// For a resolution of H3, 0 to 15; `None` if there is no such one.
    pub fn new(resolution: u8) -> Option<Self> {
        Resolution::try_from(resolution).ok().map(Self::of)
    }

    fn of(resolution: Resolution) -> Self {
        Self { resolution, last: HashMap::new() }
    }

    /// The hexagon of an observation; `None` if its place is not known.
    pub(super) fn cell(&mut self, seen: Seen<'_>) -> Option<CellIndex> {
        let place = seen.place()?;
        if let Some((_, cell)) = self.last.get(&seen.device()).filter(|(was, _)| *was == place) {
            return Some(*cell);
        }
        let cell = cell_of(place, self.resolution)?;
        self.last.insert(seen.device(), (place, cell));
        Some(cell)
    }

    /// The same as its H3 index.
    pub fn index(&mut self, seen: Seen<'_>) -> Option<u64> {
        self.cell(seen).map(Into::into)
    }
}

impl Hexagons {
    /// An empty set, of this resolution of H3, 0 to 15; 10 has sides of some 66 m. `None` if there is no such one.
    pub fn new(resolution: u8, quantity: Quantity, filter: Filter) -> Option<Self> {
        let resolution = Resolution::try_from(resolution).ok()?;
        Some(Self { resolution, quantity, filter, cells: HashMap::new(), taken: 0 })
    }

    /// Takes what the record has more than at the last time.
    pub fn catch_up(&mut self, record: &Record) {
        let mut finder = CellFinder::of(self.resolution);
        for seen in record.seen(&self.filter, self.taken) {
            let Some(cell) = finder.cell(seen) else { continue };
            let tally = self.cells.entry(cell).or_default();
            tally.add(seen, self.quantity, (self.filter.gateway, record.numbers()));
        }
        self.taken = record.len();
    }

    /// The hexagon at a place.
    pub fn at(&self, place: Place) -> Option<Hexagon> {
        let cell = cell_of(place, self.resolution)?;
        self.cells.get(&cell)?.told(self.quantity, cell.into())
    }

    /// All, in the order of their indices.
    pub fn all(&self) -> Vec<Hexagon> {
        let mut all: Vec<Hexagon> =
            self.cells.iter().filter_map(|(cell, tally)| tally.told(self.quantity, (*cell).into())).collect();
        all.sort_by_key(|hexagon| hexagon.index);
        all
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.cells.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.cells.is_empty()
    }
}

impl Tally {
    /// Heard and not heard.
    pub(super) fn counts(&self) -> (u32, u32) {
        (self.uplinks, self.unheard)
    }

    /// The hexagon of this index; `None` if the quantity has no value in it.
    pub(super) fn told(&self, quantity: Quantity, index: u64) -> Option<Hexagon> {
        let Self { uplinks, unheard, values } = self;
        let sent = uplinks + unheard;
        let value = match quantity {
            Quantity::Heard => (sent > 0).then(|| f64::from(*uplinks) * 100.0 / f64::from(sent)),
            Quantity::Count => (*uplinks > 0).then_some(f64::from(*uplinks)),
            Quantity::BestGateway => values.most_frequent(),
            _ => values.quantile(0.5),
        }?;
        let spread = match quantity {
            Quantity::Heard | Quantity::Count | Quantity::BestGateway => None,
            _ => values.quantile(0.75).zip(values.quantile(0.25)).map(|(upper, lower)| upper - lower),
        };
        Some(Hexagon { index, value, spread, uplinks: *uplinks, unheard: *unheard })
    }

    pub(super) fn add(
        &mut self,
        seen: Seen<'_>,
        quantity: Quantity,
        (gateway, numbers): (Option<u64>, &HashMap<u64, u32>),
    ) {
        let (uplinks, unheard) = seen.heard_and_not(gateway);
        self.uplinks = self.uplinks.saturating_add(uplinks);
        self.unheard = self.unheard.saturating_add(unheard);
        let Some(heard) = seen.by(gateway) else { return };
        let margin_db = seen.margin_db(&heard);
        let value = match quantity {
            Quantity::Rssi => f64::from(heard.rssi_dbm),
            Quantity::Snr => f64::from(heard.snr_db),
            Quantity::Margin => margin_db,
            Quantity::Reserve => margin_db + seen.reserve_db(),
            Quantity::DataRate => f64::from(seen.data_rate()),
            Quantity::Gateways => seen.heard_count() as f64,
            Quantity::BestGateway => {
                seen.by(None).and_then(|best| numbers.get(&best.gateway)).map_or(0.0, |n| f64::from(*n))
            }
            Quantity::Heard | Quantity::Count => return,
        };
        self.values.add(value);
    }
}

/// The index of the hexagon at a place; `None` if there is no such resolution.
pub fn index_at(place: Place, resolution: u8) -> Option<u64> {
    cell_of(place, Resolution::try_from(resolution).ok()?).map(Into::into)
}

/// The corners of a hexagon, to be drawn; `None` if the index is not valid.
pub fn corners(index: u64) -> Option<Vec<Place>> {
    let cell = CellIndex::try_from(index).ok()?;
    let place = |corner: &LatLng| Place { latitude_deg: corner.lat(), longitude_deg: corner.lng() };
    Some(cell.boundary().iter().map(place).collect())
}

/// The middle of a hexagon; `None` if the index is not valid.
pub fn middle(index: u64) -> Option<Place> {
    let middle = LatLng::from(CellIndex::try_from(index).ok()?);
    Some(Place { latitude_deg: middle.lat(), longitude_deg: middle.lng() })
}

#[cfg(test)]
mod tests {
    use super::super::observation::tests::{MIDDLE, observed};
    use super::super::observation::{Heard, Observation};
    use super::*;

    fn of(record: &Record, quantity: Quantity, filter: Filter) -> Hexagons {
        let mut hexagons = Hexagons::new(9, quantity, filter).unwrap();
        hexagons.catch_up(record);
        hexagons
    }

    #[test]
    fn a_hexagon_has_the_middle_of_its_uplinks_and_lies_around_them() {
        let mut record = Record::default();
        for (n, rssi_dbm) in [-120.0, -100.0, -101.0, -99.0, -60.0].into_iter().enumerate() {
            record.add(&observed(MIDDLE, n as i64 * 60, rssi_dbm)).unwrap();
        }
        record.add(&observed(MIDDLE.towards(90.0, 3_000.0), 600, -80.0)).unwrap();
        let mut rssi = of(&record, Quantity::Rssi, Filter::default());
        assert_eq!(rssi.len(), 2);
        let here = rssi.at(MIDDLE).unwrap();
        assert_eq!((here.value, here.spread, here.uplinks), (-100.0, Some(2.0), 5));
        let corners = corners(here.index).unwrap();
        assert_eq!((corners.len(), index_at(MIDDLE, 9)), (6, Some(here.index)));
        assert!(corners.iter().all(|corner| corner.distance_m(MIDDLE) < 450.0));
        assert!(middle(here.index).unwrap().distance_m(MIDDLE) < 250.0);
        assert_eq!(of(&record, Quantity::Margin, Filter::default()).at(MIDDLE).unwrap().value, 11.0, "10.5 is rounded");
        assert_eq!(of(&record, Quantity::Reserve, Filter::default()).at(MIDDLE).unwrap().value, 23.0);
        assert_eq!(of(&record, Quantity::DataRate, Filter::default()).at(MIDDLE).unwrap().value, 5.0);
        record.add(&observed(MIDDLE, 900, -100.0)).unwrap();
        rssi.catch_up(&record);
        assert_eq!(rssi.at(MIDDLE).unwrap().uplinks, 6, "only the new one is added");
        assert_eq!(rssi.all().len(), 2);
        assert!(Hexagons::new(16, Quantity::Rssi, Filter::default()).is_none() && super::corners(7).is_none());
    }

    #[test]
    fn what_a_gateway_did_not_hear_counts_while_it_was_listening() {
        let mut record = Record::default();
        for n in 0..8i64 {
            let mut one = observed(MIDDLE, n * 600, -90.0);
            if n == 0 || n == 7 {
                one.heard.push(Heard { gateway: 9, rssi_dbm: -80.0, snr_db: 9.0 });
            }
            record.add(&Observation { lost: u16::from(n == 3) * 2, ..one }).unwrap();
        }
        // Long after, gateway 9 is silent: it may be switched off.
        record.add(&observed(MIDDLE, 90_000, -90.0)).unwrap();
        let of_nine = Filter { gateway: Some(9), ..Filter::default() };
        let heard = of(&record, Quantity::Heard, of_nine.clone()).at(MIDDLE).unwrap();
        assert_eq!((heard.value, heard.uplinks, heard.unheard), (25.0, 2, 6));
        assert_eq!(of(&record, Quantity::Rssi, of_nine).at(MIDDLE).unwrap().value, -80.0);
        let all = of(&record, Quantity::Heard, Filter::default()).at(MIDDLE).unwrap();
        assert_eq!((all.uplinks, all.unheard, all.value.round()), (9, 2, 82.0), "two were lost on the way");
        assert_eq!(of(&record, Quantity::Gateways, Filter::default()).at(MIDDLE).unwrap().value, 1.0);
        let best = of(&record, Quantity::BestGateway, Filter::default()).at(MIDDLE).unwrap().value;
        assert_eq!(record.gateways()[best as usize], 7);
    }

    #[test]
    fn every_uplink_of_a_walk_is_in_one_hexagon() {
        let mut record = Record::default();
        for n in 0..5_000u64 {
            let place = MIDDLE.towards((n % 360) as f64, (n % 6_000) as f64);
            record.add(&Observation { device: n % 50, ..observed(place, n as i64 * 60, -90.0) }).unwrap();
        }
        let all = of(&record, Quantity::Count, Filter::default()).all();
        assert_eq!(all.iter().map(|hexagon| u64::from(hexagon.uplinks)).sum::<u64>(), 5_000);
        assert!(all.windows(2).all(|pair| pair[0].index < pair[1].index));
    }
}

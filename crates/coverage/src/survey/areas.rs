//! Weak and dark areas: neighbouring hexagons from which few uplinks arrive, or arrive with little margin.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use h3o::CellIndex;

use super::hexagons::CellFinder;
use super::median;
use super::record::{Filter, Record, Seen};
use crate::geo::Place;

/// What is wrong with an area.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum AreaKind {
    /// Fewer than half of the uplinks arrive.
    Dark,
    /// Fewer than nine of ten arrive, or with little margin.
    Weak,
    /// One gateway alone hears what is sent there.
    OneGateway,
}

/// Neighbouring hexagons of one kind.
#[derive(Debug, Clone, PartialEq)]
pub struct FoundArea {
    /// What is wrong.
    pub kind: AreaKind,
    /// The middle of its uplinks.
    pub centre: Place,
    /// Its size, in square kilometres.
    pub area_km2: f64,
    /// Its hexagons' H3 indices.
    pub hexagons: Vec<u64>,
    /// Uplinks that arrived.
    pub uplinks: u32,
    /// Uplinks that did not.
    pub lost: u32,
    /// The median margin at full power and the slowest data rate, in dB.
    pub margin_db: f64,
    /// The gateway that hears it best most often.
    pub best_gateway: Option<u64>,
    /// The devices that were there.
    pub devices: BTreeSet<u64>,
}

/// Fewer uplinks than these tell nothing of a hexagon.
const LEAST_UPLINKS: u32 = 8;
/// Fewer lost uplinks may have met others on the air.
const LEAST_LOST: u32 = 5;
/// Less margin than this is weak, in dB.
pub const WEAK_DB: f64 = 10.0;
const DARK_SHARE: f64 = 0.5;
const WEAK_SHARE: f64 = 0.9;
/// A second gateway counts if it hears this share of the uplinks.
const SECOND_SHARE: f64 = 0.5;
/// Areas that are told at most.
const MOST: usize = 200;

#[derive(Debug, Default)]
struct Tally {
    uplinks: u32,
    lost: u32,
    by_two: u32,
    margins_db: Vec<f64>,
    best: BTreeMap<u64, u32>,
    devices: BTreeSet<u64>,
    places: Vec<Place>,
}

impl Tally {
    fn add(&mut self, seen: Seen<'_>, place: Place, gateway: Option<u64>) {
        let (uplinks, lost) = seen.heard_and_not(gateway);
        self.devices.insert(seen.device());
        self.places.push(place);
        self.uplinks = self.uplinks.saturating_add(uplinks);
        self.lost = self.lost.saturating_add(lost);
        let Some(best) = seen.by(gateway) else { return };
        self.by_two += if seen.heard_count() > 1 { uplinks } else { 0 };
        self.margins_db.push(seen.margin_db(&best) + seen.reserve_db());
        *self.best.entry(best.gateway).or_default() += uplinks;
    }

    fn merge(&mut self, other: Self) {
        self.uplinks = self.uplinks.saturating_add(other.uplinks);
        self.lost = self.lost.saturating_add(other.lost);
        self.by_two = self.by_two.saturating_add(other.by_two);
        self.margins_db.extend(other.margins_db);
        other.best.into_iter().for_each(|(gateway, count)| *self.best.entry(gateway).or_default() += count);
        self.devices.extend(other.devices);
        self.places.extend(other.places);
    }

    fn kind(&mut self) -> Option<AreaKind> {
        let sent = self.uplinks.saturating_add(self.lost);
        if sent < LEAST_UPLINKS {
            return None;
        }
        let share = f64::from(self.uplinks) / f64::from(sent);
        let margin_db = median(&mut self.margins_db);
        if share < DARK_SHARE {
            Some(AreaKind::Dark)
        } else if (share < WEAK_SHARE && self.lost >= LEAST_LOST)
            || margin_db.is_some_and(|margin_db| margin_db < WEAK_DB)
        {
            Some(AreaKind::Weak)
        } else {
            (f64::from(self.by_two) < SECOND_SHARE * f64::from(self.uplinks)).then_some(AreaKind::OneGateway)
        }
    }

    fn centre(&self) -> Option<Place> {
        let count = self.places.len() as f64;
        let mean = |of: fn(&Place) -> f64| self.places.iter().map(of).sum::<f64>() / count;
        Place::new(mean(|place| place.latitude_deg), mean(|place| place.longitude_deg))
    }
}

/// The areas of a record, the worst first. A resolution of H3 outside 0 to 15 has none.
pub fn areas(record: &Record, filter: &Filter, resolution: u8) -> Vec<FoundArea> {
    let Some(mut finder) = CellFinder::new(resolution) else { return Vec::new() };
    let mut cells: HashMap<CellIndex, Tally> = HashMap::new();
    for seen in record.seen(filter, 0) {
        let (Some(place), Some(cell)) = (seen.place(), finder.cell(seen)) else { continue };
        cells.entry(cell).or_default().add(seen, place, filter.gateway);
    }
    let kinds: BTreeMap<CellIndex, AreaKind> =
        cells.iter_mut().filter_map(|(cell, tally)| Some((*cell, tally.kind()?))).collect();
    let mut found: Vec<FoundArea> =
        united(&kinds).into_iter().filter_map(|(kind, all)| told(kind, &all, &mut cells)).collect();
    found.sort_by(|a, b| (a.kind, b.lost, b.uplinks, &a.hexagons).cmp(&(b.kind, a.lost, a.uplinks, &b.hexagons)));
    found.truncate(MOST);
    found
}

/// Neighbours of one kind together.
fn united(kinds: &BTreeMap<CellIndex, AreaKind>) -> Vec<(AreaKind, Vec<CellIndex>)> {
    let (mut done, mut areas) = (HashSet::new(), Vec::new());
    for (cell, kind) in kinds {
        if !done.insert(*cell) {
            continue;
        }
        let (mut all, mut next) = (Vec::new(), vec![*cell]);
        while let Some(one) = next.pop() {
            all.push(one);
            let around = one.grid_disk::<Vec<CellIndex>>(1).into_iter();
            next.extend(around.filter(|near| kinds.get(near) == Some(kind) && done.insert(*near)));
        }
        all.sort_unstable();
        areas.push((*kind, all));
    }
    areas
}

fn told(kind: AreaKind, all: &[CellIndex], cells: &mut HashMap<CellIndex, Tally>) -> Option<FoundArea> {
    let mut tally = Tally::default();
    all.iter().filter_map(|cell| cells.remove(cell)).for_each(|one| tally.merge(one));
    let best = tally.best.iter().max_by_key(|(_, count)| **count).map(|(gateway, _)| *gateway);
    Some(FoundArea {
        kind,
        centre: tally.centre()?,
        area_km2: all.iter().map(|cell| cell.area_km2()).sum(),
        hexagons: all.iter().map(|cell| (*cell).into()).collect(),
        uplinks: tally.uplinks,
        lost: tally.lost,
        margin_db: median(&mut tally.margins_db).unwrap_or(f64::NEG_INFINITY),
        best_gateway: best,
        devices: tally.devices,
    })
}

#[cfg(test)]
mod tests {
    use super::super::observation::tests::{MIDDLE, observed};
    use super::super::observation::{Heard, Observation};
    use super::*;

    /// Twenty uplinks around a place; `change` says what is wrong with them.
    fn add(record: &mut Record, place: Place, device: u64, change: impl Fn(&mut Observation)) {
        for n in 0..20i64 {
            let mut one = observed(place.towards(n as f64 * 18.0, 40.0), n * 600, -90.0);
            one.device = device;
            one.heard.push(Heard { gateway: 9, rssi_dbm: -95.0, snr_db: 1.0 });
            change(&mut one);
            record.add(&one).unwrap();
        }
    }

    #[test]
    fn areas_are_found_by_what_arrives_and_with_what_margin() {
        let mut record = Record::default();
        add(&mut record, MIDDLE, 1, |_| {});
        let (dark, weak, one) =
            (MIDDLE.towards(0.0, 4_000.0), MIDDLE.towards(90.0, 4_000.0), MIDDLE.towards(180.0, 4_000.0));
        add(&mut record, dark, 2, |seen| seen.lost = 2);
        add(&mut record, weak, 3, |seen| seen.heard.iter_mut().for_each(|heard| heard.snr_db = -14.0));
        add(&mut record, one, 4, |seen| seen.heard.truncate(1));
        let found = areas(&record, &Filter::default(), 9);
        let kinds: Vec<AreaKind> = found.iter().map(|area| area.kind).collect();
        assert_eq!(kinds, [AreaKind::Dark, AreaKind::Weak, AreaKind::OneGateway], "{found:#?}");
        assert_eq!((found[0].uplinks, found[0].lost), (20, 40));
        assert!(found[0].centre.distance_m(dark) < 100.0 && found[0].devices == BTreeSet::from([2]));
        assert!((found[1].margin_db - 6.0).abs() < 0.1 && found[2].best_gateway == Some(7), "{found:#?}");
        let near = found.iter().map(|area| area.area_km2).fold(0.0, f64::max);
        assert!(near < 1.0, "{near} km²");
        assert!(areas(&record, &Filter::default(), 77).is_empty());
    }

    #[test]
    fn neighbours_are_one_area_and_few_uplinks_are_none() {
        let mut record = Record::default();
        for n in 0..8 {
            let place = MIDDLE.towards(90.0, f64::from(n) * 150.0);
            add(&mut record, place, 1, |seen| seen.lost = 3);
        }
        let lone = MIDDLE.towards(0.0, 9_000.0);
        record.add(&Observation { device: 5, lost: 4, ..observed(lone, 0, -120.0) }).unwrap();
        let found = areas(&record, &Filter::default(), 9);
        assert_eq!((found.len(), found[0].uplinks), (1, 160), "{found:#?}");
        assert!(found[0].hexagons.len() > 2);
    }
}

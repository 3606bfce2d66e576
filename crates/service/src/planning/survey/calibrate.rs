//! Holds the survey against a path model: pairs of what was measured and what is forecast.

use std::collections::{BTreeMap, HashMap};

use coverage::geo::Place;
use coverage::link::budget::Terminal;
use coverage::link::path::{Link, Method};
use coverage::survey::calibration::Pair;
use coverage::survey::hexagons::CellFinder;
use coverage::survey::median;
use coverage::survey::record::Filter;
use domain::coverage::site::{at_place, terminal};
use lorawan::Eui64;
use lorawan::limits::noise_dbm;
use rayon::iter::{IntoParallelIterator as _, ParallelIterator as _};
use store::DeviceRow;

use crate::planning::links::{FARTHEST_M, GatewaySite};
use crate::planning::survey::opened::OpenSurvey;

/// Hexagons that are one place: their sides are 25 m.
pub(crate) const ONE_PLACE: u8 = 11;
/// Pairs that are computed, at most: each is a path over the terrain.
const MOST: usize = 4_000;
/// What all devices are taken to transmit, so that they can be compared, in dBm.
pub(crate) const POWER_DBM: f64 = 14.0;

/// A place of a device.
type Spot = (u64, Option<u64>);

/// What was measured at a spot by one gateway.
#[derive(Debug, Default)]
struct Measured {
    place: Option<Place>,
    heard_dbm: Vec<f64>,
    /// The most that can have arrived when nothing was heard.
    silent_dbm: Vec<f64>,
}

/// What a hexagon and a gateway come to.
pub(crate) struct Middle {
    pub index: u64,
    pub gateway: u64,
    pub place: Place,
    /// The level, or the most that can have arrived.
    pub dbm: f64,
    pub at_most: bool,
    pub uplinks: usize,
}

/// What was measured: by spot and gateway.
pub(crate) struct Spots(BTreeMap<(Spot, u64), Measured>);

impl Spots {
    /// Of a survey, for these gateways with the noise figure of each, in hexagons of this resolution. Of fine ones, devices that
    /// stand still are told apart. Blocks.
    pub(crate) fn of(opened: &OpenSurvey, filter: &Filter, (gateways, resolution): (&HashMap<u64, f64>, u8)) -> Self {
        let record = opened.record();
        let Some(mut finder) = CellFinder::new(resolution) else { return Self(BTreeMap::new()) };
        let mut all: BTreeMap<(Spot, u64), Measured> = BTreeMap::new();
        for seen in record.seen(filter, 0) {
            let (Some(place), Some(here)) = (seen.place(), finder.index(seen)) else { continue };
            // Of devices that move, none is better known than another.
            let alone = resolution == ONE_PLACE && !seen.moves();
            let spot = (here, alone.then(|| seen.device()));
            let lowered_db = POWER_DBM - seen.power_dbm();
            for (gateway, noise_figure_db) in gateways {
                let heard = seen.by(Some(*gateway));
                if heard.is_none() && !record.listened(*gateway, seen.at_s()) {
                    continue;
                }
                let measured = all.entry((spot, *gateway)).or_default();
                measured.place = Some(place);
                match heard {
                    Some(heard) => measured.heard_dbm.push(heard.signal_dbm() + lowered_db),
                    None => {
                        let limit_dbm = noise_dbm(125_000, *noise_figure_db) + seen.needed_snr_db();
                        measured.silent_dbm.push(limit_dbm + lowered_db);
                    }
                }
            }
        }
        Self(all)
    }

    /// What each hexagon and gateway come to.
    pub(crate) fn middles(self) -> impl Iterator<Item = Middle> {
        let middle = |(((index, _), gateway), measured): ((Spot, u64), Measured)| {
            let (place, uplinks) = (measured.place?, measured.heard_dbm.len() + measured.silent_dbm.len());
            let (dbm, at_most) = measured.middle()?;
            Some(Middle { index, gateway, place, dbm, at_most, uplinks })
        };
        self.0.into_iter().filter_map(middle)
    }

    /// Beside them what is forecast; at most as many as can be computed in a moment, from all over. Blocks.
    pub(crate) fn pairs(
        self,
        method: &Method<'_>,
        gateways: &[GatewaySite],
        devices: &HashMap<u64, DeviceRow>,
    ) -> Vec<Pair> {
        let every = self.0.len().div_ceil(MOST).max(1);
        // In the order of hexagons neighbours follow one another, so that each part of the area keeps its share.
        let work: Vec<((Spot, u64), Measured)> = self.0.into_iter().step_by(every).collect();
        let sites: HashMap<u64, &GatewaySite> = gateways.iter().map(|one| (one.eui.0, one)).collect();
        let pair = |((spot, gateway), measured): ((Spot, u64), Measured)| {
            let (site, place) = (sites.get(&gateway)?, measured.place?);
            let device = spot.1.and_then(|eui| devices.get(&eui));
            let terminal = terminal(&at_place(device.and_then(|row| row.place), POWER_DBM)).ok()?;
            let (measured_dbm, at_most) = measured.middle()?;
            let forecast_dbm = forecast_dbm(method, site, (place, &terminal))?;
            let class = method.terrain.class(place);
            Some(Pair { place, gateway, class, forecast_dbm, measured_dbm, at_most })
        };
        work.into_par_iter().filter_map(pair).collect()
    }
}

impl Measured {
    /// The middle of what was measured, and whether it is only the most that can have arrived.
    fn middle(mut self) -> Option<(f64, bool)> {
        if self.heard_dbm.len() >= self.silent_dbm.len() {
            // The weaker ones are missing: below all that were heard.
            let missing = self.silent_dbm.len();
            let mut all = self.heard_dbm;
            all.extend(std::iter::repeat_n(f64::MIN, missing));
            all.sort_by(f64::total_cmp);
            let middle = all.get(all.len() / 2).copied().filter(|dbm| *dbm > f64::MIN)?;
            return Some((middle, false));
        }
        median(&mut self.silent_dbm).map(|dbm| (dbm, true))
    }
}

fn forecast_dbm(method: &Method<'_>, site: &GatewaySite, (place, terminal): (Place, &Terminal)) -> Option<f64> {
    let distance_m = site.site.place.distance_m(place);
    if distance_m > FARTHEST_M {
        return None;
    }
    let link = Link::between(&method.over(distance_m), (site.site.place, &site.site.station), (place, terminal));
    link.ok().map(|link| link.budget.uplink_dbm)
}

/// The noise figure of each gateway.
pub(crate) fn noise_figures(gateways: &[GatewaySite]) -> HashMap<u64, f64> {
    gateways.iter().map(|one| (one.eui.0, one.site.station.noise_figure_db)).collect()
}

/// Devices by EUI.
pub(crate) fn by_eui(rows: Vec<DeviceRow>) -> HashMap<u64, DeviceRow> {
    rows.into_iter().map(|row| (row.dev_eui.0, row)).collect()
}

/// The names of gateways by EUI.
pub(crate) fn names(gateways: &[GatewaySite]) -> BTreeMap<u64, String> {
    gateways.iter().map(|GatewaySite { eui: Eui64(eui), site }| (*eui, site.name.clone())).collect()
}

#[cfg(test)]
mod tests {
    use super::super::opened::tests::{empty, row};
    use super::*;

    #[test]
    fn spots_are_told_apart_by_place_device_and_gateway() {
        let survey = empty();
        let heard = |n: u64| if n < 2 { vec![(1, -90.0), (2, -110.0)] } else { vec![(1, -90.0)] };
        let rows: Vec<_> = (1..20).map(|n| row(n, &heard(n))).collect();
        survey.extend(rows.iter());
        let gateways = HashMap::from([(1, 6.0), (2, 6.0), (3, 6.0)]);
        let spots = Spots::of(&survey, &Filter::default(), (&gateways, ONE_PLACE));
        let mut found: Vec<Middle> = spots.middles().collect();
        found.sort_by_key(|middle| middle.gateway);
        let [first, second] = found.as_slice() else { panic!("gateway 3 never listened") };
        // As if it had sent with 14 dBm: it sent with 10. RSSI holds a little noise.
        assert!((first.dbm + 90.0 - 4.0 + 0.5).abs() < 0.1 && !first.at_most, "{}", first.dbm);
        // One of nineteen was heard, and the others were too weak: below -124.5 dBm, and 4 dB more.
        assert!(second.at_most && (second.dbm + 120.5).abs() < 0.2, "{}", second.dbm);
        assert_eq!((first.uplinks, second.uplinks), (19, 19));
    }

    #[test]
    fn silence_lowers_the_middle_and_more_of_it_is_a_limit() {
        let middle = |heard: &[f64], silent: &[f64]| {
            Measured { place: None, heard_dbm: heard.to_vec(), silent_dbm: silent.to_vec() }.middle()
        };
        assert_eq!(middle(&[-100.0, -90.0, -110.0], &[]), Some((-100.0, false)));
        // Two of four were too weak to be heard: half of all lie below the weaker one that was.
        assert_eq!(middle(&[-100.0, -90.0], &[-125.0, -125.0]), Some((-100.0, false)));
        assert_eq!(middle(&[-100.0], &[-125.0, -124.0, -126.0]), Some((-125.0, true)));
        assert_eq!(middle(&[], &[]), None);
    }
}

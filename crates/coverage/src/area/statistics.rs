//! Figures of a forecast: how much is covered, at which data rate, by how many gateways, and what is lost with each.

use std::collections::BTreeMap;

use super::forecast::{Forecast, Question, Site, budgets_at};
use crate::geo::Place;

/// What of something is covered: square kilometres, or devices.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Share {
    /// All of it.
    pub total: f64,
    /// By the best data rate; what is not covered is in none.
    pub by_data_rate: BTreeMap<u8, f64>,
    /// By how many gateways hear it.
    pub by_gateways: BTreeMap<u16, f64>,
    /// What only one gateway hears, by its number: lost when it fails.
    pub lost_with: BTreeMap<u16, f64>,
}

impl Share {
    fn add(&mut self, amount: f64, (data_rate, heard_by): (Option<u8>, &[u16])) {
        self.total += amount;
        if let Some(data_rate) = data_rate {
            *self.by_data_rate.entry(data_rate).or_default() += amount;
        }
        *self.by_gateways.entry(heard_by.len() as u16).or_default() += amount;
        if let [only] = heard_by {
            *self.lost_with.entry(*only).or_default() += amount;
        }
    }

    /// How much of it at least one gateway hears.
    pub fn covered(&self) -> f64 {
        self.by_data_rate.values().sum()
    }
}

/// The figures of an area, in square kilometres.
pub fn of_area(forecast: &Forecast) -> Share {
    let layout = forecast.layout();
    let Ok(extent) = layout.check() else { return Share::default() };
    let (width_m, height_m) = layout.cell_m(&extent);
    let cell_km2 = width_m * height_m / 1e6;
    let mut share = Share::default();
    for cell in forecast.cells().iter().flatten() {
        // Which gateways they are is known of the best one only; it is the one where there is no other.
        let heard_by = vec![cell.best_site; usize::from(cell.in_reach)];
        share.add(cell_km2, (cell.data_rate, &heard_by));
    }
    share
}

/// The figures of devices at these places, by their number.
pub fn of_places(sites: &[Site<'_>], question: &Question<'_>, places: &[Place]) -> Share {
    let mut share = Share::default();
    for place in places {
        let budgets = budgets_at(sites, question, *place);
        let heard_by: Vec<u16> =
            budgets.iter().filter(|(_, budget)| budget.best_data_rate.is_some()).map(|(site, _)| *site).collect();
        let fastest = budgets.iter().filter_map(|(_, budget)| budget.best_data_rate).max();
        share.add(1.0, (fastest, &heard_by));
    }
    share
}

#[cfg(test)]
mod tests {
    use lorawan::modulation::SpreadingFactor;

    use super::super::Area;
    use super::super::forecast::{Layer, usual_rates};
    use super::*;
    use crate::link::antenna::Antenna;
    use crate::link::budget::{Judgement, Station, Terminal};
    use crate::link::path::Calibrated;
    use crate::terrain::grid::Grid;
    use crate::terrain::mosaic::{NoData, Terrain};

    const WEST: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    /// Losses that grow by 20 dB a kilometre from 100 dB.
    fn losses(centre: Place, radius_m: f64) -> Grid {
        let layout = Area { centre, radius_m, cell_m: 100.0 }.layout().unwrap();
        let value = |place: Place| match centre.distance_m(place) {
            far if far > radius_m => f32::NAN,
            near => (100.0 + near / 50.0) as f32,
        };
        Grid::new(layout, super::super::centres(layout).map(value).collect()).unwrap()
    }

    #[test]
    fn a_region_is_shared_between_two_gateways() {
        let east = WEST.towards(90.0, 2_000.0);
        let grids = [losses(WEST, 2_500.0), losses(east, 2_500.0)];
        let station = Station { antenna: Antenna::ISOTROPIC, cable_loss_db: 0.0, ..Station::default() };
        let site = |place, losses| Site {
            place,
            antenna_m: 20.0,
            station: &station,
            losses,
            calibrated: Calibrated::default(),
        };
        let sites = [site(WEST, &grids[0]), site(east, &grids[1])];
        let (terminal, rates) = (Terminal::default(), usual_rates());
        let judgement = Judgement { shadowing_db: 0.0, ..Judgement::default() };
        let terrain = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let question =
            Question { terminal: &terminal, rates: &rates, judgement: &judgement, loads: &[], terrain: &terrain };
        let middle = WEST.towards(90.0, 1_000.0);
        let layout = Area { centre: middle, radius_m: 4_000.0, cell_m: 100.0 }.layout().unwrap();
        let forecast = Forecast::of(layout, &sites, &question).unwrap();
        let best = forecast.layer(Layer::BestSite).unwrap();
        assert_eq!((best.nearest(WEST), best.nearest(east)), (Some(0.0), Some(1.0)));
        // SF7 stands 138.5 dB, which is 1,925 m, SF8 141 dB; SF12 stands more than the losses go.
        let rate = forecast.layer(Layer::DataRate).unwrap();
        assert_eq!((rate.nearest(WEST), rate.nearest(WEST.towards(270.0, 2_100.0))), (Some(5.0), Some(3.0)));
        assert_eq!(forecast.layer(Layer::InReach).unwrap().nearest(middle), Some(2.0));
        let up = forecast.layer(Layer::Uplink).unwrap().nearest(middle).unwrap();
        assert!((up + 106.0).abs() < 1.5, "{up}");
        let area = of_area(&forecast);
        let circle = std::f64::consts::PI * 2.5f64.powi(2);
        let lens = area.by_gateways[&2];
        assert!((area.total - (2.0 * circle - lens)).abs() < 0.5, "{area:?}");
        assert!((area.lost_with[&0] - area.lost_with[&1]).abs() < 0.5 && (area.covered() - area.total).abs() < 1e-6);
        let places = [WEST.towards(270.0, 1_000.0), middle, WEST.towards(0.0, 9_000.0)];
        let devices = of_places(&sites, &question, &places);
        assert_eq!((devices.total, devices.covered()), (3.0, 2.0));
        assert_eq!(devices.by_gateways, BTreeMap::from([(0, 1.0), (1, 1.0), (2, 1.0)]));
        assert_eq!(devices.lost_with, BTreeMap::from([(0, 1.0)]));

        let busy = Question { loads: &[(SpreadingFactor::new(7).unwrap(), 0.2)], ..question };
        let loaded = Forecast::of(layout, &sites, &busy).unwrap();
        let snir = |forecast: &Forecast| forecast.layer(Layer::Snir).unwrap().nearest(middle).unwrap();
        assert!(snir(&loaded) < snir(&forecast));
        let sure = |forecast: &Forecast| forecast.layer(Layer::Reliability).unwrap().nearest(WEST).unwrap();
        assert!(sure(&forecast) == 1.0 && sure(&loaded) <= 1.0);
        assert!(Forecast::of(layout, &[], &question).unwrap_err().to_string().contains("sites is 0"));
    }
}

//! Two forecasts held against one another.

use super::centre;
use super::forecast::{Cell, Forecast, Layer};
use crate::geo::Place;
use crate::survey::median;

/// What one forecast has more than the other.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Compared {
    /// Covered by this one alone, in square kilometres.
    pub gained_km2: f64,
    /// Covered by the other alone, in square kilometres.
    pub lost_km2: f64,
    /// Covered by both, in square kilometres.
    pub both_km2: f64,
    /// The middle of this one less the other, where both have a value.
    pub middle: Option<f64>,
}

/// Whether a place is covered: a data rate works with the margin kept.
pub fn covers(forecast: &Forecast, place: Place) -> bool {
    forecast.cell(place).is_some_and(is_covered)
}

fn is_covered(cell: &Cell) -> bool {
    cell.data_rate.is_some()
}

/// This one less the other at a place; none where one of them has no value.
pub fn difference(this: &Forecast, other: &Forecast, layer: Layer, place: Place) -> Option<f64> {
    let value = |forecast: &Forecast| forecast.cell(place)?.value(layer).map(f64::from);
    Some(value(this)? - value(other)?)
}

/// Compares two forecasts, whose cells may lie elsewhere and have other sizes.
pub fn compare(this: &Forecast, other: &Forecast, layer: Layer) -> Compared {
    let (mut gained_km2, mut lost_km2, mut both_km2) = (0.0, 0.0, 0.0);
    let mut differences = Vec::new();
    for (place, km2, cell) in cells(this) {
        match (is_covered(cell), covers(other, place)) {
            (true, true) => both_km2 += km2,
            (true, false) => gained_km2 += km2,
            (false, _) => {}
        }
        differences.extend(difference(this, other, layer, place));
    }
    for (place, km2, cell) in cells(other) {
        if is_covered(cell) && !covers(this, place) {
            lost_km2 += km2;
        }
    }
    Compared { gained_km2, lost_km2, both_km2, middle: median(&mut differences) }
}

/// The cells that have values, each with its middle and its size in square kilometres.
fn cells(forecast: &Forecast) -> impl Iterator<Item = (Place, f64, &Cell)> {
    let layout = forecast.layout();
    let extent = layout.check().ok();
    let (width_m, height_m) = extent.map_or((0.0, 0.0), |extent| extent.size_m());
    let km2 = width_m * height_m / 1e6 / (layout.width * layout.height).max(1) as f64;
    let cells = forecast.cells().iter().enumerate();
    cells.filter_map(move |(at, cell)| Some((centre(layout, at), km2, cell.as_ref()?)))
}

#[cfg(test)]
mod tests {
    use super::super::Area;
    use super::super::forecast::{Question, Site, usual_rates};
    use super::*;
    use crate::link::antenna::Antenna;
    use crate::link::budget::{Judgement, Station, Terminal};
    use crate::link::path::Calibrated;
    use crate::terrain::grid::Grid;
    use crate::terrain::mosaic::{NoData, Terrain};

    const WEST: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    /// A forecast of one site with losses that grow by 20 dB a kilometre from 100 dB, so far around it.
    fn forecast(centre: Place, radius_m: f64, gateway_db: f64) -> Forecast {
        let layout = Area { centre, radius_m, cell_m: 50.0 }.layout().unwrap();
        let value = |place: Place| match centre.distance_m(place) {
            far if far > radius_m => f32::NAN,
            near => (100.0 + near / 50.0) as f32,
        };
        let losses = Grid::new(layout, super::super::centres(layout).map(value).collect()).unwrap();
        let station = Station { antenna: Antenna::ISOTROPIC, cable_loss_db: 0.0, ..Station::default() };
        let calibrated = Calibrated { gateway_db, by_class: None };
        let site = Site { place: centre, antenna_m: 20.0, station: &station, losses: &losses, calibrated };
        let (terminal, rates, judgement) = (Terminal::default(), usual_rates(), Judgement::default());
        let terrain = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let question =
            Question { terminal: &terminal, rates: &rates, judgement: &judgement, loads: &[], terrain: &terrain };
        Forecast::of(layout, &[site], &question).unwrap()
    }

    #[test]
    fn what_is_gained_and_lost_is_told_by_area() {
        let (this, other) = (forecast(WEST, 1_000.0, 0.0), forecast(WEST.towards(90.0, 1_000.0), 1_000.0, 0.0));
        let compared = compare(&this, &other, Layer::Margin);
        let circle = std::f64::consts::PI;
        // Two circles of 1 km whose middles are 1 km apart have 1.228 km² in common.
        assert!((compared.both_km2 - 1.228).abs() < 0.08, "{compared:?}");
        assert!(
            (compared.gained_km2 - (circle - 1.228)).abs() < 0.12
                && (compared.lost_km2 - compared.gained_km2).abs() < 0.12
        );
        assert!(compared.middle.unwrap().abs() < 1.0);
        let west = WEST.towards(270.0, 500.0);
        assert!(covers(&this, west) && !covers(&other, west));
        assert_eq!(difference(&this, &other, Layer::Margin, west), None);
    }

    #[test]
    fn a_calibration_is_the_whole_difference() {
        let (plain, weaker) = (forecast(WEST, 1_000.0, 0.0), forecast(WEST, 1_000.0, -5.0));
        let compared = compare(&weaker, &plain, Layer::Uplink);
        assert!((compared.middle.unwrap() + 5.0).abs() < 0.01, "{compared:?}");
        assert_eq!((compared.gained_km2, compared.lost_km2), (0.0, 0.0));
    }
}

//! Ranks sites: what each one adds to the others, and what is lost without it.

use super::AreaError;
use super::forecast::{Forecast, Question, Site, budgets_at, heard_by};
use crate::geo::Place;
use crate::range::within;

/// Sites that are ranked, at most: each is one bit.
pub const MOST_SITES: usize = 64;

/// The sites that hear a cell or a device with the margin kept, as bits by their numbers.
type Mask = u64;

/// Which sites hear each cell of an area, and each device.
#[derive(Debug, Clone, PartialEq)]
pub struct Heard {
    sites: usize,
    cell_km2: f64,
    cells: Vec<Mask>,
    devices: Vec<Mask>,
}

/// An amount of area and of devices.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Amount {
    /// Of area, in square kilometres.
    pub area_km2: f64,
    /// Of devices.
    pub devices: i64,
}

/// What a set of sites hears.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Reach {
    /// By at least one of them.
    pub once: Amount,
    /// By at least two of them.
    pub twice: Amount,
}

/// A site with what it changes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ranked {
    /// Its number.
    pub site: u16,
    /// What is heard more with it than without.
    pub more: Reach,
}

impl std::ops::Sub for Amount {
    type Output = Self;

    fn sub(self, less: Self) -> Self {
        Self { area_km2: self.area_km2 - less.area_km2, devices: self.devices - less.devices }
    }
}

impl std::ops::Sub for Reach {
    type Output = Self;

    fn sub(self, less: Self) -> Self {
        Self { once: self.once - less.once, twice: self.twice - less.twice }
    }
}

impl Heard {
    /// Of a forecast's cells, and of devices at these places.
    ///
    /// # Errors
    /// There are no sites or more than [`MOST_SITES`].
    pub fn of(
        forecast: &Forecast,
        sites: &[Site<'_>],
        question: &Question<'_>,
        devices: &[Place],
    ) -> Result<Self, AreaError> {
        within("sites", sites.len() as f64, 1.0..=MOST_SITES as f64, "")?;
        let layout = forecast.layout();
        let (width_m, height_m) = layout.cell_m(&layout.check()?);
        Ok(Self {
            sites: sites.len(),
            cell_km2: width_m * height_m / 1e6,
            cells: forecast.cells().iter().map(|cell| cell.as_ref().map_or(0, |cell| cell.heard_by)).collect(),
            devices: devices.iter().map(|place| heard_by(&budgets_at(sites, question, *place))).collect(),
        })
    }

    /// What these sites hear together.
    pub fn by(&self, sites: impl IntoIterator<Item = u16>) -> Reach {
        let wanted: Mask =
            sites.into_iter().filter(|site| usize::from(*site) < self.sites).fold(0, |all, site| all | 1 << site);
        let count =
            |masks: &[Mask], least: u32| masks.iter().filter(|mask| (*mask & wanted).count_ones() >= least).count();
        let extent = |least: u32| Amount {
            area_km2: count(&self.cells, least) as f64 * self.cell_km2,
            devices: count(&self.devices, least) as i64,
        };
        Reach { once: extent(1), twice: extent(2) }
    }

    /// What each site that is not in the base would add to it, the best first.
    pub fn additions(&self, base: &[u16]) -> Vec<Ranked> {
        let before = self.by(base.iter().copied());
        let others = (0..self.sites as u16).filter(|site| !base.contains(site));
        let with = |site: u16| Ranked { site, more: self.by(base.iter().copied().chain([site])) - before };
        ranked(others.map(with).collect(), |more| [more.once, more.twice])
    }

    /// What is heard only because of each site of the base, the one that could go first.
    pub fn losses(&self, base: &[u16]) -> Vec<Ranked> {
        let all = self.by(base.iter().copied());
        let without =
            |site: &u16| Ranked { site: *site, more: all - self.by(base.iter().copied().filter(|one| one != site)) };
        let mut least = ranked(base.iter().map(without).collect(), |more| [more.once, more.twice]);
        least.reverse();
        least
    }
}

/// Devices count before area, and being heard at all before being heard twice.
fn ranked(mut all: Vec<Ranked>, of: impl Fn(Reach) -> [Amount; 2]) -> Vec<Ranked> {
    all.sort_by(|a, b| {
        let pairs = of(b.more).into_iter().zip(of(a.more));
        pairs.fold(std::cmp::Ordering::Equal, |order, (b, a)| {
            order.then(b.devices.cmp(&a.devices)).then(b.area_km2.total_cmp(&a.area_km2))
        })
    });
    all
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::Area;
    use super::super::forecast::usual_rates;
    use super::*;
    use crate::link::antenna::Antenna;
    use crate::link::budget::{Judgement, Station, Terminal};
    use crate::link::path::Calibrated;
    use crate::terrain::grid::Grid;
    use crate::terrain::mosaic::{NoData, Terrain};

    const WEST: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };

    /// A disc of 1.5 km that hears everything.
    fn disc(centre: Place) -> Grid {
        let layout = Area { centre, radius_m: 1_500.0, cell_m: 50.0 }.layout().unwrap();
        let value = |place: Place| if centre.distance_m(place) > 1_500.0 { f32::NAN } else { 100.0 };
        Grid::new(layout, super::super::centres(layout).map(value).collect()).unwrap()
    }

    fn heard() -> Heard {
        // The third lies almost on the first; the fourth stands alone.
        let places = [WEST, WEST.towards(90.0, 2_000.0), WEST.towards(0.0, 200.0), WEST.towards(180.0, 6_000.0)];
        let grids = places.map(disc);
        let station = Station { antenna: Antenna::ISOTROPIC, cable_loss_db: 0.0, ..Station::default() };
        let sites: Vec<Site<'_>> = places
            .iter()
            .zip(&grids)
            .map(|(place, losses)| Site {
                place: *place,
                antenna_m: 20.0,
                station: &station,
                losses,
                calibrated: Calibrated::default(),
            })
            .collect();
        let (terminal, rates, judgement) = (Terminal::default(), usual_rates(), Judgement::default());
        let terrain = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let question =
            Question { terminal: &terminal, rates: &rates, judgement: &judgement, loads: &[], terrain: &terrain };
        let layout = Area { centre: WEST, radius_m: 8_000.0, cell_m: 50.0 }.layout().unwrap();
        let devices = [WEST, WEST.towards(90.0, 2_900.0), WEST.towards(180.0, 6_500.0), WEST.towards(270.0, 7_000.0)];
        let forecast = Forecast::of(layout, &sites, &question).unwrap();
        assert!(Heard::of(&forecast, &[], &question, &devices).is_err());
        Heard::of(&forecast, &sites, &question, &devices).unwrap()
    }

    #[test]
    fn the_best_addition_is_the_one_that_others_do_not_hear() {
        let heard = heard();
        let disc_km2 = std::f64::consts::PI * 1.5f64.powi(2);
        let first = heard.by([0]);
        assert!((first.once.area_km2 - disc_km2).abs() < 0.1 && first.once.devices == 1 && first.twice.devices == 0);
        let added = heard.additions(&[0]);
        assert_eq!(added.iter().map(|one| one.site).collect::<Vec<_>>(), [3, 1, 2], "{added:?}");
        assert!((added[0].more.once.area_km2 - disc_km2).abs() < 0.1 && added[0].more.once.devices == 1);
        // Almost all of the third's disc is heard already: it is there twice then.
        assert!(added[2].more.once.area_km2 < 1.0 && added[2].more.twice.area_km2 > 6.0, "{added:?}");
    }

    #[test]
    fn the_first_that_could_go_is_the_one_whose_place_is_heard_anyway() {
        let heard = heard();
        let lost = heard.losses(&[0, 1, 2, 3]);
        assert_eq!(lost.iter().map(|one| one.site).next_back(), Some(3), "{lost:?}");
        assert!(lost[0].more.once.devices == 0 && lost[0].more.once.area_km2 < 1.0, "{lost:?}");
        assert_eq!(heard.losses(&[]), []);
    }

    proptest! {
        #[test]
        fn more_sites_never_hear_less(chosen in proptest::collection::vec(0u16..70, 0..6), one in 0u16..4) {
            let heard = Heard { sites: 4, cell_km2: 0.5, cells: (0..16).collect(), devices: vec![1, 3, 8] };
            let (without, with) = (heard.by(chosen.clone()), heard.by(chosen.into_iter().chain([one])));
            prop_assert!(with.once.area_km2 >= without.once.area_km2 && with.twice.devices >= without.twice.devices);
            prop_assert!(with.twice.area_km2 <= with.once.area_km2);
        }
    }
}

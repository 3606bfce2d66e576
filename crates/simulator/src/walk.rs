//! How grazing animals move: a herd stays on a pasture for some days, goes on to the next at dawn, and its animals wander
//! around it by day and rest at night. A place is a function of time alone.

use coverage::geo::Place;
use coverage::terrain::cover::Shield;
use coverage::terrain::mosaic::Terrain;
use serde::Deserialize;

use crate::environment::{DAY_US, MomentUs, drift, hour};

/// How far an animal goes from its herd by day, in metres.
const WANDERS_M: f64 = 380.0;
/// How far at night.
const RESTS_M: f64 = 45.0;

/// A herd.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Herd {
    /// Its name.
    pub name: String,
    /// Its pastures in turn, each by latitude and longitude.
    pub pastures: Vec<(f64, f64)>,
    /// How long it stays on one, in days.
    pub stays_days: u32,
}

impl Herd {
    fn pasture(&self, nth: i64) -> Place {
        let nth = nth.rem_euclid(self.pastures.len().max(1) as i64) as usize;
        let (latitude_deg, longitude_deg) = self.pastures.get(nth).copied().unwrap_or_default();
        Place { latitude_deg, longitude_deg }
    }

    /// Its middle. It moves on in the two hours after dawn.
    fn middle(&self, at_us: MomentUs) -> Place {
        let stay_us = i64::from(self.stays_days.max(1)) * DAY_US;
        let nth = at_us.div_euclid(stay_us);
        let into_h = at_us.rem_euclid(stay_us) as f64 / 3.6e9;
        let share = ((into_h - 6.0) / 2.0).clamp(0.0, 1.0);
        let (from, to) = (self.pasture(nth - 1), self.pasture(nth));
        from.towards(from.bearing_deg(to), from.distance_m(to) * share)
    }

    /// Where one of its animals is. It does not go into the sea.
    pub fn animal(&self, seed: u64, at_us: MomentUs, terrain: &Terrain) -> Place {
        wander(self.middle(at_us), seed, at_us, terrain)
    }
}

/// Where an animal is that belongs to a place.
pub fn wander(middle: Place, seed: u64, at_us: MomentUs, terrain: &Terrain) -> Place {
    let reach_m = RESTS_M + (WANDERS_M - RESTS_M) * awake(at_us);
    let off = |salt: u64| drift(seed ^ salt, at_us, 9_000.0) + 0.3 * drift(seed ^ salt ^ 0xff, at_us, 1_500.0);
    let (east_m, north_m) = (off(0x0e) * reach_m, off(0x0a) * reach_m);
    let (bearing_deg, distance_m) = (east_m.atan2(north_m).to_degrees(), east_m.hypot(north_m));
    let dry = |place: &Place| terrain.sample(*place).is_none_or(|sample| sample.shield != Shield::Sea);
    let ways = [1.0, 0.6, 0.3, 0.0].map(|share| middle.towards(bearing_deg, distance_m * share));
    ways.into_iter().find(dry).unwrap_or(middle)
}

/// How active animals are, 0 to 1: from five to twenty-one, most of all in the middle.
fn awake(at_us: MomentUs) -> f64 {
    ((hour(at_us) - 5.0) / 16.0 * std::f64::consts::PI).sin().max(0.0)
}

/// Steps a minute.
pub fn activity(seed: u64, at_us: MomentUs) -> u8 {
    let grazes = 0.55 + 0.45 * drift(seed ^ 0x57e9, at_us, 2_400.0);
    (3.0 + 52.0 * awake(at_us) * grazes).round().clamp(0.0, 255.0) as u8
}

#[cfg(test)]
mod tests {
    use coverage::terrain::mosaic::{NoData, Terrain};

    use super::*;

    fn herd() -> Herd {
        Herd { name: "north".into(), pastures: vec![(54.71, 3.90), (54.72, 3.92)], stays_days: 3 }
    }

    const START: MomentUs = 20_514 * DAY_US;

    #[test]
    fn a_herd_visits_its_pastures_and_its_animals_stay_near() {
        let (herd, land) = (herd(), Terrain { no_data: NoData::Interpolated, ..Terrain::default() });
        let mut visited = std::collections::BTreeSet::new();
        let mut before = herd.animal(7, START, &land);
        for minutes in (0..12 * 24 * 60).step_by(20) {
            let at_us = START + minutes * 60_000_000;
            let place = herd.animal(7, at_us, &land);
            assert!(place.distance_m(herd.middle(at_us)) < 1.9 * WANDERS_M);
            assert!(place.distance_m(before) < 900.0, "it does not fly");
            before = place;
            let near = herd
                .pastures
                .iter()
                .position(|(lat, lon)| place.distance_m(Place { latitude_deg: *lat, longitude_deg: *lon }) < 700.0);
            visited.extend(near);
        }
        assert_eq!(visited.len(), 2);
    }

    #[test]
    fn animals_rest_at_night_and_keep_out_of_the_sea() {
        assert!(activity(3, START + 2 * 3_600_000_000) < 5);
        let noon = (0..8).map(|n| u32::from(activity(n, START + 13 * 3_600_000_000))).sum::<u32>() / 8;
        assert!(noon > 15, "{noon}");
        let sea = Terrain { no_data: NoData::Sea, ..Terrain::default() };
        let middle = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        assert_eq!(wander(middle, 1, START + 13 * 3_600_000_000, &sea), middle, "there is only water around");
    }
}

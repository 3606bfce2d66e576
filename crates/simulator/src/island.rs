//! The island of the demo: a terrain that is made up, the same each time. Where it lies there is only water.

use coverage::geo::{EARTH_RADIUS_M, Place};
use coverage::link::shadowing::Shadowing;
use coverage::terrain::grid::{Grid, GridError, Layout, Projection};

/// What its files say of themselves.
pub const DESCRIPTION: &str = "Tarnsey, a made-up island: where it lies there is only water. CC0.";

/// Its middle.
const CENTRE: Place = Place { latitude_deg: 54.706, longitude_deg: 3.903 };
/// A cell: a second of arc.
const STEP_DEG: f64 = 1.0 / 3600.0;
const WIDTH: usize = 1008;
const HEIGHT: usize = 576;
/// From the middle to the shores in the east and west, and in the north and south, in km.
const SHORE_KM: (f64, f64) = (6.6, 4.2);

/// Numbers of the default table of cover ([`coverage::terrain::cover`]).
mod class {
    pub(super) const SEA: f32 = 1.0;
    pub(super) const TIDAL_FLAT: f32 = 3.0;
    pub(super) const GRASS: f32 = 4.0;
    pub(super) const SAND: f32 = 5.0;
    pub(super) const ROCK: f32 = 6.0;
    pub(super) const SCRUB: f32 = 7.0;
    pub(super) const WOOD: f32 = 8.0;
    pub(super) const VILLAGE: f32 = 9.0;
}

/// A hill.
struct Hill {
    /// Kilometres east and north of the middle.
    at: (f64, f64),
    height_m: f64,
    /// How wide it is from west to east and from south to north, in km.
    wide: (f64, f64),
}

const HILLS: [Hill; 6] = [
    // Chapel Rise.
    Hill { at: (-1.22, 0.67), height_m: 142.0, wide: (1.3, 1.0) },
    // The Long Back, which shields the east from it.
    Hill { at: (1.45, 0.35), height_m: 128.0, wide: (0.55, 1.7) },
    // Gull Head, above the cliffs.
    Hill { at: (-4.1, -1.15), height_m: 14.0, wide: (1.2, 1.1) },
    // Wester Fell.
    Hill { at: (-3.2, 1.5), height_m: 70.0, wide: (0.8, 0.7) },
    // Southerly.
    Hill { at: (0.3, -1.9), height_m: 48.0, wide: (1.1, 0.6) },
    // The knoll above the weir.
    Hill { at: (0.75, 2.55), height_m: 18.0, wide: (0.5, 0.4) },
];

/// Heights and classes of cover.
///
/// # Errors
/// None: the layout is a good one.
pub fn island() -> Result<(Grid, Grid), GridError> {
    let layout = Layout {
        projection: Projection::Geographic,
        width: WIDTH,
        height: HEIGHT,
        west: CENTRE.longitude_deg - STEP_DEG * (WIDTH / 2) as f64,
        north: CENTRE.latitude_deg + STEP_DEG * (HEIGHT / 2) as f64,
        dx: STEP_DEG,
        dy: STEP_DEG,
    };
    let places = (0..WIDTH * HEIGHT).map(|at| Place {
        latitude_deg: layout.north - STEP_DEG * (at / WIDTH) as f64,
        longitude_deg: layout.west + STEP_DEG * (at % WIDTH) as f64,
    });
    let spots: Vec<Spot> = places.map(Spot::at).collect();
    let heights = spots.iter().map(|spot| spot.height_m().round().max(0.0) as f32).collect();
    let cover = spots.iter().map(Spot::class).collect();
    Ok((Grid::new(layout, heights)?, Grid::new(layout, cover)?))
}

/// Irregularity that is the same at the same place, about -1 to 1.
fn noise(place: Place, seed: u64, distance_m: f64) -> f64 {
    Shadowing { seed, deviation_db: 0.5, distance_m }.at_db(place)
}

/// A place on the island or beside it.
struct Spot {
    place: Place,
    /// Kilometres east of the middle.
    east: f64,
    /// Kilometres north of it.
    north: f64,
    /// How far inland, in km; negative at sea.
    inland: f64,
}

impl Spot {
    fn at(place: Place) -> Self {
        let degree_km = EARTH_RADIUS_M.to_radians() / 1000.0;
        let north = (place.latitude_deg - CENTRE.latitude_deg) * degree_km;
        let east = (place.longitude_deg - CENTRE.longitude_deg) * degree_km * CENTRE.latitude_deg.to_radians().cos();
        let round = (east / SHORE_KM.0).hypot(north / SHORE_KM.1);
        let bays = 0.16 * noise(place, 1, 2_600.0) + 0.05 * noise(place, 2, 700.0) + 0.012 * noise(place, 3, 180.0);
        Self { place, east, north, inland: (1.0 - round + bays) * 4.2 }
    }

    /// How much the coast is a cliff: in the west.
    fn cliff(&self) -> f64 {
        ((-self.east - 2.6) / 1.6).clamp(0.0, 1.0)
    }

    /// How much it is a tidal flat: in the north-east and in the south.
    fn flat(&self) -> f64 {
        let ragged = 0.5 * noise(self.place, 10, 900.0);
        let north_east = ((self.east + self.north - 2.8 + ragged) / 1.5).clamp(0.0, 1.0);
        let south =
            ((-self.north - 2.5 + ragged) / 0.8).clamp(0.0, 1.0) * ((3.2 - self.east.abs()) / 1.0).clamp(0.0, 1.0);
        north_east.max(south)
    }

    /// Above the sea at half tide, in metres; negative at sea.
    fn height_m(&self) -> f64 {
        if self.inland <= 0.0 {
            return self.inland * 20.0;
        }
        let hills: f64 = HILLS
            .iter()
            .map(|Hill { at, height_m, wide }| {
                let off = ((self.east - at.0) / wide.0).powi(2) + ((self.north - at.1) / wide.1).powi(2);
                height_m * (-off / 2.0).exp()
            })
            .sum();
        let rough = noise(self.place, 4, 420.0) + 0.4 * noise(self.place, 5, 130.0) + 0.15 * noise(self.place, 6, 45.0);
        let shore = (self.inland / 0.5).min(1.0);
        // Flats rise by two metres in a kilometre and a half; cliffs by thirty at once.
        let low = self.flat() * (1.0 - ((self.inland - 1.2) / 0.8).clamp(0.0, 1.0));
        let plain = 3.0 + 7.0 * (self.inland / 1.5).min(1.0) + 28.0 * self.cliff() * (self.inland / 0.06).min(1.0);
        let dune = if self.is_dune() { 6.0 + 4.0 * noise(self.place, 7, 90.0) } else { 0.0 };
        let dry = plain + shore * (hills + (4.0 + hills * 0.12) * rough) + dune;
        (dry.clamp(0.5, 180.0) * (1.0 - low) + (0.4 + self.inland * 1.3) * low).max(0.2)
    }

    fn is_dune(&self) -> bool {
        self.north > 1.6 && self.flat() < 0.2 && self.cliff() < 0.3 && (0.08..0.5).contains(&self.inland)
    }

    fn class(&self) -> f32 {
        let near = |east: f64, north: f64, km: f64| (self.east - east).hypot(self.north - north) < km;
        let patches = noise(self.place, 8, 260.0) + 0.5 * noise(self.place, 9, 70.0);
        let height_m = self.height_m();
        match () {
            () if self.inland <= 0.0 => class::SEA,
            () if self.flat() > 0.4 && height_m < 4.0 => class::TIDAL_FLAT,
            () if near(4.0, -2.45, 0.5 + 0.2 * patches) || near(-1.9, -0.35, 0.2 + 0.15 * patches) => class::VILLAGE,
            () if self.is_dune() || self.inland < 0.06 && self.cliff() < 0.3 => class::SAND,
            () if self.inland < 0.06 || height_m > 150.0 && patches > 0.1 => class::ROCK,
            () if near(0.25, -1.75, 1.0 + 0.25 * patches) || near(-2.6, 1.0, 0.5 + 0.2 * patches) => class::WOOD,
            () if patches > 0.55 => class::SCRUB,
            () => class::GRASS,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::fs::File;
    use std::path::Path;

    use coverage::terrain::geotiff::GeoTiff;

    use super::*;
    use crate::scenario::Scenario;

    fn folder() -> std::path::PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey")
    }

    #[test]
    fn the_demos_files_are_the_island_and_say_that_it_is_made_up() {
        let (heights, cover) = island().unwrap();
        for (name, made) in [("heights.tif", heights), ("cover.tif", cover)] {
            let path = folder().join(name);
            assert!(path.metadata().unwrap().len() < 2_000_000, "{name}");
            let mut file = GeoTiff::open(File::open(path).unwrap()).unwrap();
            assert!(file.description().contains("made-up"));
            let kept = file.read().unwrap();
            assert!(
                kept.values() == made.values(),
                "{name}: make it again with `cargo run -p simulator --bin make-island`"
            );
        }
    }

    #[test]
    fn it_is_an_island_as_large_and_as_high_as_it_is_told() {
        let (heights, cover) = island().unwrap();
        let highest = heights.values().iter().copied().fold(0.0, f32::max);
        assert!((150.0..=180.0).contains(&highest), "{highest}");
        let cell_km2 = 0.0309 * 0.0309 * CENTRE.latitude_deg.to_radians().cos();
        let count = |wanted: f32| cover.values().iter().filter(|value| **value == wanted).count() as f64 * cell_km2;
        let land: f64 = (3..=9).map(|class| count(class as f32)).sum();
        assert!((60.0..110.0).contains(&land), "{land} km²");
        for (class, least) in [
            (class::TIDAL_FLAT, 4.0),
            (class::SAND, 0.5),
            (class::ROCK, 0.1),
            (class::WOOD, 2.0),
            (class::VILLAGE, 0.5),
        ] {
            assert!(count(class) > least, "class {class}: {} km²", count(class));
        }
        let edge = |at: usize| !(1..WIDTH - 1).contains(&(at % WIDTH)) || !(1..HEIGHT - 1).contains(&(at / WIDTH));
        assert!(cover.values().iter().enumerate().all(|(at, value)| !edge(at) || *value == class::SEA));
    }

    #[test]
    fn gateways_stand_on_land_and_at_their_altitude() {
        let (heights, cover) = island().unwrap();
        for gateway in Scenario::load(&folder()).unwrap().gateways {
            let place = Place::new(gateway.latitude_deg, gateway.longitude_deg).unwrap();
            let (ground_m, class) = (heights.between(place).unwrap(), cover.nearest(place).unwrap());
            assert!(class as f32 != class::SEA, "{}", gateway.name);
            let above = gateway.altitude_m - ground_m;
            assert!(
                (1.0..40.0).contains(&above),
                "{}: {} m, the ground {ground_m:.0} m",
                gateway.name,
                gateway.altitude_m
            );
        }
    }
}

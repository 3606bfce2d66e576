//! A picture of the ground to lie under a map: cover in quiet colours, hills by light and shadow, coasts and heights by lines.

use std::f64::consts::{PI, TAU};

use crate::geo::{EARTH_RADIUS_M, Place};
use crate::terrain::cover::Shield;
use crate::terrain::mosaic::Terrain;
use crate::terrain::profile::Sample;

/// The side of a tile, in pixels (OGC 17-083r4, Annex D.1: WebMercatorQuad).
pub const TILE_SIDE: usize = 256;
/// The highest level of tiles: a pixel is then about a metre and a half at the middle latitudes.
pub const MAX_LEVEL: u8 = 16;

/// A tile of the earth in the projection of web maps (OGC 17-083r4, Annex D.1: WebMercatorQuad).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tile {
    level: u8,
    column: u32,
    row: u32,
}

impl Tile {
    /// A tile; none if there is no such one.
    pub fn new(level: u8, column: u32, row: u32) -> Option<Self> {
        let there = level <= MAX_LEVEL && column < 1 << level && row < 1 << level;
        there.then_some(Self { level, column, row })
    }

    /// The tile of a level that a place is on; none near the poles, where there are no tiles.
    pub fn at(level: u8, place: Place) -> Option<Self> {
        let side = f64::from(1u32.checked_shl(u32::from(level))?);
        let north = place.latitude_deg.to_radians().tan().asinh() / std::f64::consts::PI;
        let number = |share: f64| (0.0..1.0).contains(&share).then_some((share * side) as u32);
        Self::new(level, number((place.longitude_deg + 180.0) / 360.0)?, number((1.0 - north) / 2.0)?)
    }

    /// Its column and its row.
    pub const fn numbers(self) -> (u32, u32) {
        (self.column, self.row)
    }

    /// The place of a point of it, in pixels from its upper left corner.
    pub fn place(self, x: f64, y: f64) -> Place {
        let side = f64::from(1u32 << self.level);
        let across = (f64::from(self.column) + x / TILE_SIDE as f64) / side;
        let down = (f64::from(self.row) + y / TILE_SIDE as f64) / side;
        Place {
            latitude_deg: (PI * (1.0 - 2.0 * down)).sinh().atan().to_degrees(),
            longitude_deg: across * 360.0 - 180.0,
        }
    }

    /// Metres of a pixel in its middle.
    fn pixel_m(self) -> f64 {
        let half = TILE_SIDE as f64 / 2.0;
        let around_m = TAU * EARTH_RADIUS_M * self.place(half, half).latitude_deg.to_radians().cos();
        around_m / (TILE_SIDE as f64 * f64::from(1u32 << self.level))
    }
}

type Colour = [u8; 3];

/// The colours of a picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Palette {
    open: Colour,
    flat: Colour,
    sand: Colour,
    rock: Colour,
    scrub: Colour,
    wood: Colour,
    houses: Colour,
    water: Colour,
    line: Colour,
    coast: Colour,
    /// How much light and shadow differ.
    relief: f64,
}

impl Palette {
    /// On light paper.
    pub const LIGHT: Self = Self {
        open: [0xe6, 0xe6, 0xcf],
        flat: [0xdd, 0xd8, 0xc4],
        sand: [0xf0, 0xe6, 0xc8],
        rock: [0xd6, 0xd2, 0xc8],
        scrub: [0xd8, 0xde, 0xbf],
        wood: [0xc3, 0xd3, 0xb0],
        houses: [0xe0, 0xc9, 0xb8],
        water: [0xc9, 0xd9, 0xdf],
        line: [0x9a, 0x8d, 0x6c],
        coast: [0x6f, 0x8a, 0x8e],
        relief: 0.9,
    };
    /// On dark paper.
    pub const DARK: Self = Self {
        open: [0x2f, 0x3a, 0x31],
        flat: [0x35, 0x38, 0x33],
        sand: [0x44, 0x42, 0x35],
        rock: [0x42, 0x44, 0x43],
        scrub: [0x2c, 0x3c, 0x2d],
        wood: [0x23, 0x38, 0x2a],
        houses: [0x49, 0x3d, 0x37],
        water: [0x1c, 0x2b, 0x33],
        line: [0x66, 0x6d, 0x5c],
        coast: [0x6d, 0x8b, 0x93],
        relief: 1.3,
    };

    fn of(&self, class: Option<u16>, sample: Sample) -> Colour {
        match (class, sample.shield) {
            (_, Shield::Sea | Shield::Water) => self.water,
            (Some(3), _) => self.flat,
            (Some(5), _) => self.sand,
            (Some(6), _) => self.rock,
            (_, Shield::Suburban | Shield::DenseTown) => self.houses,
            (Some(10), _) => self.houses,
            (_, Shield::TreesOrTown) => self.wood,
            (_, Shield::Open) if sample.cover_m > 1.0 => self.scrub,
            (_, Shield::Open) => self.open,
        }
    }
}

/// What there is at a pixel; none on the sea and where nothing is known.
#[derive(Clone, Copy)]
struct Spot {
    ground_m: f64,
    colour: Colour,
}

/// Hills are shown this much steeper than they are.
const STEEPER: f64 = 2.2;
/// Slopes are taken over at least this distance: heights in whole metres make steps otherwise.
const SLOPE_M: f64 = 24.0;

/// Draws a tile as red, green, blue and opacity of its pixels, row by row. The sea and what is not known are left clear.
pub fn tile(terrain: &Terrain, tile: Tile, palette: &Palette) -> Vec<u8> {
    let pixel_m = tile.pixel_m();
    let reach = ((SLOPE_M / pixel_m).round() as usize).clamp(1, 16);
    let side = TILE_SIDE + 2 * reach;
    let spot = |at: usize| {
        let pixel = |n: usize| n as f64 - reach as f64 + 0.5;
        let place = tile.place(pixel(at % side), pixel(at / side));
        let sample = terrain.sample(place).filter(|sample| sample.shield != Shield::Sea)?;
        let colour = palette.of(terrain.class(place), sample);
        Some(Spot { ground_m: sample.ground_m, colour })
    };
    let spots: Vec<Option<Spot>> = (0..side * side).map(spot).collect();
    let between_lines_m = if pixel_m > 40.0 { 50.0 } else { 20.0 };
    let mut pixels = Vec::with_capacity(TILE_SIDE * TILE_SIDE * 4);
    for at in (0..TILE_SIDE * TILE_SIDE).map(|n| (n / TILE_SIDE + reach) * side + n % TILE_SIDE + reach) {
        let [r, g, b, opacity] = match spots[at] {
            Some(spot) => {
                let shaded = shaded(&spots, (at, side, reach), (spot, pixel_m * 2.0 * reach as f64), palette.relief);
                let [right, below] = [at + 1, at + side].map(|next| spots[next]);
                let coloured = match (right, below) {
                    (Some(right), Some(below)) => {
                        let band = |spot: Spot| (spot.ground_m / between_lines_m).floor();
                        let line = band(spot) != band(right) || band(spot) != band(below);
                        if line { mixed(shaded, palette.line, 0.35) } else { shaded }
                    }
                    _ => mixed(shaded, palette.coast, 0.85),
                };
                [coloured[0], coloured[1], coloured[2], 255]
            }
            None => match spots[at + 1].or(spots[at + side]) {
                Some(_) => [palette.coast[0], palette.coast[1], palette.coast[2], 200],
                None => [0; 4],
            },
        };
        pixels.extend([r, g, b, opacity]);
    }
    pixels
}

/// A colour in the light from the north-west, at 45 degrees.
fn shaded(
    spots: &[Option<Spot>],
    (at, side, reach): (usize, usize, usize),
    (spot, over_m): (Spot, f64),
    relief: f64,
) -> Colour {
    let height = |next: usize| spots[next].map_or(0.0, |spot| spot.ground_m);
    let east = (height(at + reach) - height(at - reach)) / over_m * STEEPER;
    let south = (height(at + reach * side) - height(at - reach * side)) / over_m * STEEPER;
    let across = 0.5f64.sqrt();
    // The ground's normal is (-east, -south, 1); light comes from (-1/2, -1/2, √½).
    let light = (0.5 * east + 0.5 * south + across) / (east * east + south * south + 1.0).sqrt();
    let factor = (1.0 + relief * (light - across)).clamp(0.35, 1.35);
    spot.colour.map(|part| (f64::from(part) * factor).round().clamp(0.0, 255.0) as u8)
}

fn mixed(colour: Colour, with: Colour, share: f64) -> Colour {
    let part = |n: usize| f64::from(colour[n]) * (1.0 - share) + f64::from(with[n]) * share;
    [part(0), part(1), part(2)].map(|part| part.round() as u8)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::terrain::grid::{Grid, Layout, Projection};
    use crate::terrain::mosaic::NoData;

    #[test]
    fn tiles_are_those_of_web_maps() {
        let world = Tile::new(0, 0, 0).unwrap();
        let corner = world.place(0.0, 0.0);
        // The projection ends at 85.0511° (OGC 17-083r4, Annex D.1).
        assert!((corner.latitude_deg - 85.051_128_78).abs() < 1e-7 && corner.longitude_deg == -180.0);
        let middle = world.place(128.0, 128.0);
        assert!(middle.latitude_deg.abs() < 1e-9 && middle.longitude_deg.abs() < 1e-9);
        assert!((world.pixel_m() - 156_412.0).abs() < 200.0, "40,030 km over 256 pixels: {}", world.pixel_m());
        assert!(
            Tile::new(1, 2, 0).is_none() && Tile::new(1, 0, 2).is_none() && Tile::new(MAX_LEVEL + 1, 0, 0).is_none()
        );
    }

    /// A cone of 200 m in the middle of a plain that ends in the east.
    fn hill() -> Terrain {
        let (width, height) = (200, 200);
        let layout = Layout {
            projection: Projection::Geographic,
            width,
            height,
            west: 3.9,
            north: 54.8,
            dx: 0.0005,
            dy: 0.0003,
        };
        let metres = |at: usize| {
            let (x, y) = ((at % width) as f64 - 100.0, (at / width) as f64 - 100.0);
            (200.0 - 4.0 * x.hypot(y)).max(3.0) as f32
        };
        let class = |at: usize| if at % width > 170 { 1.0 } else { 4.0 };
        let grid = |value: &dyn Fn(usize) -> f32| {
            Arc::new(Grid::new(layout, (0..width * height).map(value).collect()).unwrap())
        };
        Terrain { heights: vec![grid(&metres)], covers: vec![grid(&class)], no_data: NoData::Sea, ..Terrain::default() }
    }

    /// The tile around a place, and a function from places to its pixels.
    fn around(level: u8, place: Place) -> Tile {
        let side = f64::from(1u32 << level);
        let column = ((place.longitude_deg + 180.0) / 360.0 * side) as u32;
        let latitude = place.latitude_deg.to_radians();
        let row = ((1.0 - latitude.tan().asinh() / PI) / 2.0 * side) as u32;
        Tile::new(level, column, row).unwrap()
    }

    #[test]
    fn a_hill_has_a_bright_and_a_dark_side_and_the_sea_is_clear() {
        let terrain = hill();
        let top = terrain.heights[0].centre(100, 100).unwrap();
        let seen = around(11, top);
        let pixels = tile(&terrain, seen, &Palette::LIGHT);
        assert_eq!(pixels.len(), TILE_SIDE * TILE_SIDE * 4);
        let nearest = |place: Place| {
            let at = |n: usize| seen.place((n % TILE_SIDE) as f64 + 0.5, (n / TILE_SIDE) as f64 + 0.5);
            let nth = (0..TILE_SIDE * TILE_SIDE)
                .min_by(|a, b| at(*a).distance_m(place).total_cmp(&at(*b).distance_m(place)))
                .unwrap();
            (pixels[nth * 4], pixels[nth * 4 + 3])
        };
        let (bright, dark) = (nearest(top.towards(315.0, 900.0)).0, nearest(top.towards(135.0, 900.0)).0);
        assert!(bright > dark + 15, "{bright} {dark}");
        let (plain, sea) = (nearest(top.towards(250.0, 2_400.0)), nearest(top.towards(90.0, 2_600.0)));
        assert_eq!((plain.1, sea.1), (255, 0));
        let elsewhere = tile(&terrain, Tile::new(11, 3, 3).unwrap(), &Palette::DARK);
        assert!(elsewhere.iter().all(|part| *part == 0));
    }
}

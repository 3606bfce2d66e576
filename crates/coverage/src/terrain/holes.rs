//! Where files of heights have none: a picture to lie over a map.

use super::mosaic::Terrain;
use super::relief::{TILE_SIDE, Tile};

/// The colour of the stripes: red, green, blue and opacity. It is seen on light and on dark paper.
const STRIPE: [u8; 4] = [0xc2, 0x4a, 0x3a, 0xc0];
/// Pixels from one stripe to the next; tiles meet because the side of one is a multiple of it.
const EVERY: usize = 16;
/// Pixels that a stripe is wide.
const WIDE: usize = 4;

/// Draws a tile as red, green, blue and opacity of its pixels, row by row: striped where a file reaches and no file has a
/// height, clear elsewhere.
pub fn tile(terrain: &Terrain, tile: Tile) -> Vec<u8> {
    let pixel = |at: usize| {
        let (x, y) = (at % TILE_SIDE, at / TILE_SIDE);
        if (x + y) % EVERY >= WIDE {
            return [0; 4];
        }
        let place = tile.place(x as f64 + 0.5, y as f64 + 0.5);
        let reached = terrain.heights.iter().any(|grid| grid.reaches(place));
        if reached && terrain.height_m(place).is_none() { STRIPE } else { [0; 4] }
    };
    (0..TILE_SIDE * TILE_SIDE).flat_map(pixel).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::terrain::grid::{Grid, Layout, Projection};

    /// Half of a degree of ground, whose western half is not known.
    fn half_known() -> Grid {
        let layout = Layout {
            projection: Projection::Geographic,
            width: 50,
            height: 50,
            west: 3.6,
            north: 54.9,
            dx: 0.01,
            dy: 0.01,
        };
        let height = |at: usize| if at % 50 < 25 { f32::NAN } else { 12.0 };
        Grid::new(layout, (0..2_500).map(height).collect()).unwrap()
    }

    #[test]
    fn holes_are_striped_and_what_is_known_or_beyond_files_is_clear() {
        let mut terrain = Terrain { heights: vec![Arc::new(half_known())], ..Terrain::default() };
        let place = |longitude_deg| crate::geo::Place { latitude_deg: 54.7, longitude_deg };
        let striped = |terrain: &Terrain, longitude_deg: f64| {
            let pixels = tile(terrain, Tile::at(12, place(longitude_deg)).unwrap());
            assert_eq!(pixels.len(), TILE_SIDE * TILE_SIDE * 4);
            pixels.chunks(4).filter(|pixel| pixel[3] > 0).count() as f64 / (TILE_SIDE * TILE_SIDE) as f64
        };
        assert!((striped(&terrain, 3.72) - 0.25).abs() < 0.01, "a quarter of a hole is stripes");
        assert_eq!((striped(&terrain, 3.98), striped(&terrain, 5.0)), (0.0, 0.0));
        // Another file fills it.
        let layout = Layout { width: 2, height: 2, dx: 1.0, dy: 1.0, ..*terrain.heights[0].layout() };
        terrain.heights.push(Arc::new(Grid::new(layout, vec![1.0; 4]).unwrap()));
        assert_eq!(striped(&terrain, 3.72), 0.0);
    }
}

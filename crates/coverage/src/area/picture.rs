//! Values over an area as a tile of a map.

use super::legend::Legend;
use crate::geo::Place;
use crate::terrain::relief::{TILE_SIDE, Tile};

/// Draws a tile as red, green, blue and opacity of its pixels, row by row; clear where there is no value.
pub fn tile(legend: &Legend, tile: Tile, value: impl Fn(Place) -> Option<f64>) -> Vec<u8> {
    let mut pixels = Vec::with_capacity(TILE_SIDE * TILE_SIDE * 4);
    for at in 0..TILE_SIDE * TILE_SIDE {
        let place = tile.place((at % TILE_SIDE) as f64 + 0.5, (at / TILE_SIDE) as f64 + 0.5);
        match value(place) {
            Some(value) => {
                let [r, g, b] = legend.colour(legend.class(value));
                pixels.extend([r, g, b, 255]);
            }
            None => pixels.extend([0; 4]),
        }
    }
    pixels
}

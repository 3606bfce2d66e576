//! A layer as a tile of a map.

use super::forecast::{Forecast, Layer};
use crate::terrain::relief::{TILE_SIDE, Tile};

/// Draws a tile of a layer as red, green, blue and opacity of its pixels, row by row; clear where the layer has no value.
pub fn tile(forecast: &Forecast, layer: Layer, tile: Tile) -> Vec<u8> {
    let legend = layer.legend();
    let mut pixels = Vec::with_capacity(TILE_SIDE * TILE_SIDE * 4);
    for at in 0..TILE_SIDE * TILE_SIDE {
        let place = tile.place((at % TILE_SIDE) as f64 + 0.5, (at / TILE_SIDE) as f64 + 0.5);
        let value = forecast.cell(place).and_then(|cell| cell.value(layer));
        match value {
            Some(value) => {
                let [r, g, b] = legend.colour(legend.class(f64::from(value)));
                pixels.extend([r, g, b, 255]);
            }
            None => pixels.extend([0; 4]),
        }
    }
    pixels
}

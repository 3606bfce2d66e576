//! Areas: the loss from a site to everywhere around it, and what the losses of several sites make of a region.

pub mod comparison;
pub mod forecast;
pub mod legend;
pub mod loss;
pub mod picture;
pub mod ranking;
pub mod statistics;

use thiserror::Error;

use crate::geo::{EARTH_RADIUS_M, Extent, Place};
use crate::range::{RangeError, within};
use crate::terrain::grid::{Grid, GridError, Layout, Projection};
use crate::terrain::mosaic::TerrainError;

/// The most cells of an area: 5,000 on a side.
pub const MOST_CELLS: u64 = 25_000_000;
/// The largest area, by its radius.
pub const LARGEST_M: f64 = 150_000.0;
/// About how long one sample of one path takes, in seconds: what an estimate of the cost stands on.
const SAMPLE_S: f64 = 20e-9;

/// Why an area cannot be computed.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum AreaError {
    /// Too many cells.
    #[error(
        "an area of {radius_m:.0} m in cells of {cell_m} m has {cells} cells and would take about {hours:.1} hours; at most {MOST_CELLS} cells are computed"
    )]
    Cells {
        /// Its radius.
        radius_m: f64,
        /// The side of its cells.
        cell_m: f64,
        /// How many there would be.
        cells: u64,
        /// How long it would take on one core.
        hours: f64,
    },
    /// A parameter is outside its range, or outside what the model is valid for.
    #[error(transparent)]
    Range(#[from] RangeError),
    /// The site is not on the terrain.
    #[error("the site at {0} is not on the terrain")]
    Site(Place),
    /// A path cannot be read from the terrain.
    #[error(transparent)]
    Terrain(#[from] TerrainError),
    /// The cells cannot be held.
    #[error(transparent)]
    Grid(#[from] GridError),
    /// It was stopped.
    #[error("the computation was stopped")]
    Stopped,
}

/// A circle that is computed in square cells.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Area {
    /// Its middle.
    pub centre: Place,
    /// Its radius, in metres.
    pub radius_m: f64,
    /// The side of a cell, in metres.
    pub cell_m: f64,
}

impl Area {
    /// The cells, the middle one at the centre.
    ///
    /// # Errors
    /// There is nothing to compute, or too much.
    pub fn layout(&self) -> Result<Layout, AreaError> {
        let Self { centre, radius_m, cell_m } = *self;
        within("cell_m", cell_m, 1.0..=10_000.0, "m")?;
        if radius_m.is_nan() || radius_m <= 0.0 {
            within("radius_m", radius_m, cell_m..=LARGEST_M, "m")?;
        }
        let half = (radius_m / cell_m).ceil();
        let side = 2.0 * half + 1.0;
        if side * side > MOST_CELLS as f64 {
            let hours = side * side * half / 2.0 * SAMPLE_S / 3600.0;
            return Err(AreaError::Cells { radius_m, cell_m, cells: (side * side) as u64, hours });
        }
        within("radius_m", radius_m, cell_m..=LARGEST_M, "m")?;
        within("latitude_deg", centre.latitude_deg, -85.0..=85.0, "°")?;
        let dy = (cell_m / EARTH_RADIUS_M).to_degrees();
        let dx = dy / centre.latitude_deg.to_radians().cos();
        let layout = Layout {
            projection: Projection::Geographic,
            width: side as usize,
            height: side as usize,
            west: centre.longitude_deg - dx * half,
            north: centre.latitude_deg + dy * half,
            dx,
            dy,
        };
        layout.check()?;
        Ok(layout)
    }
}

/// Square cells that cover a box.
///
/// # Errors
/// There is nothing to cover, or too much.
pub fn layout_over(extent: &Extent, cell_m: f64) -> Result<Layout, AreaError> {
    within("cell_m", cell_m, 1.0..=10_000.0, "m")?;
    let (width_m, height_m) = extent.size_m();
    let (columns, rows) = ((width_m / cell_m).ceil().max(1.0), (height_m / cell_m).ceil().max(1.0));
    if columns * rows > MOST_CELLS as f64 {
        let hours = columns * rows * columns / 2.0 * SAMPLE_S / 3600.0;
        let cells = (columns * rows) as u64;
        return Err(AreaError::Cells { radius_m: width_m.max(height_m) / 2.0, cell_m, cells, hours });
    }
    let (dx, dy) = ((extent.east_deg - extent.west_deg) / columns, (extent.north_deg - extent.south_deg) / rows);
    let layout = Layout {
        projection: Projection::Geographic,
        width: columns as usize,
        height: rows as usize,
        west: extent.west_deg + dx / 2.0,
        north: extent.north_deg - dy / 2.0,
        dx,
        dy,
    };
    layout.check()?;
    Ok(layout)
}

/// The place of one of a layout's cells, counted row by row.
fn centre(layout: &Layout, at: usize) -> Place {
    Place {
        latitude_deg: layout.north - layout.dy * (at / layout.width) as f64,
        longitude_deg: layout.west + layout.dx * (at % layout.width) as f64,
    }
}

/// The cell of a place, counted row by row; none outside. Layouts of areas are in degrees.
fn at(layout: &Layout, place: Place) -> Option<usize> {
    let column = ((place.longitude_deg - layout.west) / layout.dx).round();
    let row = ((layout.north - place.latitude_deg) / layout.dy).round();
    let inside = |at: f64, count: usize| (0.0..count as f64).contains(&at);
    (inside(column, layout.width) && inside(row, layout.height)).then(|| row as usize * layout.width + column as usize)
}

/// The places of all cells, row by row.
fn centres(layout: Layout) -> impl Iterator<Item = Place> {
    (0..layout.width * layout.height).map(move |at| centre(&layout, at))
}

/// A grid of numbers in these cells.
fn grid(layout: Layout, values: Vec<f32>) -> Result<Grid, AreaError> {
    Ok(Grid::new(layout, values)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    const CHAPEL: Place = Place { latitude_deg: 54.712, longitude_deg: 3.915 };

    #[test]
    fn areas_of_nothing_and_of_a_planet_are_refused_with_their_cost() {
        let why = |radius_m, cell_m| Area { centre: CHAPEL, radius_m, cell_m }.layout().unwrap_err().to_string();
        assert_eq!(why(0.0, 30.0), "radius_m is 0 m; allowed are 30 to 150000 m");
        assert!(why(f64::NAN, 30.0).contains("radius_m is NaN"));
        assert!(why(10.0, 30.0).contains("radius_m is 10 m"));
        assert!(why(1_000.0, 0.0).contains("cell_m is 0 m"));
        let planet = why(6_371_000.0, 30.0);
        assert!(planet.contains("180") && planet.contains("hours; at most 25000000 cells"), "{planet}");
        assert!(why(200_000.0, 1_000.0).contains("radius_m is 200000 m"));
    }

    #[test]
    fn cells_are_square_and_the_middle_one_is_the_centre() {
        let layout = Area { centre: CHAPEL, radius_m: 1_000.0, cell_m: 50.0 }.layout().unwrap();
        assert_eq!((layout.width, layout.height), (41, 41));
        let places: Vec<Place> = centres(layout).collect();
        assert!(places[41 * 20 + 20].distance_m(CHAPEL) < 0.01);
        assert!((places[0].distance_m(places[1]) - 50.0).abs() < 0.1);
        assert!((places[0].distance_m(places[41]) - 50.0).abs() < 0.1);
        assert!(places.iter().enumerate().all(|(n, place)| at(&layout, *place) == Some(n)));
        assert_eq!(at(&layout, CHAPEL.towards(0.0, 1_030.0)), None);
    }
}

//! A grid of values over a part of the earth.

use proj4rs::Proj;
use proj4rs::transform::transform;
use thiserror::Error;

use crate::geo::{Extent, Place};

/// The most cells that are held at once: 480 MB.
pub const MOST_CELLS: u64 = 120_000_000;

/// How the coordinates of a grid stand for places.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Projection {
    /// Degrees of longitude and latitude.
    Geographic,
    /// Universal Transverse Mercator, in metres.
    Utm {
        /// 1 to 60.
        zone: u8,
        /// South of the equator.
        south: bool,
    },
}

/// A grid cannot be.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum GridError {
    /// It has no cells, or more than [`MOST_CELLS`].
    #[error("{width} × {height} cells cannot be held; 1 to {MOST_CELLS} in all can")]
    Size {
        /// Columns.
        width: u64,
        /// Rows.
        height: u64,
    },
    /// There are more or fewer values than cells.
    #[error("{values} values are not {width} × {height} cells")]
    Count {
        /// Values there.
        values: usize,
        /// Columns.
        width: usize,
        /// Rows.
        height: usize,
    },
    /// A cell has no size, or its corner is not on the earth.
    #[error("cells of {0} × {1} at {2}, {3} are not on the earth")]
    Place(f64, f64, f64, f64),
    /// The zone cannot be computed.
    #[error("the projection cannot be computed: {0}")]
    Projection(String),
}

/// Where the cells of a grid are: rows run from north to south, columns from west to east.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Layout {
    /// What the coordinates are.
    pub projection: Projection,
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// The coordinate of the centre of the westernmost cells.
    pub west: f64,
    /// The coordinate of the centre of the northernmost cells.
    pub north: f64,
    /// Between columns.
    pub dx: f64,
    /// Between rows.
    pub dy: f64,
}

/// Turns places into the coordinates of a projection, and back.
struct Projector {
    projection: Projection,
    planes: Option<(Proj, Proj)>,
}

impl Projector {
    fn of(projection: Projection) -> Result<Self, GridError> {
        let planes = match projection {
            Projection::Geographic => None,
            Projection::Utm { zone, south } => {
                let text =
                    format!("+proj=utm +zone={zone}{} +datum=WGS84 +units=m", if south { " +south" } else { "" });
                let made =
                    |text: &str| Proj::from_proj_string(text).map_err(|why| GridError::Projection(why.to_string()));
                Some((made("+proj=longlat +datum=WGS84")?, made(&text)?))
            }
        };
        Ok(Self { projection, planes })
    }

    fn coordinates(&self, place: Place) -> Option<(f64, f64)> {
        let Some((degrees, plane)) = &self.planes else { return Some((place.longitude_deg, place.latitude_deg)) };
        let mut point = (place.longitude_deg.to_radians(), place.latitude_deg.to_radians(), 0.0);
        transform(degrees, plane, &mut point).ok()?;
        Some((point.0, point.1))
    }

    fn place(&self, x: f64, y: f64) -> Option<Place> {
        let Some((degrees, plane)) = &self.planes else { return Place::new(y, x) };
        let mut point = (x, y, 0.0);
        transform(plane, degrees, &mut point).ok()?;
        Place::new(point.1.to_degrees(), point.0.to_degrees())
    }
}

impl std::fmt::Debug for Projector {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.projection.fmt(f)
    }
}

/// A grid of values; a cell without a value is not a number.
#[derive(Debug)]
pub struct Grid {
    layout: Layout,
    projector: Projector,
    extent: Extent,
    values: Vec<f32>,
}

impl Layout {
    /// Checks that it can be held and lies on the earth; gives the box around it, half a cell beyond the centres.
    ///
    /// # Errors
    /// It cannot be.
    pub fn check(&self) -> Result<Extent, GridError> {
        let Self { width, height, west, north, dx, dy, projection } = *self;
        let cells = (width as u64).checked_mul(height as u64).filter(|cells| (1..=MOST_CELLS).contains(cells));
        cells.ok_or(GridError::Size { width: width as u64, height: height as u64 })?;
        let wrong = || GridError::Place(dx, dy, west, north);
        if !(dx > 0.0 && dy > 0.0 && dx.is_finite() && dy.is_finite() && west.is_finite() && north.is_finite()) {
            return Err(wrong());
        }
        let projector = Projector::of(projection)?;
        let (left, top) = (west - dx / 2.0, north + dy / 2.0);
        let (right, bottom) = (left + dx * width as f64, top - dy * height as f64);
        // Edges bend in a projection: some points of each are looked at.
        let edge = (0..=8).map(|n| f64::from(n) / 8.0).flat_map(|share| {
            let (x, y) = (left + (right - left) * share, bottom + (top - bottom) * share);
            [(x, top), (x, bottom), (left, y), (right, y)]
        });
        let clamped = |(x, y): (f64, f64)| match projection {
            // Files of the whole earth reach half a cell beyond the poles and the 180th meridian.
            Projection::Geographic if x.abs() <= 181.0 && y.abs() <= 91.0 => {
                (x.clamp(-180.0, 180.0), y.clamp(-90.0, 90.0))
            }
            _ => (x, y),
        };
        let places: Option<Vec<Place>> = edge.map(clamped).map(|(x, y)| projector.place(x, y)).collect();
        Extent::around(places.ok_or_else(wrong)?).ok_or_else(wrong)
    }

    /// How wide and high a cell is at the middle, in metres.
    pub fn cell_m(&self, extent: &Extent) -> (f64, f64) {
        match self.projection {
            Projection::Utm { .. } => (self.dx, self.dy),
            Projection::Geographic => {
                let (width_m, height_m) = extent.size_m();
                (width_m / self.width as f64, height_m / self.height as f64)
            }
        }
    }
}

impl Grid {
    /// A grid of values, row by row from the north-western corner.
    ///
    /// # Errors
    /// It cannot be.
    pub fn new(layout: Layout, values: Vec<f32>) -> Result<Self, GridError> {
        let extent = layout.check()?;
        let Layout { width, height, projection, .. } = layout;
        if values.len() != width * height {
            return Err(GridError::Count { values: values.len(), width, height });
        }
        Ok(Self { layout, projector: Projector::of(projection)?, extent, values })
    }

    /// Where its cells are.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The box around it.
    pub fn extent(&self) -> &Extent {
        &self.extent
    }

    /// All values, row by row from the north-western corner.
    pub fn values(&self) -> &[f32] {
        &self.values
    }

    /// Columns and rows from the centre of the first cell, wherever the place is.
    pub(crate) fn steps(&self, place: Place) -> Option<(f64, f64)> {
        let (x, y) = self.projector.coordinates(place)?;
        Some(((x - self.layout.west) / self.layout.dx, (self.layout.north - y) / self.layout.dy))
    }

    /// The same; none outside the grid.
    fn cell(&self, place: Place) -> Option<(f64, f64)> {
        if !self.extent.contains(place) {
            return None;
        }
        let (column, row) = self.steps(place)?;
        let inside = |at: f64, count: usize| at >= -0.5 && at <= count as f64 - 0.5;
        (inside(column, self.layout.width) && inside(row, self.layout.height)).then_some((column, row))
    }

    fn value(&self, column: usize, row: usize) -> f64 {
        f64::from(self.values[row * self.layout.width + column])
    }

    /// Whether the grid reaches there, with a value or not.
    pub fn reaches(&self, place: Place) -> bool {
        self.cell(place).is_some()
    }

    /// The value between the four nearest cells; those without a value do not count, but the nearest has to have one.
    pub fn between(&self, place: Place) -> Option<f64> {
        let (column, row) = self.cell(place)?;
        let (column, row) =
            (column.clamp(0.0, (self.layout.width - 1) as f64), row.clamp(0.0, (self.layout.height - 1) as f64));
        let (c0, r0) = (column as usize, row as usize);
        let (c1, r1) = ((c0 + 1).min(self.layout.width - 1), (r0 + 1).min(self.layout.height - 1));
        let (over, down) = (column - c0 as f64, row - r0 as f64);
        let corners = [
            (self.value(c0, r0), (1.0 - over) * (1.0 - down)),
            (self.value(c1, r0), over * (1.0 - down)),
            (self.value(c0, r1), (1.0 - over) * down),
            (self.value(c1, r1), over * down),
        ];
        let nearest = corners.iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
        if nearest.0.is_nan() {
            return None;
        }
        let there = corners.iter().filter(|(value, _)| !value.is_nan());
        let (sum, weight) = there.fold((0.0, 0.0), |(sum, all), (value, weight)| (sum + value * weight, all + weight));
        Some(sum / weight)
    }

    /// The value of the cell that a place lies in.
    pub fn nearest(&self, place: Place) -> Option<f64> {
        let (column, row) = self.cell(place)?;
        let at = |steps: f64, count: usize| (steps.round().max(0.0) as usize).min(count - 1);
        Some(self.value(at(column, self.layout.width), at(row, self.layout.height))).filter(|value| !value.is_nan())
    }

    /// The place at the centre of a cell.
    pub fn centre(&self, column: usize, row: usize) -> Option<Place> {
        let x = self.layout.west + self.layout.dx * column as f64;
        self.projector.place(x, self.layout.north - self.layout.dy * row as f64)
    }

    /// How many cells have no value.
    pub fn holes(&self) -> usize {
        self.values.iter().filter(|value| value.is_nan()).count()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn layout(projection: Projection, (west, north, step): (f64, f64, f64)) -> Layout {
        Layout { projection, width: 3, height: 2, west, north, dx: step, dy: step }
    }

    fn place(latitude_deg: f64, longitude_deg: f64) -> Place {
        Place { latitude_deg, longitude_deg }
    }

    #[test]
    fn values_are_read_between_cells_and_in_them() {
        let values = vec![0.0, 10.0, 20.0, 30.0, 40.0, f32::NAN];
        let grid = Grid::new(layout(Projection::Geographic, (3.0, 55.0, 0.1)), values).unwrap();
        let near = |value: Option<f64>, wanted: f64| (value.unwrap() - wanted).abs() < 1e-6;
        assert!(near(grid.between(place(55.0, 3.0)), 0.0) && near(grid.between(place(54.95, 3.05)), 20.0));
        assert!(near(grid.between(place(55.04, 2.96)), 0.0), "half a cell beyond its centre it is the same");
        assert_eq!((grid.between(place(54.9, 3.2)), grid.between(place(55.06, 3.0)), grid.holes()), (None, None, 1));
        // Three of four have a value, and the nearest one does.
        assert!(near(grid.between(place(54.96, 3.13)), (0.42 * 10.0 + 0.18 * 20.0 + 0.28 * 40.0) / 0.88));
        assert_eq!((grid.nearest(place(54.93, 3.06)), grid.nearest(place(54.9, 3.2))), (Some(40.0), None));
        assert!(grid.reaches(place(54.9, 3.2)) && !grid.reaches(place(54.0, 3.2)));
    }

    #[test]
    fn utm_is_projected_there_and_back() {
        // The equator at the central meridian of zone 31 is 500,000 m east and 0 m north by definition.
        let utm = Projection::Utm { zone: 31, south: false };
        let grid = Grid::new(layout(utm, (500_000.0, 0.0, 1000.0)), vec![1.0, 2.0, 3.0, 4.0, 5.0, 6.0]).unwrap();
        let origin = grid.centre(0, 0).unwrap();
        assert!((origin.latitude_deg).abs() < 1e-9 && (origin.longitude_deg - 3.0).abs() < 1e-9, "{origin}");
        assert_eq!(grid.nearest(place(0.0, 3.0)), Some(1.0));
        let east = grid.centre(2, 1).unwrap();
        assert_eq!(grid.nearest(east), Some(6.0));
        // The scale at the central meridian is 0.9996.
        assert!((origin.distance_m(grid.centre(1, 0).unwrap()) - 1000.0).abs() < 3.0);
        assert_eq!(grid.layout().cell_m(grid.extent()), (1000.0, 1000.0));
    }

    #[test]
    fn grids_that_cannot_be_are_refused() {
        let good = layout(Projection::Geographic, (3.0, 55.0, 0.1));
        let why = |layout: Layout| Grid::new(layout, vec![0.0; 6]).unwrap_err().to_string();
        assert!(why(Layout { width: 4, ..good }).contains("6 values are not 4 × 2 cells"));
        assert!(why(Layout { width: 0, ..good }).contains("0 × 2 cells cannot be held"));
        assert!(why(Layout { width: 1 << 40, height: 1 << 40, ..good }).contains("cannot be held"));
        assert!(why(Layout { dx: f64::NAN, ..good }).contains("not on the earth"));
        assert!(why(Layout { north: 500.0, ..good }).contains("not on the earth"));
    }
}

//! Planning coverage: what sites, receivers and forecasts may be, and what the links of a device come to.

pub mod calibration;
pub mod comparison;
pub mod drive_test;
pub mod forecast;
pub mod ground;
pub mod map_tiles;
pub mod site;
pub mod survey;
pub mod verdict;

use api::ground::GroundExtent;
use api::problem::{Problem, bad_field};
use coverage::geo::Extent;
use coverage::range::RangeError;

/// A box of degrees as it is told.
pub fn ground_extent(extent: &Extent) -> GroundExtent {
    let Extent { south_deg, west_deg, north_deg, east_deg } = *extent;
    GroundExtent { south_deg, west_deg, north_deg, east_deg }
}

/// A number outside its range, as a problem of a field.
fn outside(why: &RangeError) -> Problem {
    let unit = if why.unit.is_empty() { String::new() } else { format!(" {}", why.unit) };
    bad_field(why.parameter, &why.value.to_string(), format!("{} to {}{unit} is allowed", why.from, why.to))
}

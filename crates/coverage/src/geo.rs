//! Places on the earth and the shortest way between them, on a sphere.
//!
//! Paths of some tens of kilometres are meant: the sphere differs from the ellipsoid by 0.3 % of a distance at most, which is
//! 0.03 dB of free-space loss.

use std::f64::consts::{FRAC_PI_2, TAU};
use std::fmt;

/// The mean radius of the earth, in metres (ITU-R P.1812-4, Attachment 1 §2: 6,371 km).
pub const EARTH_RADIUS_M: f64 = 6_371_000.0;

/// A place, in degrees of WGS 84.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// North is positive.
    pub latitude_deg: f64,
    /// East is positive.
    pub longitude_deg: f64,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:.5}, {:.5}", self.latitude_deg, self.longitude_deg)
    }
}

impl Place {
    /// A place; `None` if a number is none of a place.
    pub fn new(latitude_deg: f64, longitude_deg: f64) -> Option<Self> {
        let there = (-90.0..=90.0).contains(&latitude_deg) && (-180.0..=180.0).contains(&longitude_deg);
        there.then_some(Self { latitude_deg, longitude_deg })
    }

    /// Metres along the great circle.
    pub fn distance_m(self, to: Self) -> f64 {
        angle(self.vector(), to.vector()) * EARTH_RADIUS_M
    }

    /// The direction in which the way to another place begins, in degrees from north over east, 0 to 360.
    pub fn bearing_deg(self, to: Self) -> f64 {
        let (lat1, lat2) = (self.latitude_deg.to_radians(), to.latitude_deg.to_radians());
        let east = (to.longitude_deg - self.longitude_deg).to_radians();
        let (y, x) = (east.sin() * lat2.cos(), lat1.cos() * lat2.sin() - lat1.sin() * lat2.cos() * east.cos());
        y.atan2(x).to_degrees().rem_euclid(360.0)
    }

    /// Where a great circle that begins in this direction leads after so many metres.
    pub fn towards(self, bearing_deg: f64, distance_m: f64) -> Self {
        let (sin_way, cos_way) = (distance_m / EARTH_RADIUS_M).sin_cos();
        let (sin_bearing, cos_bearing) = bearing_deg.to_radians().sin_cos();
        let (sin_lat, cos_lat) = self.latitude_deg.to_radians().sin_cos();
        let sin_there = (sin_lat * cos_way + cos_lat * sin_way * cos_bearing).clamp(-1.0, 1.0);
        let east = (sin_bearing * sin_way * cos_lat).atan2(cos_way - sin_lat * sin_there);
        let longitude_deg = wrapped(self.longitude_deg + east.to_degrees());
        Self { latitude_deg: sin_there.asin().to_degrees(), longitude_deg }
    }

    fn vector(self) -> [f64; 3] {
        let (sin_lat, cos_lat) = self.latitude_deg.to_radians().sin_cos();
        let (sin_lon, cos_lon) = self.longitude_deg.to_radians().sin_cos();
        [cos_lat * cos_lon, cos_lat * sin_lon, sin_lat]
    }
}

/// Degrees between -180 and 180.
fn wrapped(longitude_deg: f64) -> f64 {
    (longitude_deg + 180.0).rem_euclid(360.0) - 180.0
}

/// The angle between two directions. By the tangent, which is exact for small ones.
fn angle(a: [f64; 3], b: [f64; 3]) -> f64 {
    let cross = [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
    let dot = a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
    (cross[0].powi(2) + cross[1].powi(2) + cross[2].powi(2)).sqrt().atan2(dot)
}

/// The shortest way between two places, to be walked along.
#[derive(Debug, Clone, Copy)]
pub struct Way {
    from: [f64; 3],
    to: [f64; 3],
    angle: f64,
}

impl Way {
    /// The way between two places.
    pub fn between(from: Place, to: Place) -> Self {
        let (from, to) = (from.vector(), to.vector());
        Self { from, to, angle: angle(from, to) }
    }

    /// Its length in metres.
    pub fn length_m(&self) -> f64 {
        self.angle * EARTH_RADIUS_M
    }

    /// The place after a share of the way, 0 to 1.
    pub fn at(&self, share: f64) -> Place {
        let sin = self.angle.sin();
        // Places next to each other, or exactly opposite: a straight line is as good as any.
        let (a, b) = if sin.abs() < 1e-12 {
            (1.0 - share, share)
        } else {
            (((1.0 - share) * self.angle).sin() / sin, (share * self.angle).sin() / sin)
        };
        let at: [f64; 3] = std::array::from_fn(|i| a * self.from[i] + b * self.to[i]);
        let latitude = at[2].atan2(at[0].hypot(at[1])).clamp(-FRAC_PI_2, FRAC_PI_2);
        Place { latitude_deg: latitude.to_degrees(), longitude_deg: (at[1].atan2(at[0]) % TAU).to_degrees() }
    }
}

/// A box of places. It does not cross the 180th meridian.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Extent {
    /// Its southern edge, in degrees.
    pub south_deg: f64,
    /// Its western edge, in degrees.
    pub west_deg: f64,
    /// Its northern edge, in degrees.
    pub north_deg: f64,
    /// Its eastern edge, in degrees.
    pub east_deg: f64,
}

impl Extent {
    /// The box around places; `None` if there are none.
    pub fn around(places: impl IntoIterator<Item = Place>) -> Option<Self> {
        places.into_iter().fold(None, |extent: Option<Self>, place| Some(extent.unwrap_or(Self::at(place)).with(place)))
    }

    /// A place alone.
    pub const fn at(place: Place) -> Self {
        let Place { latitude_deg: lat, longitude_deg: lon } = place;
        Self { south_deg: lat, west_deg: lon, north_deg: lat, east_deg: lon }
    }

    /// With another place.
    #[must_use]
    pub fn with(self, place: Place) -> Self {
        let Place { latitude_deg: lat, longitude_deg: lon } = place;
        Self {
            south_deg: self.south_deg.min(lat),
            west_deg: self.west_deg.min(lon),
            north_deg: self.north_deg.max(lat),
            east_deg: self.east_deg.max(lon),
        }
    }

    /// The square around a place whose sides are so far from it.
    pub fn of(centre: Place, radius_m: f64) -> Option<Self> {
        let reach = radius_m * std::f64::consts::SQRT_2;
        Self::around([45.0, 135.0, 225.0, 315.0].map(|bearing| centre.towards(bearing, reach)))
    }

    /// Whether a place is in it, its edges included.
    pub fn contains(&self, place: Place) -> bool {
        (self.south_deg..=self.north_deg).contains(&place.latitude_deg)
            && (self.west_deg..=self.east_deg).contains(&place.longitude_deg)
    }

    /// Width and height in metres, measured at the middle.
    pub fn size_m(&self) -> (f64, f64) {
        let middle = (self.south_deg + self.north_deg) / 2.0;
        let degree_m = EARTH_RADIUS_M.to_radians();
        (
            (self.east_deg - self.west_deg) * degree_m * middle.to_radians().cos(),
            (self.north_deg - self.south_deg) * degree_m,
        )
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const CHAPEL: Place = Place { latitude_deg: 54.712, longitude_deg: 3.915 };

    #[test]
    fn distances_and_directions_are_those_of_the_sphere() {
        let degree_m = EARTH_RADIUS_M * TAU / 360.0;
        let origin = Place::new(0.0, 0.0).unwrap();
        assert!((origin.distance_m(Place::new(0.0, 1.0).unwrap()) - degree_m).abs() < 1e-6);
        assert!((origin.distance_m(Place::new(-90.0, 77.0).unwrap()) - 90.0 * degree_m).abs() < 1e-5);
        assert_eq!(origin.bearing_deg(Place::new(0.0, 1.0).unwrap()), 90.0);
        assert_eq!(origin.bearing_deg(Place::new(-1.0, 0.0).unwrap()), 180.0);
        assert_eq!(CHAPEL.distance_m(CHAPEL), 0.0);
        assert!(Place::new(91.0, 0.0).is_none() && Place::new(0.0, f64::NAN).is_none());
    }

    #[test]
    fn a_box_is_as_far_as_it_was_asked_for() {
        let extent = Extent::of(CHAPEL, 5_000.0).unwrap();
        let (width, height) = extent.size_m();
        assert!((width - 10_000.0).abs() < 30.0 && (height - 10_000.0).abs() < 30.0, "{width} {height}");
        assert!(extent.contains(CHAPEL) && !extent.contains(CHAPEL.towards(0.0, 5_100.0)));
        assert!(Extent::around([]).is_none());
    }

    proptest! {
        #[test]
        fn a_way_leads_there_and_back(lat in -80.0..80.0f64, lon in -179.0..179.0f64, bearing in 0.0..360.0f64,
            distance_m in 1.0..300_000.0f64) {
            let from = Place { latitude_deg: lat, longitude_deg: lon };
            let to = from.towards(bearing, distance_m);
            prop_assert!((from.distance_m(to) - distance_m).abs() < 1e-3);
            let off = (from.bearing_deg(to) - bearing + 540.0).rem_euclid(360.0) - 180.0;
            prop_assert!(off.abs() < 1e-3, "{off}");
            let way = Way::between(from, to);
            prop_assert!((way.length_m() - distance_m).abs() < 1e-3);
            prop_assert!(way.at(0.0).distance_m(from) < 1e-3 && way.at(1.0).distance_m(to) < 1e-3);
            let third = way.at(1.0 / 3.0);
            prop_assert!((from.distance_m(third) - distance_m / 3.0).abs() < 1e-3);
        }
    }
}

//! Areas drawn on a map.

/// Corners that an area can have.
pub const MOST_CORNERS: usize = 200;

/// A polygon on the map, by its corners: latitude and longitude in degrees (WGS 84). It is taken as flat, so it has to be smaller
/// than a continent and may not cross the date line.
#[derive(Debug, Clone, PartialEq)]
pub struct Area {
    /// The corners in order. The last is joined to the first.
    pub corners: Vec<(f64, f64)>,
}

impl Area {
    /// Whether a place lies inside: a line from it to the north crosses the edge an odd number of times.
    pub fn covers(&self, latitude_deg: f64, longitude_deg: f64) -> bool {
        let after = self.corners.iter().cycle().skip(1);
        let crossed = self.corners.iter().zip(after).filter(|((a_lat, a_lon), (b_lat, b_lon))| {
            let spans = (*a_lon > longitude_deg) != (*b_lon > longitude_deg);
            spans && latitude_deg < a_lat + (longitude_deg - a_lon) / (b_lon - a_lon) * (b_lat - a_lat)
        });
        crossed.count() % 2 == 1
    }

    /// Whether it has corners enough, all on the earth.
    pub(crate) fn is_usable(&self) -> bool {
        let on_earth = |(lat, lon): &(f64, f64)| (-90.0..=90.0).contains(lat) && (-180.0..=180.0).contains(lon);
        (3..=MOST_CORNERS).contains(&self.corners.len()) && self.corners.iter().all(on_earth)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hook_has_an_inside_and_a_bay() {
        // A square with its eastern half cut open in the middle.
        let hook = Area {
            corners: vec![
                (0.0, 0.0),
                (0.0, 4.0),
                (1.0, 4.0),
                (1.0, 2.0),
                (3.0, 2.0),
                (3.0, 4.0),
                (4.0, 4.0),
                (4.0, 0.0),
            ],
        };
        assert!(hook.is_usable());
        for (inside, lat, lon) in [
            (true, 2.0, 1.0),
            (true, 0.5, 3.5),
            (true, 3.5, 3.0),
            (false, 2.0, 3.0),
            (false, -0.1, 1.0),
            (false, 2.0, 4.5),
            (false, f64::NAN, 1.0),
        ] {
            assert_eq!(hook.covers(lat, lon), inside, "{lat} {lon}");
        }
    }

    #[test]
    fn what_is_no_area_covers_nothing() {
        let line = Area { corners: vec![(0.0, 0.0), (1.0, 1.0)] };
        assert!(!line.is_usable() && !line.covers(0.5, 0.5));
        assert!(!Area { corners: Vec::new() }.covers(0.0, 0.0));
        assert!(!Area { corners: vec![(0.0, 0.0), (91.0, 0.0), (0.0, 1.0)] }.is_usable());
    }
}

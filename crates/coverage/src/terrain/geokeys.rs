//! Where a GeoTIFF's pixels are: its keys and tags (OGC 19-008r4, "OGC GeoTIFF Standard", version 1.1).

use thiserror::Error;

use super::grid::Projection;

/// The keys that are read (§7.1 and Annex B).
mod key {
    pub(super) const MODEL_TYPE: u16 = 1024;
    pub(super) const RASTER_TYPE: u16 = 1025;
    pub(super) const GEODETIC_CRS: u16 = 2048;
    pub(super) const PROJECTED_CRS: u16 = 3072;
    pub(super) const VERTICAL_UNITS: u16 = 4099;
}

/// Units of height: metres, as EPSG numbers them.
const METRE: u16 = 9001;
/// Systems of degrees that differ from WGS 84 by less than two metres: WGS 84, ETRS89, NAD83, JGD2011, GDA94, GDA2020.
const DEGREES: [u16; 6] = [4326, 4258, 4269, 6668, 4283, 7844];
/// The most keys that are read.
const MOST_KEYS: usize = 200;

/// Why a file's place cannot be understood.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum KeyError {
    /// The directory of keys is cut off, or of another version.
    #[error("the directory of GeoTIFF keys cannot be read")]
    Directory,
    /// A tag that is needed is not there, or too short.
    #[error("the tag {0} is missing or too short: the file does not say where it is")]
    Tag(&'static str),
    /// The pixels are turned.
    #[error("the pixels are rotated; rows have to run from west to east, columns from north to south")]
    Rotated,
    /// A system of coordinates that is not known here.
    #[error("coordinates of EPSG:{0} are not known here; degrees of WGS 84 and its UTM zones are")]
    Unknown(u16),
    /// No system of coordinates is named.
    #[error("no system of coordinates is named (keys 2048 and 3072)")]
    Unnamed,
    /// Heights are not in metres.
    #[error("heights are in the unit EPSG:{0}; only metres (9001) are read")]
    Unit(u16),
}

/// The tags of a file that say where it is.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct GeoTags {
    /// GeoKeyDirectoryTag, 34735.
    pub directory: Vec<u16>,
    /// ModelPixelScaleTag, 33550.
    pub pixel_scale: Vec<f64>,
    /// ModelTiepointTag, 33922.
    pub tie_points: Vec<f64>,
    /// ModelTransformationTag, 34264.
    pub transformation: Vec<f64>,
}

/// Where the pixels are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct GeoReference {
    /// What the coordinates are.
    pub projection: Projection,
    /// The centre of the first pixel.
    pub west: f64,
    /// The centre of the first pixel.
    pub north: f64,
    /// Between columns.
    pub dx: f64,
    /// Between rows.
    pub dy: f64,
}

impl GeoTags {
    /// Understands the tags.
    ///
    /// # Errors
    /// They do not say where the file is, or in a way that is not known here.
    pub fn reference(&self) -> Result<GeoReference, KeyError> {
        let keys = self.keys()?;
        let find = |wanted: u16| keys.iter().find(|(key, _)| *key == wanted).map(|(_, value)| *value);
        match find(key::VERTICAL_UNITS) {
            None | Some(METRE | 0) => {}
            Some(unit) => return Err(KeyError::Unit(unit)),
        }
        let projection = match (find(key::MODEL_TYPE), find(key::PROJECTED_CRS), find(key::GEODETIC_CRS)) {
            (Some(1) | None, Some(projected), _) => utm(projected)?,
            (_, _, Some(geodetic)) if DEGREES.contains(&geodetic) => Projection::Geographic,
            (_, _, Some(geodetic)) => return Err(KeyError::Unknown(geodetic)),
            _ => return Err(KeyError::Unnamed),
        };
        let (west, north, dx, dy) = self.corner()?;
        // §7.1.2.3: pixels are areas, whose corner was told, or points.
        let (to_x, to_y) = if find(key::RASTER_TYPE) == Some(2) { (0.0, 0.0) } else { (dx / 2.0, dy / 2.0) };
        Ok(GeoReference { projection, west: west + to_x, north: north - to_y, dx, dy })
    }

    /// The keys whose value stands in the directory itself.
    fn keys(&self) -> Result<Vec<(u16, u16)>, KeyError> {
        let (header, entries) = self.directory.split_at_checked(4).ok_or(KeyError::Directory)?;
        let count = usize::from(header[3]);
        if header[0] != 1 || count > MOST_KEYS || entries.len() < 4 * count {
            return Err(KeyError::Directory);
        }
        let short = |entry: &[u16]| (entry[1] == 0 && entry[2] == 1).then_some((entry[0], entry[3]));
        Ok(entries.chunks_exact(4).take(count).filter_map(short).collect())
    }

    /// The corner of the first pixel, and the size of pixels (§7.3).
    fn corner(&self) -> Result<(f64, f64, f64, f64), KeyError> {
        if let &[a, b, _, d, e, f, _, h, ..] = self.transformation.as_slice() {
            if self.transformation.len() != 16 {
                return Err(KeyError::Tag("ModelTransformation"));
            }
            if b != 0.0 || e != 0.0 || a <= 0.0 || f >= 0.0 {
                return Err(KeyError::Rotated);
            }
            return Ok((d, h, a, -f));
        }
        let &[dx, dy, ..] = self.pixel_scale.as_slice() else { return Err(KeyError::Tag("ModelPixelScale")) };
        let &[column, row, _, x, y, ..] = self.tie_points.as_slice() else {
            return Err(KeyError::Tag("ModelTiepoint"));
        };
        if dx <= 0.0 || dy <= 0.0 {
            return Err(KeyError::Rotated);
        }
        Ok((x - column * dx, y + row * dy, dx, dy))
    }
}

/// The zone that an EPSG number stands for: WGS 84 and ETRS89.
fn utm(code: u16) -> Result<Projection, KeyError> {
    let zone = |base: u16| u8::try_from(code - base).unwrap_or_default();
    match code {
        32601..=32660 => Ok(Projection::Utm { zone: zone(32600), south: false }),
        32701..=32760 => Ok(Projection::Utm { zone: zone(32700), south: true }),
        25828..=25838 => Ok(Projection::Utm { zone: zone(25800), south: false }),
        _ => Err(KeyError::Unknown(code)),
    }
}

impl GeoReference {
    /// The tags that say so.
    pub fn tags(&self) -> GeoTags {
        let (model, system) = match self.projection {
            Projection::Geographic => (2, [key::GEODETIC_CRS, 0, 1, 4326]),
            Projection::Utm { zone, south } => {
                (1, [key::PROJECTED_CRS, 0, 1, if south { 32700 } else { 32600 } + u16::from(zone)])
            }
        };
        let keys = [[1, 1, 1, 3], [key::MODEL_TYPE, 0, 1, model], [key::RASTER_TYPE, 0, 1, 1], system];
        GeoTags {
            directory: keys.concat(),
            pixel_scale: vec![self.dx, self.dy, 0.0],
            tie_points: vec![0.0, 0.0, 0.0, self.west - self.dx / 2.0, self.north + self.dy / 2.0, 0.0],
            transformation: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn good(projection: Projection) -> GeoTags {
        GeoReference { projection, west: 3.8, north: 54.8, dx: 1.0 / 3600.0, dy: 1.0 / 3600.0 }.tags()
    }

    #[test]
    fn what_is_written_is_understood() {
        for projection in [
            Projection::Geographic,
            Projection::Utm { zone: 31, south: false },
            Projection::Utm { zone: 60, south: true },
        ] {
            let reference = good(projection).reference().unwrap();
            assert_eq!(reference.projection, projection);
            assert!((reference.west - 3.8).abs() < 1e-12 && (reference.north - 54.8).abs() < 1e-12);
        }
        let mut points = good(Projection::Geographic);
        points.directory[11] = 2;
        let shifted = points.reference().unwrap();
        assert!((shifted.west - 3.8 + 0.5 / 3600.0).abs() < 1e-12, "pixels are points: the corner is a centre");
        let mut matrix = good(Projection::Geographic);
        matrix.transformation = vec![0.1, 0.0, 0.0, 3.0, 0.0, -0.2, 0.0, 55.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0];
        let reference = matrix.reference().unwrap();
        assert_eq!((reference.dx, reference.dy, reference.west), (0.1, 0.2, 3.05));
    }

    #[test]
    fn what_is_not_is_named() {
        let why = |change: &dyn Fn(&mut GeoTags)| {
            let mut tags = good(Projection::Geographic);
            change(&mut tags);
            tags.reference().unwrap_err()
        };
        assert_eq!(why(&|tags| tags.directory.truncate(7)), KeyError::Directory);
        assert_eq!(why(&|tags| tags.directory.clear()), KeyError::Directory);
        assert_eq!(why(&|tags| tags.directory[15] = 4277), KeyError::Unknown(4277));
        assert_eq!(why(&|tags| tags.directory[3] = 2), KeyError::Unnamed);
        assert_eq!(why(&|tags| tags.pixel_scale.clear()), KeyError::Tag("ModelPixelScale"));
        assert_eq!(why(&|tags| tags.tie_points.truncate(3)), KeyError::Tag("ModelTiepoint"));
        assert_eq!(
            why(&|tags| tags.transformation = [0.7, 0.7, 0.0, 3.0, -0.7, 0.7, 0.0, 55.0].repeat(2)),
            KeyError::Rotated
        );
        let mut feet = good(Projection::Geographic);
        feet.directory.extend([key::VERTICAL_UNITS, 0, 1, 9002]);
        feet.directory[3] = 4;
        assert_eq!(feet.reference(), Err(KeyError::Unit(9002)));
        let mut projected = good(Projection::Utm { zone: 31, south: false });
        projected.directory[15] = 27700;
        assert!(projected.reference().unwrap_err().to_string().contains("EPSG:27700"));
    }

    proptest! {
        #[test]
        fn no_tags_make_it_panic(directory in prop::collection::vec(any::<u16>(), 0..40), scale in prop::collection::vec(any::<f64>(), 0..4),
            tie in prop::collection::vec(any::<f64>(), 0..8), matrix in prop::collection::vec(any::<f64>(), 0..18)) {
            let mut tags = GeoTags { directory, pixel_scale: scale, tie_points: tie, transformation: matrix };
            let _ = tags.reference();
            if tags.directory.len() > 3 {
                (tags.directory[0], tags.directory[3]) = (1, 2);
            }
            let _ = tags.reference();
        }
    }
}

//! Height files of the Shuttle Radar Topography Mission: squares of one degree with a height each second or every three
//! seconds of arc, as 16-bit numbers, high byte first, from the north-western corner ("SRTM Data Format Description", NASA).

use thiserror::Error;

use super::grid::{Grid, GridError, Layout, Projection};

/// Where there is no height.
const VOID: i16 = i16::MIN;

/// A height file cannot be read.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum HeightFileError {
    /// Its name says nothing of its place.
    #[error("{0:?} does not begin with its south-western corner, such as N54E003")]
    Name(String),
    /// It is none of both sizes.
    #[error("{0} bytes are no height file: 2,884,802 (3 seconds) or 25,934,402 (1 second) are needed")]
    Size(usize),
    /// It cannot be a grid.
    #[error(transparent)]
    Grid(#[from] GridError),
}

/// Reads a height file; its name tells where it is.
///
/// # Errors
/// Name or size are wrong.
pub fn read(name: &str, bytes: &[u8]) -> Result<Grid, HeightFileError> {
    let (south, west) = corner(name).ok_or_else(|| HeightFileError::Name(name.chars().take(80).collect()))?;
    let side = match bytes.len() {
        2_884_802 => 1201,
        25_934_402 => 3601,
        other => return Err(HeightFileError::Size(other)),
    };
    let height = |pair: &[u8]| match i16::from_be_bytes([pair[0], pair[1]]) {
        VOID => f32::NAN,
        height => f32::from(height),
    };
    let step = 1.0 / (side - 1) as f64;
    let layout = Layout {
        projection: Projection::Geographic,
        width: side,
        height: side,
        west: f64::from(west),
        north: f64::from(south + 1),
        dx: step,
        dy: step,
    };
    Ok(Grid::new(layout, bytes.chunks_exact(2).map(height).collect())?)
}

/// The south-western corner that a name such as `N54E003` says.
fn corner(name: &str) -> Option<(i16, i16)> {
    let number =
        |text: &str| text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse::<i16>().ok()).flatten();
    let upper = name.get(..7)?.to_ascii_uppercase();
    let (latitude, longitude) = (number(upper.get(1..3)?)?, number(upper.get(4..7)?)?);
    let south = match upper.as_bytes()[0] {
        b'N' => latitude,
        b'S' => -latitude,
        _ => return None,
    };
    let west = match upper.as_bytes()[3] {
        b'E' => longitude,
        b'W' => -longitude,
        _ => return None,
    };
    ((-90..90).contains(&south) && (-180..180).contains(&west)).then_some((south, west))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::geo::Place;

    #[test]
    fn a_file_is_a_square_of_one_degree() {
        let mut bytes = vec![0u8; 1201 * 1201 * 2];
        bytes[..2].copy_from_slice(&120i16.to_be_bytes());
        bytes[2..4].copy_from_slice(&VOID.to_be_bytes());
        let last = bytes.len() - 2;
        bytes[last..].copy_from_slice(&(-3i16).to_be_bytes());
        let grid = read("n54w004.hgt", &bytes).unwrap();
        assert_eq!(grid.nearest(Place { latitude_deg: 55.0, longitude_deg: -4.0 }), Some(120.0));
        assert_eq!(grid.nearest(Place { latitude_deg: 54.0, longitude_deg: -3.0 }), Some(-3.0));
        assert_eq!(grid.holes(), 1);
        assert!(matches!(read("N54E003", &bytes[2..]), Err(HeightFileError::Size(2_884_800))));
        for wrong in ["island.hgt", "N99E003", "N54E181", "N5xE003", "", "N54é003"] {
            assert!(matches!(read(wrong, &bytes), Err(HeightFileError::Name(_))), "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn no_name_makes_it_panic(name in ".{0,12}") {
            let _ = corner(&name);
        }
    }
}

//! A file of heights or of cover in either form: its name tells which.

use std::io::{Read, Seek};

use thiserror::Error;

use super::geotiff::{GeoTiff, GeoTiffError};
use super::grid::{Grid, MOST_CELLS};
use super::height_file::{self, HeightFileError};
use crate::geo::Extent;

/// More than any height file has; what comes after it is not read.
const LARGEST_HEIGHT_FILE: u64 = 26_000_000;

/// A file cannot be read.
#[derive(Debug, Error)]
pub enum FileError {
    /// Its bytes cannot be had.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// It is no GeoTIFF that can be used.
    #[error(transparent)]
    GeoTiff(#[from] GeoTiffError),
    /// It is no height file.
    #[error(transparent)]
    HeightFile(#[from] HeightFileError),
    /// It has more cells than are wanted.
    #[error("it has {cells} cells; at most {most} are allowed")]
    TooManyCells {
        /// Its cells.
        cells: usize,
        /// Those that are wanted.
        most: usize,
    },
}

/// Whether a file of this name is an SRTM height file; all others are GeoTIFF.
fn is_height_file(name: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, ending)| ending.eq_ignore_ascii_case("hgt"))
}

/// All of a file.
///
/// # Errors
/// It cannot be read.
pub fn read<R: Read + Seek>(name: &str, from: R) -> Result<Grid, FileError> {
    described(name, from, MOST_CELLS as usize).map(|(grid, _)| grid)
}

/// All of a file, and its description: empty if it has none. Values are not read of a file that has too many cells.
///
/// # Errors
/// It cannot be read, or has more cells than `most`.
pub fn described<R: Read + Seek>(name: &str, from: R, most: usize) -> Result<(Grid, String), FileError> {
    let fits = |cells: usize| if cells > most { Err(FileError::TooManyCells { cells, most }) } else { Ok(()) };
    if is_height_file(name) {
        let mut bytes = Vec::new();
        from.take(LARGEST_HEIGHT_FILE).read_to_end(&mut bytes)?;
        // Two bytes a cell.
        fits(bytes.len() / 2)?;
        return Ok((height_file::read(name, &bytes)?, String::new()));
    }
    let mut file = GeoTiff::open(from)?;
    let layout = file.layout();
    fits(layout.width.saturating_mul(layout.height))?;
    let grid = file.read()?;
    Ok((grid, file.description().to_owned()))
}

/// The part of a file within a box, or more of it; none if it does not reach there.
///
/// # Errors
/// It cannot be read.
pub fn window<R: Read + Seek>(name: &str, from: R, extent: &Extent) -> Result<Option<Grid>, FileError> {
    if is_height_file(name) {
        return read(name, from).map(Some);
    }
    match GeoTiff::open(from)?.window(extent) {
        Err(GeoTiffError::Elsewhere) => Ok(None),
        read => Ok(Some(read?)),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;

    #[test]
    fn the_name_decides_and_each_form_has_its_errors() {
        let why = |name: &str, bytes: &[u8]| read(name, Cursor::new(bytes.to_vec())).unwrap_err().to_string();
        assert!(why("N54E003.HGT", &[0; 10]).contains("10 bytes are no height file"));
        assert!(why("heights.tif", &[0; 10]).contains("TIFF"));
        assert!(!is_height_file("hgt") && is_height_file("N54E003.hgt"));
        let sea = read("N54E003.hgt", Cursor::new(vec![0; 2_884_802])).unwrap();
        assert_eq!(sea.layout().width, 1201);
        let large = described("N54E003.hgt", Cursor::new(vec![0; 2_884_802]), 1_000_000).unwrap_err().to_string();
        assert_eq!(large, "it has 1442401 cells; at most 1000000 are allowed");
    }
}

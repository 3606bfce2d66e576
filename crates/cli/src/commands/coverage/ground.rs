//! The ground from files.

use std::fs::File;
use std::io::BufReader;
use std::path::Path;

use anyhow::{Context as _, Result};
use coverage::geo::Extent;
use coverage::terrain::cover::CoverTable;
use coverage::terrain::geotiff::{GeoTiff, GeoTiffError};
use coverage::terrain::grid::Grid;
use coverage::terrain::height_file;
use coverage::terrain::mosaic::{NoData, Terrain};

use crate::commands::coverage::args::{GroundArgs, NoDataWord};

/// Whether a file is named as SRTM height files are.
pub(super) fn is_height_file(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("hgt"))
}

/// Opens a file, naming it in any error.
pub(super) fn open(path: &Path) -> Result<GeoTiff<BufReader<File>>> {
    let file = File::open(path).with_context(|| path.display().to_string())?;
    GeoTiff::open(BufReader::new(file)).with_context(|| path.display().to_string())
}

/// A whole SRTM height file.
pub(super) fn height_file(path: &Path) -> Result<Grid> {
    let bytes = std::fs::read(path).with_context(|| path.display().to_string())?;
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    height_file::read(&name, &bytes).with_context(|| path.display().to_string())
}

/// The part of a file that matters; none if it does not reach there.
fn part(path: &Path, extent: &Extent) -> Result<Option<Grid>> {
    if is_height_file(path) {
        return Ok(Some(height_file(path)?));
    }
    match open(path)?.window(extent) {
        Ok(grid) => Ok(Some(grid)),
        Err(GeoTiffError::Elsewhere) => Ok(None),
        Err(why) => Err(why).with_context(|| path.display().to_string()),
    }
}

/// The ground within a box.
///
/// # Errors
/// A file cannot be read, or no file of heights reaches the box.
pub(super) fn terrain(args: &GroundArgs, extent: &Extent) -> Result<Terrain> {
    let all = |files: &[std::path::PathBuf]| -> Result<Vec<Grid>> {
        let parts = files.iter().map(|path| part(path, extent).transpose());
        parts.flatten().collect()
    };
    let classes = match &args.classes {
        None => CoverTable::default(),
        Some(path) => {
            let text = std::fs::read_to_string(path).with_context(|| path.display().to_string())?;
            let table: CoverTable = serde_json::from_str(&text).with_context(|| path.display().to_string())?;
            CoverTable::new(table.iter().map(|(number, class)| (number, class.clone())))?
        }
    };
    let no_data = match args.no_data {
        NoDataWord::Sea => NoData::Sea,
        NoDataWord::Interpolate => NoData::Interpolated,
        NoDataWord::Refuse => NoData::Refused,
    };
    let terrain = Terrain { heights: all(&args.terrain)?, covers: all(&args.cover)?, classes, no_data };
    let none_reaches = terrain.heights.is_empty() && no_data != NoData::Sea;
    anyhow::ensure!(
        !none_reaches,
        "no file of heights reaches there: see what they hold with `heron coverage terrain`"
    );
    Ok(terrain)
}

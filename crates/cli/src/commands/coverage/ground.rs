//! The ground from files.

use std::fs::File;
use std::io::BufReader;
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context as _, Result};
use coverage::geo::Extent;
use coverage::terrain::cover::CoverTable;
use coverage::terrain::file;
use coverage::terrain::grid::Grid;
use coverage::terrain::mosaic::{NoData, Terrain};

use crate::commands::coverage::args::{GroundArgs, NoDataWord};

/// Opens a file, naming it in any error; gives its name as well.
pub(super) fn open(path: &Path) -> Result<(String, BufReader<File>)> {
    let file = File::open(path).with_context(|| path.display().to_string())?;
    Ok((path.file_name().unwrap_or_default().to_string_lossy().into_owned(), BufReader::new(file)))
}

/// The part of a file that matters; none if it does not reach there.
fn part(path: &Path, extent: &Extent) -> Result<Option<Grid>> {
    let (name, file) = open(path)?;
    file::window(&name, file, extent).with_context(|| path.display().to_string())
}

/// The ground within a box.
///
/// # Errors
/// A file cannot be read, or no file of heights reaches the box.
pub(super) fn terrain(args: &GroundArgs, extent: &Extent) -> Result<Terrain> {
    let all = |files: &[std::path::PathBuf]| -> Result<Vec<Arc<Grid>>> {
        let parts = files.iter().map(|path| part(path, extent).transpose());
        parts.flatten().map(|part| part.map(Arc::new)).collect()
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

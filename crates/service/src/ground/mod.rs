//! The ground under maps and forecasts: read from files, drawn in tiles as they are asked for.

pub(crate) mod grounds;

use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use anyhow::{Context as _, Result, ensure};
use api::ground::{GroundFile, GroundKind};
use coverage::terrain::file;
use coverage::terrain::grid::{Grid, MOST_CELLS as MOST_CELLS_OF_A_FILE};
use coverage::terrain::mosaic::{NoData, Terrain};
use coverage::terrain::relief::{self, Palette, TILE_SIDE, Tile};
use domain::coverage::ground::{in_order, raster, told};
use image::codecs::png::PngEncoder;
use image::{ExtendedColorType, ImageEncoder as _};
use sha2::{Digest as _, Sha256};

/// The most cells of all files: they are held in memory, four bytes each.
const MOST_CELLS: usize = 60_000_000;

/// The ground, if there are files of it.
pub(crate) struct Ground {
    terrain: Terrain,
    /// What is told of the files, in the order in which they count.
    files: Vec<GroundFile>,
    /// A digest of the files' content: saved losses are named by it.
    fingerprint: OnceLock<String>,
}

/// A file of an estate, and its values if they could be read.
pub(crate) type OwnFile = (GroundFile, Option<Arc<Grid>>);

impl Ground {
    /// Reads files of heights and of cover; of each kind the first that has a value counts.
    ///
    /// # Errors
    /// A file cannot be read, or all of them are too much.
    pub(crate) fn read(heights: &[PathBuf], covers: &[PathBuf]) -> Result<Self> {
        let mut files = Vec::new();
        let mut all = |kind: GroundKind, paths: &[PathBuf]| -> Result<Vec<Arc<Grid>>> {
            let mut grids = Vec::with_capacity(paths.len());
            for path in paths {
                let (grid, file) = of_operator(path, kind).with_context(|| path.display().to_string())?;
                files.push(file);
                grids.push(Arc::new(grid));
            }
            Ok(grids)
        };
        let (heights, covers) = (all(GroundKind::Heights, heights)?, all(GroundKind::Cover, covers)?);
        let terrain = Terrain { heights, covers, no_data: NoData::Sea, ..Terrain::default() };
        let cells: usize = terrain.heights.iter().chain(&terrain.covers).map(|grid| grid.values().len()).sum();
        ensure!(
            cells <= MOST_CELLS,
            "the files of --terrain and --cover have {cells} cells; at most {MOST_CELLS} are held in memory"
        );
        Ok(Self { terrain, files, fingerprint: OnceLock::new() })
    }

    /// An estate's own files together with those of this ground. The first call reads all of this one.
    pub(crate) fn with(&self, own: Vec<OwnFile>) -> Self {
        let mut digest = Sha256::new_with_prefix(self.fingerprint());
        let of_operator = self.files.iter().cloned().zip(self.grids().map(|grid| Some(Arc::clone(grid)))).collect();
        let (mut heights, mut covers, mut files) = (Vec::new(), Vec::new(), Vec::new());
        for (file, grid) in in_order(own, of_operator, |(file, _): &OwnFile| file) {
            if let Some(grid) = grid {
                digest.update(file.kind.label());
                digest.update(&file.sha256);
                match file.kind {
                    GroundKind::Heights => heights.push(grid),
                    GroundKind::Cover => covers.push(grid),
                }
            }
            files.push(file);
        }
        let terrain = Terrain { heights, covers, no_data: NoData::Sea, ..Terrain::default() };
        Self { terrain, files, fingerprint: OnceLock::from(short(digest)) }
    }

    /// Its grids, in the order of its files as they were read.
    fn grids(&self) -> impl Iterator<Item = &Arc<Grid>> {
        self.terrain.heights.iter().chain(&self.terrain.covers)
    }

    /// What is told of its files.
    pub(crate) fn files(&self) -> &[GroundFile] {
        &self.files
    }

    /// The ground itself.
    pub(crate) fn terrain(&self) -> &Terrain {
        &self.terrain
    }

    /// A digest of the files' content. The first call reads all of it.
    pub(crate) fn fingerprint(&self) -> &str {
        self.fingerprint.get_or_init(|| {
            let mut digest = Sha256::new();
            for grid in self.grids() {
                digest.update(format!("{:?}", grid.layout()));
                grid.values().iter().for_each(|value| digest.update(value.to_le_bytes()));
            }
            short(digest)
        })
    }

    /// A tile as PNG. Blocks.
    ///
    /// # Errors
    /// If it cannot be written.
    pub(crate) fn tile(&self, tile: Tile, palette: &Palette) -> Result<Vec<u8>> {
        png(&relief::tile(&self.terrain, tile, palette))
    }
}

/// The pixels of a tile as PNG.
///
/// # Errors
/// If it cannot be written.
pub(crate) fn png(pixels: &[u8]) -> Result<Vec<u8>> {
    let mut png = Vec::new();
    let side = TILE_SIDE as u32;
    PngEncoder::new(&mut png).write_image(pixels, side, side, ExtendedColorType::Rgba8)?;
    Ok(png)
}

fn short(digest: Sha256) -> String {
    hex::encode(&digest.finalize()[..8])
}

fn of_operator(path: &Path, kind: GroundKind) -> Result<(Grid, GroundFile)> {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let opened = File::open(path)?;
    let size_bytes = opened.metadata()?.len();
    let (grid, description) = file::described(&name, BufReader::new(opened), MOST_CELLS_OF_A_FILE as usize)?;
    let told = told((name, kind), raster(&grid, &description), size_bytes);
    Ok((grid, GroundFile { by_operator: true, ..told }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn demo(name: &str) -> PathBuf {
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey").join(name)
    }

    #[test]
    fn a_tile_is_a_picture_and_a_bad_file_is_named() {
        let ground = Ground::read(&[demo("heights.tif")], &[demo("cover.tif")]).unwrap();
        // Of the island: 54.70° N, 3.90° E at level 11.
        let png = ground.tile(Tile::new(11, 1046, 650).unwrap(), &Palette::LIGHT).unwrap();
        let picture = image::load_from_memory(&png).unwrap().into_rgba8();
        assert_eq!(picture.dimensions(), (256, 256));
        let land = picture.pixels().filter(|pixel| pixel.0[3] == 255).count();
        assert!(land > 5_000, "{land} pixels of land");
        let why = Ground::read(&[demo("scenario.toml")], &[]).err().map(|why| format!("{why:#}")).unwrap();
        assert!(why.contains("scenario.toml") && why.contains("TIFF"), "{why}");
        assert!(Ground::read(&[demo("nowhere.tif")], &[]).is_err());
        assert!(Ground::read(&[], &[]).unwrap().terrain().extent().is_none());
    }
}

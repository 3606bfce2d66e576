//! The ground under maps: read once from the operator's files, drawn in tiles as they are asked for.

use std::fs::File;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use anyhow::{Context as _, Result, ensure};
use coverage::terrain::file;
use coverage::terrain::grid::Grid;
use coverage::terrain::mosaic::{NoData, Terrain};
use coverage::terrain::relief::{self, Palette, TILE_SIDE, Tile};
use image::codecs::png::PngEncoder;
use image::{ExtendedColorType, ImageEncoder as _};
use sha2::{Digest as _, Sha256};
use tokio::sync::Semaphore;

/// The most cells of all files: they are held in memory, four bytes each.
const MOST_CELLS: usize = 60_000_000;
/// Tiles drawn at once: each takes a core for some milliseconds.
const AT_ONCE: usize = 1;

/// The ground, if there are files of it.
pub struct Ground {
    terrain: Terrain,
    /// A digest of the files' content: saved losses are named by it.
    fingerprint: OnceLock<String>,
    pub turns: Semaphore,
}

impl Ground {
    /// Reads files of heights and of cover; of each kind the first that has a value counts.
    ///
    /// # Errors
    /// A file cannot be read, or all of them are too much.
    pub(crate) fn read(heights: &[PathBuf], covers: &[PathBuf]) -> Result<Self> {
        let all = |files: &[PathBuf]| -> Result<Vec<Grid>> {
            files.iter().map(|path| grid(path).with_context(|| path.display().to_string())).collect()
        };
        let terrain =
            Terrain { heights: all(heights)?, covers: all(covers)?, no_data: NoData::Sea, ..Terrain::default() };
        let cells: usize = terrain.heights.iter().chain(&terrain.covers).map(|grid| grid.values().len()).sum();
        ensure!(
            cells <= MOST_CELLS,
            "the files of --terrain and --cover have {cells} cells; at most {MOST_CELLS} are held in memory"
        );
        Ok(Self { terrain, fingerprint: OnceLock::new(), turns: Semaphore::new(AT_ONCE) })
    }

    /// The ground itself.
    pub(crate) fn terrain(&self) -> &Terrain {
        &self.terrain
    }

    /// A digest of the files' content. The first call reads all of it.
    pub(crate) fn fingerprint(&self) -> &str {
        self.fingerprint.get_or_init(|| {
            let mut digest = Sha256::new();
            for grid in self.terrain.heights.iter().chain(&self.terrain.covers) {
                digest.update(format!("{:?}", grid.layout()));
                grid.values().iter().for_each(|value| digest.update(value.to_le_bytes()));
            }
            hex::encode(&digest.finalize()[..8])
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

fn grid(path: &Path) -> Result<Grid> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    Ok(file::read(&name, BufReader::new(File::open(path)?))?)
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

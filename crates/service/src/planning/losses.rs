//! The losses around sites as files: they are computed once, and loaded for every forecast that needs them.

use std::collections::HashSet;
use std::io::{Read as _, Write as _};
use std::path::Path;
use std::time::SystemTime;

use anyhow::Result;
use coverage::area::Area;
use coverage::area::loss::{Progress, Source, Task};
use coverage::model::{Model, Polarization};
use coverage::terrain::grid::Grid;
use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use serde::Serialize;
use sha2::{Digest as _, Sha256};

use crate::data_files::DataFiles;
use crate::ground::Ground;
use crate::planning::sites::Placed;

/// Between samples of the ground, in metres.
pub(crate) const STEP_M: f64 = 30.0;

/// What losses depend on: no more and no less.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct LossKey {
    ground: String,
    model: Model,
    latitude_deg: f64,
    longitude_deg: f64,
    height_m: f64,
    receiver_height_m: f64,
    frequency_mhz: f64,
    radius_m: f64,
    cell_m: f64,
}

impl LossKey {
    pub(crate) fn new(
        ground: &Ground,
        site: &Placed,
        (model, frequency_mhz, receiver_height_m): (&Model, f64, f64),
        (radius_m, cell_m): (f64, f64),
    ) -> Self {
        Self {
            ground: ground.fingerprint().to_owned(),
            model: model.clone(),
            latitude_deg: site.place.latitude_deg,
            longitude_deg: site.place.longitude_deg,
            height_m: site.station.height_m,
            receiver_height_m,
            frequency_mhz,
            radius_m,
            cell_m,
        }
    }

    /// The name of the file.
    pub(crate) fn file_name(&self) -> String {
        let text = serde_json::to_vec(self).unwrap_or_default();
        hex::encode(&Sha256::digest(text)[..16])
    }

    fn area(&self) -> Area {
        let centre = coverage::geo::Place { latitude_deg: self.latitude_deg, longitude_deg: self.longitude_deg };
        Area { centre, radius_m: self.radius_m, cell_m: self.cell_m }
    }

    /// Computes them. Blocks, and takes all threads of the pool that it runs in.
    ///
    /// # Errors
    /// The model cannot tell, or it was stopped.
    pub(crate) fn computed(&self, ground: &Ground, progress: Progress<'_>) -> Result<Grid, coverage::area::AreaError> {
        let area = self.area();
        let source = Source {
            place: area.centre,
            height_m: self.height_m,
            receiver_height_m: self.receiver_height_m,
            frequency_mhz: self.frequency_mhz,
            polarization: Polarization::Vertical,
        };
        Task { terrain: ground.terrain(), model: &self.model, source, area, step_m: STEP_M }.losses(progress)
    }
}

/// The folder of losses.
#[derive(Debug, Clone)]
pub(crate) struct Losses {
    files: DataFiles,
}

impl Losses {
    pub(crate) fn new(data: &Path) -> Self {
        Self { files: DataFiles::new(data, "losses") }
    }

    /// Whether losses were saved. Blocks.
    pub(crate) fn has(&self, key: &LossKey) -> bool {
        self.files.path(&key.file_name()).exists()
    }

    /// Losses that were saved; none if there are none, or the file is not whole. Blocks.
    pub(crate) fn load(&self, key: &LossKey) -> Option<Grid> {
        self.load_from(&key.file_name(), key)
    }

    /// Losses of this area from a file of this name: of a forecast that was made when the ground was another. Blocks.
    pub(crate) fn load_from(&self, name: &str, key: &LossKey) -> Option<Grid> {
        let file = std::fs::File::open(self.files.path(name)).ok()?;
        let layout = key.area().layout().ok()?;
        let count = layout.width * layout.height;
        let mut bytes = Vec::new();
        // One byte more than there may be, so that a file that is too long shows.
        DeflateDecoder::new(file).take(4 * count as u64 + 1).read_to_end(&mut bytes).ok()?;
        if bytes.len() != 4 * count {
            return None;
        }
        let values = bytes.chunks_exact(4).map(|four| f32::from_le_bytes([four[0], four[1], four[2], four[3]]));
        Grid::new(layout, values.collect()).ok()
    }

    /// Saves losses; there is never half a file. Blocks.
    ///
    /// # Errors
    /// The file cannot be written.
    pub(crate) fn save(&self, key: &LossKey, grid: &Grid) -> Result<()> {
        self.files.write(&key.file_name(), |to| {
            let mut packed = DeflateEncoder::new(to, Compression::fast());
            for value in grid.values() {
                packed.write_all(&value.to_le_bytes())?;
            }
            packed.finish().map(|_| ())
        })
    }

    /// Deletes the files that no forecast names. Blocks.
    ///
    /// # Errors
    /// The folder cannot be read.
    pub(crate) fn prune(&self, named: &HashSet<String>, now: SystemTime) -> Result<usize> {
        self.files.prune(named, now)
    }
}

#[cfg(test)]
mod tests {
    use coverage::geo::Place;
    use coverage::link::budget::Station;

    use super::*;

    fn key(ground: &Ground, height_m: f64) -> LossKey {
        let station = Station { height_m, ..Station::default() };
        let place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
        let site = Placed { name: "a".into(), gateway: None, place, station, calibrated_db: 0.0 };
        LossKey::new(ground, &site, (&Model::FreeSpace, 868.1, 1.5), (1_000.0, 50.0))
    }

    #[test]
    fn losses_are_kept_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let (losses, ground) = (Losses::new(folder.path()), Ground::read(&[], &[]).unwrap());
        let one = key(&ground, 10.0);
        assert!(losses.load(&one).is_none());
        let grid = one.computed(&ground, &|_, _| true).unwrap();
        losses.save(&one, &grid).unwrap();
        let same = |a: &[f32], b: &[f32]| a.iter().zip(b).all(|(a, b)| a.to_bits() == b.to_bits());
        assert!(same(losses.load(&one).unwrap().values(), grid.values()));
        assert!(losses.load(&key(&ground, 11.0)).is_none(), "another height has other losses");
        let file = folder.path().join("losses").join(one.file_name());
        let bytes = std::fs::read(&file).unwrap();
        std::fs::write(&file, &bytes[..bytes.len() / 2]).unwrap();
        assert!(losses.load(&one).is_none(), "half a file is none");
    }
}

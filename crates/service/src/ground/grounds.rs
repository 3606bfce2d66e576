//! The ground of each estate: its own files, kept in the data folder, together with those of the operator.

use std::collections::{HashSet, VecDeque};
use std::fs::File;
use std::io::BufReader;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use anyhow::{Context as _, Result};
use api::ground::GroundFile;
use coverage::terrain::file;
use coverage::terrain::grid::Grid;
use domain::coverage::ground::MOST_CELLS;
use sha2::{Digest as _, Sha256};
use store::{EstateId, PlanKind, Store, StoreError};
use tokio::sync::Semaphore;
use tokio::task::spawn_blocking;

use crate::data_files::DataFiles;
use crate::ground::{Ground, OwnFile};

/// Tiles drawn at once: each takes a core for some milliseconds.
const AT_ONCE: usize = 1;
/// Cells of the estates' files in memory, four bytes each. What was used last stays in any case.
const IN_MEMORY: u64 = 3 * MOST_CELLS;

/// The ground of all estates.
pub struct Grounds {
    store: Store,
    files: DataFiles,
    of_operator: Arc<Ground>,
    opened: Mutex<VecDeque<(EstateId, Arc<Ground>)>>,
    /// One estate's files are read at a time, and one is added at a time: each takes memory.
    pub reading: tokio::sync::Mutex<()>,
    /// Whose turn it is to draw.
    pub turns: Semaphore,
}

/// The digest by which content is named.
pub(crate) fn digest(bytes: &[u8]) -> String {
    hex::encode(Sha256::digest(bytes))
}

impl Grounds {
    /// Of the operator's ground, and of files in the data folder.
    pub(crate) fn new(store: Store, of_operator: Ground, data: &Path) -> Self {
        Self {
            store,
            files: DataFiles::new(data, "ground"),
            of_operator: Arc::new(of_operator),
            opened: Mutex::default(),
            reading: tokio::sync::Mutex::default(),
            turns: Semaphore::new(AT_ONCE),
        }
    }

    /// The operator's ground, which is part of that of all estates.
    pub(crate) fn of_operator(&self) -> &Arc<Ground> {
        &self.of_operator
    }

    fn opened(&self) -> MutexGuard<'_, VecDeque<(EstateId, Arc<Ground>)>> {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn held(&self, estate: EstateId) -> Option<Arc<Ground>> {
        self.opened().iter().find(|(held, _)| *held == estate).map(|(_, ground)| Arc::clone(ground))
    }

    /// The ground of an estate, from memory or from its files. Safe to cancel.
    ///
    /// # Errors
    /// The database cannot be read.
    pub(crate) async fn of(self: &Arc<Self>, estate: EstateId) -> Result<Arc<Ground>, StoreError> {
        if let Some(held) = self.held(estate) {
            return Ok(held);
        }
        let _turn = self.reading.lock().await;
        // Another may have read them meanwhile.
        if let Some(held) = self.held(estate) {
            return Ok(held);
        }
        let files: Vec<GroundFile> = self.store.plans(estate, PlanKind::GroundFile).await?;
        let me = Arc::clone(self);
        let read = spawn_blocking(move || {
            let own: Vec<OwnFile> = files.into_iter().map(|file| me.read(estate, file)).collect();
            // The losses of a forecast are named by the digest, which takes a moment for the operator's.
            me.of_operator.fingerprint();
            if own.is_empty() { Arc::clone(&me.of_operator) } else { Arc::new(me.of_operator.with(own)) }
        });
        let read = read.await.unwrap_or_else(|why| {
            tracing::error!("the ground of an estate was not read: {why}");
            Arc::clone(&self.of_operator)
        });
        self.keep(estate, &read);
        Ok(read)
    }

    fn keep(&self, estate: EstateId, ground: &Arc<Ground>) {
        let own = |ground: &Ground| -> u64 {
            let files = ground.files().iter().filter(|file| !file.by_operator);
            files.map(|file| file.raster.cells()).sum()
        };
        let mut all = self.opened();
        all.retain(|(held, _)| *held != estate);
        all.push_front((estate, Arc::clone(ground)));
        let mut cells = 0;
        all.retain(|(held, ground)| {
            cells += own(ground);
            *held == estate || cells <= IN_MEMORY
        });
    }

    /// To be called when an estate's files change.
    pub(crate) fn forget(&self, estate: EstateId) {
        self.opened().retain(|(held, _)| *held != estate);
    }

    /// A file that cannot be read does not count, and says so. Blocks.
    fn read(&self, estate: EstateId, mut file: GroundFile) -> OwnFile {
        let read = || -> Result<Grid> {
            let path = self.files.path(&file_name(estate, &file.sha256));
            let opened = File::open(path).context("its bytes are not in the data folder")?;
            Ok(file::described(&file.name, BufReader::new(opened), MOST_CELLS as usize)?.0)
        };
        match read() {
            Ok(grid) => (file, Some(Arc::new(grid))),
            Err(why) => {
                tracing::warn!("the file {:?} of the ground cannot be read: {why:#}", file.name);
                file.problem = Some(format!("{why:#}: remove it, and add it again"));
                (file, None)
            }
        }
    }

    /// Writes the bytes of a file; there is never half a file. Blocks.
    ///
    /// # Errors
    /// They cannot be written.
    pub(crate) fn write(&self, estate: EstateId, sha256: &str, bytes: &[u8]) -> Result<()> {
        self.files.write(&file_name(estate, sha256), |to| to.write_all(bytes))
    }

    /// Deletes the bytes of files that no record names. Safe to cancel.
    ///
    /// # Errors
    /// The database or the folder cannot be read.
    pub(crate) async fn prune(&self) -> Result<usize> {
        let all: Vec<(EstateId, GroundFile)> = self.store.plans_of_all(PlanKind::GroundFile).await?;
        let named: HashSet<String> = all.iter().map(|(estate, file)| file_name(*estate, &file.sha256)).collect();
        let files = self.files.clone();
        spawn_blocking(move || files.prune(&named, SystemTime::now())).await?
    }
}

fn file_name(estate: EstateId, sha256: &str) -> String {
    format!("{estate}-{sha256}")
}

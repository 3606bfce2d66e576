//! Files of the data folder that are written whole or not at all, and deleted when nothing names them any more.

use std::collections::HashSet;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use anyhow::{Context as _, Result};

/// A file that nothing names is deleted once it is this old: what names a new one may not be written yet.
const UNNAMED: Duration = Duration::from_secs(24 * 3600);

/// A folder of such files.
#[derive(Debug, Clone)]
pub(crate) struct DataFiles {
    folder: PathBuf,
}

impl DataFiles {
    /// The folder of this name in the data folder; it is made when something is written.
    pub(crate) fn new(data: &Path, name: &str) -> Self {
        Self { folder: data.join(name) }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// Writes a file; it appears once all of it is on the disk. Blocks.
    ///
    /// # Errors
    /// It cannot be written.
    pub(crate) fn write(&self, name: &str, fill: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) -> Result<()> {
        std::fs::create_dir_all(&self.folder).with_context(|| self.folder.display().to_string())?;
        let mut file = tempfile::NamedTempFile::new_in(&self.folder)?;
        fill(&mut file)?;
        file.as_file().sync_all()?;
        file.persist(self.path(name))?;
        Ok(())
    }

    /// Deletes the files that nothing names; how many. Blocks.
    ///
    /// # Errors
    /// The folder cannot be read, or a file cannot be deleted.
    pub(crate) fn prune(&self, named: &HashSet<String>, now: SystemTime) -> Result<usize> {
        let mut deleted = 0;
        if !self.folder.exists() {
            return Ok(0);
        }
        for entry in std::fs::read_dir(&self.folder)? {
            let entry = entry?;
            let name = entry.file_name().to_string_lossy().into_owned();
            let changed = entry.metadata()?.modified()?;
            let old = now.duration_since(changed).is_ok_and(|age| age >= UNNAMED);
            if old && !named.contains(&name) {
                std::fs::remove_file(entry.path())?;
                deleted += 1;
            }
        }
        Ok(deleted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_whole_or_not_there() {
        let data = tempfile::tempdir().unwrap();
        let files = DataFiles::new(data.path(), "parts");
        files.write("one", |to| to.write_all(b"whole")).unwrap();
        let breaks_off = |to: &mut dyn Write| {
            to.write_all(b"ha")?;
            Err(std::io::Error::other("the disk is gone"))
        };
        assert!(files.write("two", breaks_off).unwrap_err().to_string().contains("the disk is gone"));
        assert_eq!(std::fs::read(files.path("one")).unwrap(), b"whole");
        let left: Vec<_> = std::fs::read_dir(data.path().join("parts")).unwrap().collect();
        assert_eq!(left.len(), 1, "{left:?}");
    }

    #[test]
    fn files_that_nothing_names_are_deleted_when_they_are_old() {
        let data = tempfile::tempdir().unwrap();
        let files = DataFiles::new(data.path(), "parts");
        assert_eq!(files.prune(&HashSet::new(), SystemTime::now()).unwrap(), 0, "the folder is not there yet");
        for name in ["named", "unnamed"] {
            files.write(name, |to| to.write_all(b"x")).unwrap();
        }
        let (named, now) = (HashSet::from(["named".to_owned()]), SystemTime::now());
        assert_eq!(files.prune(&named, now).unwrap(), 0);
        assert_eq!(files.prune(&named, now + 2 * UNNAMED).unwrap(), 1);
        assert!(files.path("named").exists() && !files.path("unnamed").exists());
    }
}

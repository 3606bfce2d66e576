//! The high-water mark of the database, in the data folder. A database below it is an older copy, which would use frame
//! counters and join nonces twice.

use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, bail};
use store::Lease;

/// The file's one line has this form, always of the same length, so that it is overwritten in one go.
fn line(database_id: &str, commits: u64) -> String {
    format!("{database_id:<26} {commits:020}\n")
}

/// The file in the data folder.
#[derive(Debug)]
pub(crate) struct HighWater {
    path: PathBuf,
    file: File,
}

/// A database's high-water mark.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Mark {
    database_id: String,
    commits: u64,
}

impl HighWater {
    /// Opens the file, which is made if it is not there.
    ///
    /// # Errors
    /// If it cannot be opened.
    pub(crate) fn open(data: &Path) -> Result<Self> {
        let path = data.join("high-water");
        let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path);
        let file = file.with_context(|| format!("opening {}", path.display()))?;
        Ok(Self { path, file })
    }

    fn read(&self) -> io::Result<Option<Mark>> {
        let mut bytes = [0; 48];
        let len = self.file.read_at(&mut bytes, 0)?;
        if len == 0 {
            return Ok(None);
        }
        let wrong = || io::Error::other(format!("{} does not hold what it should", self.path.display()));
        let text = std::str::from_utf8(&bytes[..len]).map_err(|_| wrong())?;
        let (database_id, commits) = text.trim_end().split_once(' ').ok_or_else(wrong)?;
        Ok(Some(Mark { database_id: database_id.into(), commits: commits.trim().parse().map_err(|_| wrong())? }))
    }

    /// Refuses a database below the mark of this folder.
    ///
    /// # Errors
    /// If that is so, with what to do about it.
    pub(crate) fn check(&self, database: &Lease) -> Result<()> {
        let told = "Frame counters and JoinNonces that were used since then would be used again, which devices refuse and \
                    which breaks encryption. If it was put back on purpose, run `herond restored` first";
        match self.read()? {
            Some(mark) if mark.database_id == database.database_id && mark.commits > database.commits => bail!(
                "this database is an older copy: it has {} commits, and this data folder has seen {} of it. {told}",
                database.commits,
                mark.commits
            ),
            Some(_) => Ok(()),
            None if database.commits > 0 => {
                bail!("this data folder has never been used with this database, which may be a copy of it. {told}")
            }
            None => Ok(()),
        }
    }

    /// Notes a database's mark. Not synced: after a power cut the mark may be behind, never ahead of what was
    /// committed.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub(crate) fn note(&self, database: &Lease) -> io::Result<()> {
        self.file.write_all_at(line(&database.database_id, database.commits).as_bytes(), 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lease(id: &str, commits: u64) -> Lease {
        Lease { database_id: id.into(), epoch: 1, commits }
    }

    #[test]
    fn an_older_copy_is_refused_and_another_database_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let (a, b) = ("01AAAAAAAAAAAAAAAAAAAAAAAA", "01BBBBBBBBBBBBBBBBBBBBBBBB");
        let mark = HighWater::open(folder.path()).unwrap();
        mark.check(&lease(a, 0)).unwrap();
        assert!(mark.check(&lease(a, 1)).unwrap_err().to_string().contains("never been used with this database"));
        mark.note(&lease(a, 70_000)).unwrap();
        let mark = HighWater::open(folder.path()).unwrap();
        mark.check(&lease(a, 70_000)).unwrap();
        mark.check(&lease(a, 70_001)).unwrap();
        let why = mark.check(&lease(a, 69_999)).unwrap_err().to_string();
        assert!(why.contains("69999 commits") && why.contains("70000") && why.contains("herond restored"), "{why}");
        mark.check(&lease(b, 3)).unwrap();
    }
}

//! Rows of the history that the database refuses: kept in a file, so that nothing acknowledged is lost.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use chrono::{SecondsFormat, Utc};

/// The file is not made longer than this.
const MOST_BYTES: u64 = 64 << 20;

/// The file with these rows, one JSON object a line.
pub(crate) struct RefusedRows(PathBuf);

impl RefusedRows {
    /// In the data folder.
    pub(crate) fn in_folder(data: &Path) -> Self {
        Self(data.join("refused-rows.jsonl"))
    }

    /// Keeps a row; returns the file's name.
    ///
    /// # Errors
    /// If the file is full or cannot be written.
    pub(crate) fn keep(&self, row: &str, why: &str) -> io::Result<String> {
        if fs::metadata(&self.0).map_or(0, |about| about.len()) > MOST_BYTES {
            return Err(io::Error::other(format!("{} is full", self.0.display())));
        }
        let at = Utc::now().to_rfc3339_opts(SecondsFormat::Millis, true);
        let line = serde_json::json!({ "at": at, "why": why, "row": row });
        let mut file = OpenOptions::new().create(true).append(true).open(&self.0)?;
        file.write_all(format!("{line}\n").as_bytes())?;
        file.sync_data()?;
        Ok(self.0.display().to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_kept_one_a_line() {
        let folder = tempfile::tempdir().unwrap();
        let rows = RefusedRows::in_folder(folder.path());
        let file = rows.keep("an uplink\nwith a line break", "too long").unwrap();
        rows.keep("another", "out of range").unwrap();
        let kept = fs::read_to_string(file).unwrap();
        let lines: Vec<serde_json::Value> = kept.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(lines.len(), 2);
        assert_eq!((&lines[0]["why"], &lines[1]["row"]), (&"too long".into(), &"another".into()));
    }
}

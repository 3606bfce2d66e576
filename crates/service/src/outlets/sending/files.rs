//! Writes messages to files: JSON Lines, a new file each hour or day and when one is full.
//!
//! What is delivered is on the disk. A line that a kill has cut off is taken away before the next one is written, and its
//! message comes again.

use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use api::outlet::{FileFolder, Rotation};
use chrono::{DateTime, Utc};

use super::{Outcome, Shaped, Tried};

/// Messages that are written at once.
pub(super) const MOST: usize = 1_000;
/// The service's group may read what is written, as the collector of somebody else does; the data folder keeps it out all the same.
const FOLDER_MODE: u32 = 0o750;
const FILE_MODE: u32 = 0o640;
/// Files' names end like this.
const ENDING: &str = ".jsonl";

/// A folder of files.
pub(super) struct Folder(Arc<Inner>);

struct Inner {
    path: PathBuf,
    rotate: Rotation,
    file_bytes: u64,
    folder_bytes: u64,
    /// The file that is written to.
    open: Mutex<Option<Open>>,
}

struct Open {
    file: File,
    path: PathBuf,
    length: u64,
    /// What its name begins with, for as long as it is written to.
    period: String,
}

impl Folder {
    pub(super) fn new(path: PathBuf, of: &FileFolder) -> Self {
        let bytes = |mb: Option<u32>, usual: u32| u64::from(mb.unwrap_or(usual)) * 1_000_000;
        Self(Arc::new(Inner {
            path,
            rotate: of.rotate,
            file_bytes: bytes(of.file_mb, domain::outlet::FILE_MB),
            folder_bytes: bytes(of.folder_mb, domain::outlet::FOLDER_MB),
            open: Mutex::default(),
        }))
    }

    /// Writes messages, a line each, and waits until they are on the disk.
    pub(super) async fn send(&self, messages: &[Shaped<'_>]) -> Tried {
        let mut lines = Vec::new();
        for message in messages {
            // JSON has no line breaks of its own; a message as it is stored could.
            lines.extend(message.json.bytes().map(|byte| if byte == b'\n' || byte == b'\r' { b' ' } else { byte }));
            lines.push(b'\n');
        }
        let inner = Arc::clone(&self.0);
        let written = tokio::task::spawn_blocking(move || inner.write(&lines, Utc::now())).await;
        let (outcome, path) = match written {
            Ok(Ok(path)) => (Outcome::Taken, path),
            Ok(Err(why)) => (Outcome::Away(format!("the file is not written: {why}"), None), self.0.path.clone()),
            Err(why) => (Outcome::Away(format!("the file is not written: {why}"), None), self.0.path.clone()),
        };
        Tried::of(outcome, format!("append to {}", path.display()), messages)
    }
}

impl Inner {
    /// Appends lines; the file that they are in. If that fails, the file is as it was.
    fn write(&self, lines: &[u8], now: DateTime<Utc>) -> io::Result<PathBuf> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let period = period(self.rotate, now);
        let full = |open: &Open| open.length > 0 && open.length + lines.len() as u64 > self.file_bytes;
        if open.as_ref().is_none_or(|open| open.period != period || full(open) || !open.path.exists()) {
            *open = None;
            *open = Some(self.begin(&period, lines.len() as u64)?);
        }
        let Some(current) = open.as_mut() else { return Err(io::Error::other("no file is open")) };
        let done = current.file.write_all(lines).and_then(|()| current.file.sync_data());
        match done {
            Ok(()) => {
                current.length += lines.len() as u64;
                Ok(current.path.clone())
            }
            Err(why) => {
                let restored = current.file.set_len(current.length);
                if restored.is_err() {
                    // It is looked at again before it is written to.
                    *open = None;
                }
                Err(why)
            }
        }
    }

    /// Opens the file of a period that has room, or begins another.
    fn begin(&self, period: &str, more: u64) -> io::Result<Open> {
        DirBuilder::new().recursive(true).mode(FOLDER_MODE).create(&self.path)?;
        fs::set_permissions(&self.path, Permissions::from_mode(FOLDER_MODE))?;
        let last = self.files()?.pop().filter(|(path, _)| name(path).starts_with(period));
        if let Some((path, _)) = &last {
            let (file, length) = mended(path)?;
            if length == 0 || length + more <= self.file_bytes {
                return Ok(Open { file, path: path.clone(), length, period: period.to_owned() });
            }
        }
        let number = last.and_then(|(path, _)| number(&path)).map_or(1, |number| number.saturating_add(1));
        let path = self.path.join(format!("{period}-{number:05}{ENDING}"));
        let file = OpenOptions::new().append(true).create_new(true).open(&path)?;
        file.set_permissions(Permissions::from_mode(FILE_MODE))?;
        File::open(&self.path)?.sync_all()?;
        self.make_room()?;
        Ok(Open { file, path, length: 0, period: period.to_owned() })
    }

    /// The folder's files, oldest first, with their lengths. Other files in it are nobody's concern.
    fn files(&self) -> io::Result<Vec<(PathBuf, u64)>> {
        let mut all = Vec::new();
        for entry in fs::read_dir(&self.path)? {
            let entry = entry?;
            if number(&entry.path()).is_some() {
                all.push((entry.path(), entry.metadata()?.len()));
            }
        }
        all.sort();
        Ok(all)
    }

    /// Removes the oldest files until another one has room.
    fn make_room(&self) -> io::Result<()> {
        let files = self.files()?;
        let mut bytes: u64 = files.iter().map(|(_, length)| length).sum();
        // The newest is the one that is being written to.
        for (path, length) in files.iter().take(files.len().saturating_sub(1)) {
            if bytes + self.file_bytes <= self.folder_bytes {
                break;
            }
            fs::remove_file(path)?;
            bytes -= length;
        }
        Ok(())
    }
}

fn name(path: &Path) -> &str {
    path.file_name().and_then(|name| name.to_str()).unwrap_or_default()
}

/// The number in a file's name, if it is one of ours.
fn number(path: &Path) -> Option<u32> {
    let (period, number) = name(path).strip_suffix(ENDING)?.rsplit_once('-')?;
    let good = !period.is_empty() && period.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-' || byte == b'T');
    number.parse().ok().filter(|_| good)
}

/// What files of one hour or day begin with.
fn period(rotate: Rotation, now: DateTime<Utc>) -> String {
    let form = match rotate {
        Rotation::Hour => "%Y-%m-%dT%H",
        Rotation::Day => "%Y-%m-%d",
    };
    now.format(form).to_string()
}

/// Opens a file to append to it, without the line at its end that was not finished.
fn mended(path: &Path) -> io::Result<(File, u64)> {
    let mut file = OpenOptions::new().read(true).append(true).open(path)?;
    let length = file.metadata()?.len();
    let mut end = length;
    let mut block = [0; 4_096];
    while end > 0 {
        let size = end.min(block.len() as u64) as usize;
        file.seek(SeekFrom::Start(end - size as u64))?;
        file.read_exact(&mut block[..size])?;
        match block[..size].iter().rposition(|byte| *byte == b'\n') {
            Some(at) => {
                end = end - size as u64 + at as u64 + 1;
                break;
            }
            None => end -= size as u64,
        }
    }
    if end < length {
        file.set_len(end)?;
    }
    Ok((file, end))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(path: &Path, rotate: Rotation, file_bytes: u64, folder_bytes: u64) -> Inner {
        Inner { path: path.to_owned(), rotate, file_bytes, folder_bytes, open: Mutex::default() }
    }

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn names(inner: &Inner) -> Vec<String> {
        inner.files().unwrap().iter().map(|(path, _)| name(path).to_owned()).collect()
    }

    #[test]
    fn a_new_file_begins_with_the_period_and_when_one_is_full() {
        let dir = tempfile::tempdir().unwrap();
        let inner = folder(&dir.path().join("tarnsey/log"), Rotation::Hour, 10, 1_000);
        for (line, time) in [
            ("one\n", "2026-05-04T09:59:59Z"),
            ("two\n", "2026-05-04T10:00:00Z"),
            ("three\n", "2026-05-04T10:10:00Z"),
            ("four\n", "2026-05-04T10:20:00Z"),
        ] {
            inner.write(line.as_bytes(), at(time)).unwrap();
        }
        assert_eq!(
            names(&inner),
            ["2026-05-04T09-00001.jsonl", "2026-05-04T10-00001.jsonl", "2026-05-04T10-00002.jsonl"]
        );
        let second = fs::read_to_string(inner.path.join("2026-05-04T10-00001.jsonl")).unwrap();
        assert_eq!(second, "two\nthree\n");
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&inner.path), mode(&inner.path.join("2026-05-04T10-00001.jsonl"))), (0o750, 0o640));
        // Another start goes on with the last one.
        let again = folder(&inner.path, Rotation::Hour, 10, 1_000);
        again.write(b"five\n", at("2026-05-04T10:30:00Z")).unwrap();
        assert_eq!(fs::read_to_string(inner.path.join("2026-05-04T10-00002.jsonl")).unwrap(), "four\nfive\n");
    }

    #[test]
    fn the_oldest_make_room_and_nobody_else_s_files_do() {
        let dir = tempfile::tempdir().unwrap();
        let inner = folder(dir.path(), Rotation::Day, 10, 20);
        fs::write(dir.path().join("notes.txt"), "mine").unwrap();
        for day in 1..=5 {
            inner.write(b"12345678\n", at(&format!("2026-05-0{day}T00:00:00Z"))).unwrap();
        }
        assert_eq!(names(&inner), ["2026-05-04-00001.jsonl", "2026-05-05-00001.jsonl"]);
        assert!(dir.path().join("notes.txt").exists());
    }

    #[test]
    fn a_line_that_was_cut_off_is_taken_away() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("2026-05-04-00001.jsonl");
        for (text, kept) in [("one\ntw", "one\n"), ("tw", ""), ("", ""), ("one\n", "one\n")] {
            fs::write(&path, text).unwrap();
            let inner = folder(dir.path(), Rotation::Day, 100, 1_000);
            inner.write(b"next\n", at("2026-05-04T00:00:00Z")).unwrap();
            assert_eq!(fs::read_to_string(&path).unwrap(), format!("{kept}next\n"));
        }
        let long = format!("one\n{}", "x".repeat(10_000));
        fs::write(&path, long).unwrap();
        assert_eq!(mended(&path).unwrap().1, 4);
    }

    #[test]
    fn a_file_that_somebody_took_away_begins_anew() {
        let dir = tempfile::tempdir().unwrap();
        let inner = folder(dir.path(), Rotation::Day, 100, 1_000);
        let path = inner.write(b"one\n", at("2026-05-04T00:00:00Z")).unwrap();
        fs::remove_file(&path).unwrap();
        inner.write(b"two\n", at("2026-05-04T00:00:01Z")).unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), "two\n");
    }
}

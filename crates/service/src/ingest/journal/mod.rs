//! The journal: heard frames on disk, written before they are acknowledged.
//!
//! MariaDB learns of a frame when its copies have been collected, or much later while it is away. A service
//! that is killed in between finds here what it has yet to do; at no other time is anything read back. A
//! frame stands here before its gateway is told that it has arrived.
//!
//! Frames stand in segments, files that only grow. Each frame has a position, counted from the first that was ever
//! written; how far the engine has come is said in positions, since clocks can be wrong. A segment goes once everything
//! in it is done. What a kill tears off at the end of a segment was acknowledged to nobody.
//!
//! The kernel keeps what was written, so a killed service loses nothing. A power cut may take what was heard
//! in the last [`SYNC_EVERY`].

pub(crate) mod quarantine;
mod rebase;
mod record;

use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use engine::{FrameHeard, Timestamp};
use store::Mark;

pub(crate) use rebase::Clocks;
pub(crate) use record::Record;

/// A segment is closed when it has grown to this.
const SEGMENT_BYTES: u64 = 4 << 20;
/// How often written frames are synced to disk.
pub(crate) const SYNC_EVERY: Duration = Duration::from_millis(100);
/// Damaged segments that are kept to be looked at.
const KEPT_DAMAGED: usize = 16;

/// The journal, open for writing.
pub(crate) struct Journal {
    folder: PathBuf,
    /// Names this run of the machine, in segments' names.
    boot: String,
    current: Segment,
    file: File,
    /// The end of the file may hold an incomplete record: nothing is appended to it any more.
    broken: bool,
    closed: VecDeque<Segment>,
    next_position: u64,
    buffer: Vec<u8>,
    unsynced: bool,
}

/// A segment: its place in the folder, its size, and the last frame in it.
#[derive(Debug, Clone)]
struct Segment {
    number: u64,
    path: PathBuf,
    bytes: u64,
    last_position: u64,
    last_heard: Timestamp,
}

/// The content of a journal when it is opened.
pub(crate) struct Opened {
    pub journal: Journal,
    /// In the order in which they were written; heard in the past, whatever the clock said then.
    pub records: Vec<Record>,
    /// Segments with bytes that could not be read, which are kept apart, and how many bytes that are.
    pub damaged: Vec<(PathBuf, usize)>,
    /// By how much the clock had been ahead (or behind, if negative) when frames were written, at worst.
    pub clock_off_us: i64,
}

/// The number of a segment and the run of the machine it was written in, by its name.
fn parse_name(name: &str) -> Option<(u64, &str)> {
    let stem = name.strip_suffix(".heard")?;
    let (number, boot) = stem.split_once('-').unwrap_or((stem, ""));
    Some((number.parse().ok()?, boot))
}

impl Journal {
    /// Opens the journal in a folder, which is made if need be. Positions go on from what stands in it, or from
    /// `next_position` if that is further. `boot` names this run of the machine.
    pub(crate) fn open(folder: &Path, next_position: u64, (boot, clocks): (&str, Clocks)) -> io::Result<Opened> {
        fs::create_dir_all(folder)?;
        let mut found = Vec::new();
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            let name = entry.file_name();
            if let Some((number, of_boot)) = name.to_str().and_then(parse_name) {
                found.push((number, of_boot == boot, entry.path()));
            }
        }
        found.sort();
        let (mut records, mut this_boot): (Vec<Record>, Vec<bool>) = (Vec::new(), Vec::new());
        let (mut closed, mut damaged) = (VecDeque::new(), Vec::new());
        let mut next_position = next_position;
        for (number, same_boot, path) in &found {
            let bytes = fs::read(path)?;
            let read = record::read(&bytes);
            if read.torn > 0 {
                tracing::warn!(
                    segment = number,
                    "{} bytes at the end of a segment of the journal hold no frame",
                    read.torn
                );
            }
            if read.damaged > 0 {
                tracing::error!(segment = number, "{} bytes in a segment of the journal cannot be read", read.damaged);
                damaged.push((keep_damaged(folder, path)?, read.damaged));
            }
            let last = read.records.iter().filter_map(|record| record.position).max();
            next_position = next_position.max(last.map_or(0, |last| last + 1));
            this_boot.extend(read.records.iter().map(|_| *same_boot));
            records.extend(read.records);
            closed.push_back(Segment {
                number: *number,
                path: path.clone(),
                bytes: bytes.len() as u64,
                last_position: last.unwrap_or(0),
                last_heard: Timestamp::default(),
            });
        }
        let clock_off_us = rebase::rebase(&mut records, |at| this_boot[at], clocks);
        // Whatever is in them was heard before now.
        closed.iter_mut().for_each(|segment| segment.last_heard = clocks.now);
        let number = found.last().map_or(1, |(last, ..)| last + 1);
        let (current, file) = begin(folder, number, boot)?;
        let journal = Self {
            folder: folder.into(),
            boot: boot.to_owned(),
            current,
            file,
            broken: false,
            closed,
            next_position,
            buffer: Vec::new(),
            unsynced: false,
        };
        Ok(Opened { journal, records, damaged, clock_off_us })
    }

    /// The position of the next frame.
    pub(crate) fn next_position(&self) -> u64 {
        self.next_position
    }

    /// Writes frames, all of them or none; gives the position of the first. A position is never given out twice, not
    /// even that of a frame that could not be written.
    pub(crate) fn append(&mut self, frames: &[FrameHeard], since_boot_us: i64) -> (u64, io::Result<()>) {
        let first = self.next_position;
        self.next_position += frames.len() as u64;
        (first, self.write(frames, first, since_boot_us))
    }

    fn write(&mut self, frames: &[FrameHeard], first: u64, since_boot_us: i64) -> io::Result<()> {
        if self.broken || self.current.bytes >= SEGMENT_BYTES {
            let (next, file) = begin(&self.folder, self.current.number + 1, &self.boot)?;
            self.closed.push_back(std::mem::replace(&mut self.current, next));
            self.file = file;
            self.broken = false;
        }
        self.buffer.clear();
        for (frame, position) in frames.iter().zip(first..) {
            record::write(&mut self.buffer, position, since_boot_us, frame)?;
        }
        if let Err(error) = self.file.write_all(&self.buffer) {
            // An incomplete record is skipped by readers, but it should not stay.
            self.broken = self.file.set_len(self.current.bytes).is_err();
            return Err(error);
        }
        self.unsynced = true;
        self.current.bytes += self.buffer.len() as u64;
        self.current.last_position = first + (frames.len() as u64).saturating_sub(1);
        let heard = frames.iter().map(|frame| frame.reception.heard_at).max();
        self.current.last_heard = heard.unwrap_or(self.current.last_heard);
        Ok(())
    }

    /// Everything up to this mark is done: removes the segments that hold nothing else. What was heard up to
    /// `looks_back_us` before it may still be needed to know copies again.
    pub(crate) fn done(&mut self, mark: Mark, looks_back_us: i64) {
        let done = |segment: &mut Segment| {
            let recent = mark.processed_until.since(segment.last_heard).abs() <= looks_back_us;
            segment.last_position < mark.position && !recent
        };
        while let Some(segment) = self.closed.pop_front_if(|oldest| done(oldest)) {
            if let Err(error) = fs::remove_file(&segment.path) {
                tracing::warn!(segment = segment.number, "a finished segment of the journal stays: {error}");
            }
        }
    }

    /// Bytes on disk.
    pub(crate) fn bytes(&self) -> u64 {
        self.closed.iter().map(|segment| segment.bytes).sum::<u64>() + self.current.bytes
    }

    /// The file to sync so that everything written so far survives a power cut.
    pub(crate) fn unsynced(&mut self) -> Option<File> {
        if !std::mem::take(&mut self.unsynced) {
            return None;
        }
        self.file.try_clone().ok()
    }
}

/// Begins a segment. One that was begun before and could not be finished, on a full disk, leaves nothing in the way.
fn begin(folder: &Path, mut number: u64, boot: &str) -> io::Result<(Segment, File)> {
    loop {
        let path = folder.join(format!("{number:016}-{boot}.heard"));
        let mut file = match OpenOptions::new().create_new(true).append(true).open(&path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                number += 1;
                continue;
            }
            Err(error) => return Err(error),
        };
        if let Err(error) = file.write_all(record::HEADER) {
            let _ = fs::remove_file(&path);
            return Err(error);
        }
        let bytes = record::HEADER.len() as u64;
        return Ok((Segment { number, path, bytes, last_position: 0, last_heard: Timestamp::default() }, file));
    }
}

/// Copies a damaged segment to a folder where it stays; returns the copy's path.
fn keep_damaged(folder: &Path, path: &Path) -> io::Result<PathBuf> {
    let kept = folder.join("damaged");
    fs::create_dir_all(&kept)?;
    let place = kept.join(path.file_name().unwrap_or_default());
    let there = fs::read_dir(&kept)?.count();
    if there < KEPT_DAMAGED {
        fs::copy(path, &place)?;
    }
    Ok(place)
}

#[cfg(test)]
mod tests {
    use engine::Reception;
    use lorawan::{Eui64, Modulation};

    use super::*;

    const CLOCKS: Clocks = Clocks { now: Timestamp(1_000_000_000), since_boot_us: 0 };

    pub(super) fn frame(at: i64, phy_payload: Vec<u8>) -> FrameHeard {
        let reception = Reception {
            gateway: Eui64(7),
            heard_at: Timestamp(at),
            clock_us: at as u32,
            has_gps: false,
            frequency_hz: 868_100_000,
            modulation: Modulation::lora(9, 125).unwrap(),
            rssi_dbm: -97.0,
            snr_db: Some(2.5),
        };
        FrameHeard { phy_payload, reception }
    }

    fn open(folder: &Path) -> (Journal, Vec<FrameHeard>) {
        let opened = Journal::open(folder, 0, ("run1", CLOCKS)).unwrap();
        (opened.journal, opened.records.into_iter().map(|record| record.frame).collect())
    }

    fn segments(folder: &Path) -> Vec<PathBuf> {
        let mut all: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
        all.retain(|path| path.is_file());
        all.sort();
        all
    }

    fn append(journal: &mut Journal, frames: &[FrameHeard]) -> u64 {
        let (first, written) = journal.append(frames, frames[0].reception.heard_at.0 - CLOCKS.now.0);
        written.unwrap();
        first
    }

    #[test]
    fn what_was_written_is_there_after_a_kill_and_positions_go_on() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, nothing) = open(folder.path());
        assert_eq!(nothing, []);
        let heard = [frame(1, vec![1; 30]), frame(2, vec![]), frame(3, vec![9; 255])];
        assert_eq!(append(&mut journal, &heard[..2]), 0);
        assert_eq!(append(&mut journal, &heard[2..]), 2);
        drop(journal);
        let (mut journal, found) = open(folder.path());
        assert_eq!(found, heard);
        assert_eq!(append(&mut journal, &[frame(4, vec![4])]), 3);
        let (_, found) = open(folder.path());
        assert_eq!((found.len(), &found[3]), (4, &frame(4, vec![4])));
        // The database may have seen more than an emptied folder has.
        let elsewhere = tempfile::tempdir().unwrap();
        let opened = Journal::open(elsewhere.path(), 90, ("run1", CLOCKS)).unwrap();
        assert_eq!(opened.journal.next_position(), 90);
    }

    #[test]
    fn a_segment_goes_when_all_of_it_is_done() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, _) = open(folder.path());
        let mut at = 0;
        while segments(folder.path()).len() < 4 {
            at += 1000;
            append(&mut journal, &vec![frame(at, vec![0; 250]); 1000]);
        }
        assert!(journal.bytes() > 3 * SEGMENT_BYTES);
        let second = journal.closed[1].clone();
        let mark = |position, until: i64| Mark { position, processed_until: Timestamp(until) };
        journal.done(mark(second.last_position, second.last_heard.0 + 100), 50);
        assert_eq!(segments(folder.path()).len(), 3, "only the first is done");
        journal.done(mark(u64::MAX, second.last_heard.0 + 10), 50);
        assert_eq!(segments(folder.path()).len(), 3, "the second may still have copies of what comes");
        // The clock was put back by a lot: it is done all the same.
        journal.done(mark(u64::MAX, -9_000_000), 50);
        assert_eq!(segments(folder.path()).len(), 1, "the one that is written to stays");
    }

    #[test]
    fn a_torn_record_hides_none_before_it_nor_behind_it() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, _) = open(folder.path());
        append(&mut journal, &[frame(1, vec![1; 20]), frame(2, vec![2; 20])]);
        drop(journal);
        let file = segments(folder.path()).remove(0);
        let whole = fs::read(&file).unwrap();
        for len in 0..whole.len() {
            fs::write(&file, &whole[..len]).unwrap();
            let (_, found) = open(folder.path());
            assert!(found.len() < 2 && found.iter().all(|f| *f == frame(1, vec![1; 20])), "{len} bytes");
            segments(folder.path())[1..].iter().for_each(|path| fs::remove_file(path).unwrap());
        }
    }

    #[test]
    fn a_damaged_segment_is_kept_aside_and_the_rest_of_it_read() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, _) = open(folder.path());
        let heard: Vec<FrameHeard> = (0..100).map(|n| frame(n, vec![n as u8; 20])).collect();
        append(&mut journal, &heard);
        drop(journal);
        let file = segments(folder.path()).remove(0);
        let mut bytes = fs::read(&file).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        fs::write(&file, &bytes).unwrap();
        let opened = Journal::open(folder.path(), 0, ("run1", CLOCKS)).unwrap();
        assert_eq!(opened.records.len(), 99);
        assert_eq!((opened.damaged.len(), fs::read(&opened.damaged[0].0).unwrap()), (1, bytes));
        assert_eq!(opened.journal.next_position(), 100);
    }

    /// A small file system of its own, in memory; none where it may not be mounted.
    fn small_disk() -> Option<(tempfile::TempDir, impl Drop)> {
        struct Mounted(PathBuf);
        impl Drop for Mounted {
            fn drop(&mut self) {
                let _ = std::process::Command::new("umount").arg(&self.0).status();
            }
        }
        let folder = tempfile::tempdir().unwrap();
        let mounted = std::process::Command::new("mount")
            .args(["-t", "tmpfs", "-o", "size=5m", "tmpfs"])
            .arg(folder.path())
            .status();
        if !mounted.is_ok_and(|status| status.success()) {
            eprintln!("no file system can be mounted here: run as root to test a full disk");
            return None;
        }
        let mounted = Mounted(folder.path().into());
        Some((folder, mounted))
    }

    #[test]
    fn a_disk_that_was_full_is_written_to_again_once_there_is_room() {
        let Some((folder, _mounted)) = small_disk() else { return };
        let (mut journal, _) = open(folder.path());
        let ballast = folder.path().join("ballast");
        let some = vec![frame(5, vec![7; 250]); 1000];
        let mut written = 0;
        // Filled at the moment when a segment is full, so that the next cannot be begun.
        while journal.current.bytes < SEGMENT_BYTES {
            append(&mut journal, &some);
            written += some.len();
        }
        let filled = fs::write(&ballast, vec![0; 5 << 20]);
        assert!(filled.is_err());
        for _ in 0..3 {
            assert!(journal.append(&some[..1], 0).1.is_err(), "it is full");
        }
        fs::remove_file(&ballast).unwrap();
        append(&mut journal, &some[..10]);
        // And in the midst of a segment.
        assert!(fs::write(&ballast, vec![0; 5 << 20]).is_err());
        while journal.append(&some, 0).1.is_ok() {
            written += some.len();
        }
        fs::remove_file(&ballast).unwrap();
        append(&mut journal, &some[..7]);
        drop(journal);
        assert_eq!(open(folder.path()).1.len(), written + 17);
    }
}

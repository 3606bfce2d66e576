//! What gateways heard, on disk before anybody acts on it.
//!
//! MariaDB learns of a frame when its copies have been collected, or much later while it is away. A service
//! that is killed in between finds here what it has yet to do; at no other time is anything read back. A
//! frame stands here before its gateway is told that it has arrived.
//!
//! Frames stand in segments, files that only grow. A segment goes once everything in it is done. A record is
//! its length, a checksum, and the frame as postcard writes it; what a kill tears off at the end of a segment
//! was acknowledged to nobody.
//!
//! The kernel keeps what was written, so a killed service loses nothing. A power cut may take what was heard
//! in the last [`SYNC_EVERY`].

use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use engine::{FrameHeard, Timestamp};

/// A segment is closed when it has grown to this.
const SEGMENT_BYTES: u64 = 4 << 20;
/// The first bytes of a segment: what it is, and the version of what follows.
const HEADER: &[u8; 8] = b"heard\0\0\x01";
/// Length and checksum before a frame.
const RECORD_HEADER: usize = 8;
/// How often what was written is made safe from a power cut.
pub const SYNC_EVERY: Duration = Duration::from_millis(100);

/// The journal, open for writing.
pub struct Journal {
    folder: PathBuf,
    current: Segment,
    file: File,
    closed: VecDeque<Segment>,
    buffer: Vec<u8>,
    unsynced: bool,
}

/// A segment: its number, its size, and when the last frame in it was heard.
#[derive(Debug, Clone, Copy)]
struct Segment {
    number: u64,
    bytes: u64,
    last: Timestamp,
}

fn path(folder: &Path, number: u64) -> PathBuf {
    folder.join(format!("{number:016}.heard"))
}

impl Journal {
    /// Opens the journal in a folder, which is made if need be, and gives what stands in it, in order.
    pub fn open(folder: &Path) -> io::Result<(Self, Vec<FrameHeard>)> {
        fs::create_dir_all(folder)?;
        let mut numbers = Vec::new();
        for entry in fs::read_dir(folder)? {
            let name = entry?.file_name();
            let number = name.to_str().and_then(|name| name.strip_suffix(".heard")).and_then(|n| n.parse::<u64>().ok());
            numbers.extend(number);
        }
        numbers.sort_unstable();
        let mut frames = Vec::new();
        let mut closed = VecDeque::new();
        for number in numbers.iter().copied() {
            let bytes = fs::read(path(folder, number))?;
            let before = frames.len();
            let unread = read(&bytes, &mut frames);
            if unread > 0 {
                tracing::warn!(segment = number, "{unread} bytes at the end of a segment of the journal hold no frame");
            }
            let last = frames[before..].iter().map(|frame| frame.reception.heard_at).max().unwrap_or_default();
            closed.push_back(Segment { number, bytes: bytes.len() as u64, last });
        }
        let (current, file) = begin(folder, numbers.last().map_or(1, |last| last + 1))?;
        let journal = Self { folder: folder.into(), current, file, closed, buffer: Vec::new(), unsynced: false };
        Ok((journal, frames))
    }

    /// Writes frames, all of them or none.
    pub fn append(&mut self, frames: &[FrameHeard]) -> io::Result<()> {
        if self.current.bytes >= SEGMENT_BYTES {
            let (next, file) = begin(&self.folder, self.current.number + 1)?;
            self.closed.push_back(std::mem::replace(&mut self.current, next));
            self.file = file;
        }
        self.buffer.clear();
        for frame in frames {
            write(&mut self.buffer, frame)?;
        }
        if let Err(error) = self.file.write_all(&self.buffer) {
            // A half-written record would hide what is written behind it.
            self.file.set_len(self.current.bytes)?;
            return Err(error);
        }
        self.unsynced = true;
        self.current.bytes += self.buffer.len() as u64;
        self.current.last = frames.iter().map(|frame| frame.reception.heard_at).fold(self.current.last, Timestamp::max);
        Ok(())
    }

    /// Everything heard until then is done: removes the segments that hold nothing else.
    pub fn done(&mut self, until: Timestamp) {
        while let Some(segment) = self.closed.pop_front_if(|oldest| oldest.last <= until) {
            if let Err(error) = fs::remove_file(path(&self.folder, segment.number)) {
                tracing::warn!(segment = segment.number, "a finished segment of the journal stays: {error}");
            }
        }
    }

    /// Bytes on disk.
    pub fn bytes(&self) -> u64 {
        self.closed.iter().map(|segment| segment.bytes).sum::<u64>() + self.current.bytes
    }

    /// What has to be synced for everything written so far to be safe from a power cut.
    pub fn unsynced(&mut self) -> Option<File> {
        if !std::mem::take(&mut self.unsynced) {
            return None;
        }
        self.file.try_clone().ok()
    }
}

fn begin(folder: &Path, number: u64) -> io::Result<(Segment, File)> {
    let mut file = OpenOptions::new().create_new(true).append(true).open(path(folder, number))?;
    file.write_all(HEADER)?;
    Ok((Segment { number, bytes: HEADER.len() as u64, last: Timestamp::default() }, file))
}

fn write(buffer: &mut Vec<u8>, frame: &FrameHeard) -> io::Result<()> {
    let start = buffer.len();
    buffer.extend([0; RECORD_HEADER]);
    // Appends, and gives the buffer back.
    *buffer = postcard::to_extend(frame, std::mem::take(buffer)).map_err(io::Error::other)?;
    let body = &buffer[start + RECORD_HEADER..];
    let (len, sum) = (body.len() as u32, crc32fast::hash(body));
    buffer[start..start + 4].copy_from_slice(&len.to_le_bytes());
    buffer[start + 4..start + RECORD_HEADER].copy_from_slice(&sum.to_le_bytes());
    Ok(())
}

/// Reads a segment up to the first record that is not whole; says how many bytes were left unread.
fn read(segment: &[u8], frames: &mut Vec<FrameHeard>) -> usize {
    let Some(mut rest) = segment.strip_prefix(HEADER) else { return segment.len() };
    while let Some((frame, after)) = record(rest) {
        frames.push(frame);
        rest = after;
    }
    rest.len()
}

fn record(bytes: &[u8]) -> Option<(FrameHeard, &[u8])> {
    let (len, bytes) = bytes.split_first_chunk::<4>()?;
    let (sum, bytes) = bytes.split_first_chunk::<4>()?;
    let (body, after) = bytes.split_at_checked(u32::from_le_bytes(*len) as usize)?;
    if crc32fast::hash(body) != u32::from_le_bytes(*sum) {
        return None;
    }
    Some((postcard::from_bytes(body).ok()?, after))
}

#[cfg(test)]
mod tests {
    use engine::Reception;
    use lorawan::{Eui64, Modulation};
    use proptest::prelude::*;

    use super::*;

    fn frame(at: i64, phy_payload: Vec<u8>) -> FrameHeard {
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

    fn segments(folder: &Path) -> Vec<PathBuf> {
        let mut all: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
        all.sort();
        all
    }

    #[test]
    fn what_was_written_is_there_after_a_kill() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, nothing) = Journal::open(folder.path()).unwrap();
        assert_eq!(nothing, []);
        let heard = [frame(1, vec![1; 30]), frame(2, vec![]), frame(3, vec![9; 255])];
        journal.append(&heard[..2]).unwrap();
        journal.append(&heard[2..]).unwrap();
        drop(journal);
        let (mut journal, found) = Journal::open(folder.path()).unwrap();
        assert_eq!(found, heard);
        journal.append(&[frame(4, vec![4])]).unwrap();
        let (_, found) = Journal::open(folder.path()).unwrap();
        assert_eq!((found.len(), &found[3]), (4, &frame(4, vec![4])));
    }

    #[test]
    fn a_segment_goes_when_all_of_it_is_done() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, _) = Journal::open(folder.path()).unwrap();
        let mut at = 0;
        while segments(folder.path()).len() < 4 {
            at += 1;
            journal.append(&vec![frame(at, vec![0; 250]); 1000]).unwrap();
        }
        assert!(journal.bytes() > 3 * SEGMENT_BYTES);
        let ends: Vec<Timestamp> = journal.closed.iter().map(|segment| segment.last).collect();
        journal.done(Timestamp(ends[1].0 - 1));
        assert_eq!(segments(folder.path()).len(), 3, "only the first is done");
        journal.done(Timestamp(at));
        assert_eq!(segments(folder.path()).len(), 1, "the one that is written to stays");
        let (_, found) = Journal::open(folder.path()).unwrap();
        assert!(found.iter().all(|frame| frame.reception.heard_at > ends[2]));
    }

    #[test]
    fn a_torn_record_hides_none_before_it() {
        let folder = tempfile::tempdir().unwrap();
        let (mut journal, _) = Journal::open(folder.path()).unwrap();
        journal.append(&[frame(1, vec![1; 20]), frame(2, vec![2; 20])]).unwrap();
        let file = path(folder.path(), 1);
        let whole = fs::read(&file).unwrap();
        for len in 0..whole.len() {
            fs::write(&file, &whole[..len]).unwrap();
            let (_, found) = Journal::open(folder.path()).unwrap();
            assert!(found.len() < 2 && found.iter().all(|f| *f == frame(1, vec![1; 20])), "{len} bytes");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_without_harm(bytes: Vec<u8>, at in 0usize..200, flip: u8) {
            let mut frames = Vec::new();
            read(&[&HEADER[..], &bytes].concat(), &mut frames);
            let mut record = Vec::new();
            write(&mut record, &frame(5, bytes)).unwrap();
            let at = at % record.len();
            record[at] ^= flip;
            let mut found = Vec::new();
            read(&[&HEADER[..], &record].concat(), &mut found);
            prop_assert_eq!(found.len(), usize::from(flip == 0), "a changed record is not taken");
        }
    }
}

//! A frame as it stands in the journal, and reading segments that may be damaged.
//!
//! A record is two marking bytes, its length, a checksum over what follows, the frame's position, the time since the
//! machine was started, and the frame as postcard writes it. What does not add up is skipped up to the next record
//! that does: a flipped bit costs one frame, not all behind it.

use std::io;

use engine::FrameHeard;

/// The first bytes of a segment: what it is, and the version of what follows.
pub(super) const HEADER: &[u8; 8] = b"heard\0\0\x02";
/// The version before: no marks, positions or second clock.
const HEADER_1: &[u8; 8] = b"heard\0\0\x01";
/// What each record begins with.
const MARK: [u8; 2] = [0xc5, 0x3a];
/// Marks, length and checksum.
const RECORD_HEADER: usize = 10;
/// Position and time since the machine's start.
const FIXED: usize = 16;
/// No record is longer: a frame has 255 bytes at most.
const LONGEST: usize = 2048;

/// A frame of the journal.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Record {
    /// Counts all frames that were ever written; nothing of the version before had one.
    pub position: Option<u64>,
    /// By the clock that runs from the machine's start and is never set. Absent in the version before.
    pub since_boot_us: Option<i64>,
    pub frame: FrameHeard,
    /// By how much the time at which it was heard has been corrected since it was written.
    pub moved_us: i64,
}

/// The content of a segment.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Read {
    pub records: Vec<Record>,
    /// Bytes that are not a record, with records after them: damage.
    pub damaged: usize,
    /// An incomplete record at the end: its writing was interrupted, and it was not acknowledged.
    pub torn: usize,
}

/// Appends a record.
pub(super) fn write(buffer: &mut Vec<u8>, position: u64, since_boot_us: i64, frame: &FrameHeard) -> io::Result<()> {
    let start = buffer.len();
    buffer.extend(MARK);
    buffer.extend([0; RECORD_HEADER - MARK.len()]);
    buffer.extend(position.to_le_bytes());
    buffer.extend(since_boot_us.to_le_bytes());
    // Appends, and gives the buffer back.
    *buffer = postcard::to_extend(frame, std::mem::take(buffer)).map_err(io::Error::other)?;
    let body = &buffer[start + RECORD_HEADER..];
    let (len, sum) = (body.len() as u32, crc32fast::hash(body));
    buffer[start + 2..start + 6].copy_from_slice(&len.to_le_bytes());
    buffer[start + 6..start + RECORD_HEADER].copy_from_slice(&sum.to_le_bytes());
    Ok(())
}

/// Reads all of a segment that can be read.
pub(super) fn read(segment: &[u8]) -> Read {
    if let Some(rest) = segment.strip_prefix(HEADER_1) {
        return read_1(rest);
    }
    // A damaged header hides nothing: records are known by themselves.
    let mut rest = segment.get(HEADER.len()..).unwrap_or_default();
    let mut found = Read { torn: usize::from(!segment.is_empty() && !segment.starts_with(HEADER)), ..Read::default() };
    while !rest.is_empty() {
        if let Some((record, after)) = record(rest) {
            found.records.push(record);
            found.damaged += std::mem::take(&mut found.torn);
            rest = after;
        } else {
            found.torn += 1;
            rest = &rest[1..];
        }
    }
    found
}

fn record(bytes: &[u8]) -> Option<(Record, &[u8])> {
    let (len, bytes) = bytes.strip_prefix(&MARK)?.split_first_chunk::<4>()?;
    let (sum, bytes) = bytes.split_first_chunk::<4>()?;
    let len = u32::from_le_bytes(*len) as usize;
    if !(FIXED..=LONGEST).contains(&len) {
        return None;
    }
    let (body, after) = bytes.split_at_checked(len)?;
    if crc32fast::hash(body) != u32::from_le_bytes(*sum) {
        return None;
    }
    let (position, body) = body.split_first_chunk::<8>()?;
    let (since_boot_us, body) = body.split_first_chunk::<8>()?;
    let record = Record {
        position: Some(u64::from_le_bytes(*position)),
        since_boot_us: Some(i64::from_le_bytes(*since_boot_us)),
        frame: postcard::from_bytes(body).ok()?,
        moved_us: 0,
    };
    Some((record, after))
}

/// A segment of the version before.
fn read_1(mut rest: &[u8]) -> Read {
    let mut found = Read::default();
    let record = |bytes: &[u8]| -> Option<(FrameHeard, usize)> {
        let (len, bytes) = bytes.split_first_chunk::<4>()?;
        let (sum, bytes) = bytes.split_first_chunk::<4>()?;
        let body = bytes.get(..u32::from_le_bytes(*len) as usize)?;
        (crc32fast::hash(body) == u32::from_le_bytes(*sum)).then_some(())?;
        Some((postcard::from_bytes(body).ok()?, 8 + body.len()))
    };
    while let Some((frame, len)) = record(rest) {
        found.records.push(Record { position: None, since_boot_us: None, frame, moved_us: 0 });
        rest = &rest[len..];
    }
    found.torn = rest.len();
    found
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::ingest::journal::tests::frame;

    fn segment(payloads: &[Vec<u8>]) -> (Vec<u8>, Vec<Record>) {
        let mut bytes = HEADER.to_vec();
        let records: Vec<Record> = payloads
            .iter()
            .zip(0..)
            .map(|(payload, n)| {
                let frame = frame(n, payload.clone());
                write(&mut bytes, n as u64, n * 10, &frame).unwrap();
                Record { position: Some(n as u64), since_boot_us: Some(n * 10), frame, moved_us: 0 }
            })
            .collect();
        (bytes, records)
    }

    #[test]
    fn a_segment_of_the_version_before_is_read() {
        let mut bytes = HEADER_1.to_vec();
        let body = postcard::to_stdvec(&frame(3, vec![7; 20])).unwrap();
        bytes.extend((body.len() as u32).to_le_bytes());
        bytes.extend(crc32fast::hash(&body).to_le_bytes());
        bytes.extend(&body);
        bytes.extend([1, 2, 3]);
        let read = read(&bytes);
        assert_eq!((read.records.len(), read.torn, read.damaged), (1, 3, 0));
        assert_eq!((read.records[0].position, &read.records[0].frame), (None, &frame(3, vec![7; 20])));
    }

    proptest! {
        /// One flipped byte anywhere costs the record that it is in, and no other.
        #[test]
        fn a_flipped_byte_costs_one_record(
            payloads in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..60), 1..12),
            at: prop::sample::Index, flip in 1u8..,
        ) {
            let (mut bytes, records) = segment(&payloads);
            let at = at.index(bytes.len());
            bytes[at] ^= flip;
            // No single bit makes the header of one form that of another.
            prop_assume!(!bytes.starts_with(&HEADER_1[..]));
            let found = read(&bytes);
            let lost: Vec<&Record> = records.iter().filter(|record| !found.records.contains(record)).collect();
            prop_assert!(lost.len() <= 1, "{} of {} lost", lost.len(), records.len());
            prop_assert!(found.records.iter().all(|record| records.contains(record)));
            prop_assert_eq!(lost.is_empty(), at < HEADER.len());
            prop_assert!(found.damaged + found.torn > 0);
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes: Vec<u8>) {
            read(&bytes);
            read(&[&HEADER[..], &bytes].concat());
            read(&[&HEADER_1[..], &bytes].concat());
        }
    }
}

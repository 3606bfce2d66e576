//! Any PHYPayload taken apart: each field with its bytes, MAC commands in words, and with keys at hand
//! whether the MIC agrees and what stands behind the encryption.
//!
//! The frame parsers of [`crate::wire`] refuse a damaged frame as a whole. Here a person looks at it,
//! so what can be read is read, and the place is named from which on it makes no sense.

mod data;
mod join;
mod known;

pub use known::{Known, SessionKeysKnown};

use crate::region::Region;
use crate::wire::{MAX_PHY_PAYLOAD, MType};

/// A piece of the frame.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// First byte, counted from 0.
    pub at: usize,
    /// How many bytes.
    pub len: usize,
    /// The standard's name.
    pub name: &'static str,
    /// The value as it is written.
    pub value: String,
    /// What it means, where that is not plain.
    pub note: Option<String>,
    /// The bytes in the clear, where the frame holds them encrypted.
    pub clear: Option<Vec<u8>>,
    /// A part of the field before it with less depth: a MAC command within FOpts.
    pub depth: u8,
}

/// Where a frame cannot be decoded further.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stopped {
    /// The first wrong byte, counted from 0.
    pub at: usize,
    /// Why.
    pub why: String,
}

/// A counter that the frame may have been sent under.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CounterCandidate {
    /// All 32 bits.
    pub counter: u32,
    /// Why it is considered.
    pub origin: CounterOrigin,
    /// Whether the MIC agrees with it.
    pub agrees: bool,
}

/// Where a counter candidate comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CounterOrigin {
    /// It was given.
    Given,
    /// The next counter with these low bits after the last one accepted.
    Ahead,
    /// The last counter with these low bits that was already accepted: a repetition.
    Behind,
    /// Found by trying all upper halves.
    Searched,
}

/// Whether a MIC agrees under one version's rules.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// `1.0.x` or `1.1`.
    pub version: &'static str,
    /// The key or keys it was checked with.
    pub key: &'static str,
    /// Whether it agrees.
    pub agrees: bool,
    /// What that means, or what would be needed to tell.
    pub note: String,
    /// Counters tried, for data frames.
    pub counters: Vec<CounterCandidate>,
}

/// A decoded frame.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Report {
    /// The message type, if the first byte is there.
    pub mtype: Option<MType>,
    /// The frame in one sentence.
    pub summary: String,
    /// Its pieces, in order.
    pub fields: Vec<Field>,
    /// Where it cannot be decoded further, if it cannot.
    pub stopped: Option<Stopped>,
    /// MIC verdicts, if keys were known.
    pub verdicts: Vec<Verdict>,
    /// The application's payload in the clear, if it could be decrypted.
    pub payload: Option<Vec<u8>>,
}

impl Report {
    /// The verdict that agrees, if any.
    pub fn agreed(&self) -> Option<&Verdict> {
        self.verdicts.iter().find(|verdict| verdict.agrees)
    }

    fn stop(&mut self, at: usize, why: impl Into<String>) {
        self.stopped.get_or_insert(Stopped { at, why: why.into() });
    }
}

/// Takes `bytes` apart with what is known of their sender.
pub fn frame(bytes: &[u8], known: &Known) -> Report {
    let mut report = Report::default();
    let Some(&mhdr) = bytes.first() else {
        report.summary = "Nothing: no bytes.".into();
        report.stop(0, "a frame has at least one byte, the MHDR");
        return report;
    };
    let mtype = MType::of_bits(mhdr);
    report.mtype = Some(mtype);
    let mut reader = Reader { bytes, at: 0, report: &mut report };
    mhdr_field(&mut reader, mtype, mhdr);
    if mhdr & 0x03 != 0 {
        report.summary = format!("Not a LoRaWAN R1 frame: major version {}.", mhdr & 0x03);
        report.stop(0, format!("major version {} is not LoRaWAN R1 (0)", mhdr & 0x03));
        return report;
    }
    match mtype {
        MType::JoinRequest => join::request(reader, known),
        MType::JoinAccept => join::accept(reader, known),
        MType::RejoinRequest => join::rejoin(reader, known),
        MType::Proprietary => {
            let rest = reader.left();
            reader.take(rest, "MACPayload", |bytes| (hex::encode(bytes), Some("known to its maker only".into())));
            report.summary = format!("A proprietary frame of {}.", count(bytes.len()));
        }
        _ => data::data(reader, known),
    }
    if bytes.len() > MAX_PHY_PAYLOAD {
        report.stop(MAX_PHY_PAYLOAD, format!("{} bytes are more than a LoRa packet carries (255)", bytes.len()));
    }
    report
}

fn mhdr_field(reader: &mut Reader<'_, '_>, mtype: MType, mhdr: u8) {
    let reserved = (mhdr >> 2) & 0x07;
    let note = match reserved {
        0 => format!("major version R{}", (mhdr & 3) + 1),
        bits => format!("reserved bits are set: {bits:03b}"),
    };
    reader.take(1, "MHDR", |_| (mtype.name().into(), Some(note)));
}

/// Reads a frame from front to back and notes each piece; a piece that is not there stops the report.
struct Reader<'b, 'r> {
    bytes: &'b [u8],
    at: usize,
    report: &'r mut Report,
}

impl<'b> Reader<'b, '_> {
    fn left(&self) -> usize {
        self.bytes.len() - self.at
    }

    /// The next `len` bytes as a field; `None`, and the report is stopped, if they are not there.
    fn take(
        &mut self,
        len: usize,
        name: &'static str,
        words: impl FnOnce(&'b [u8]) -> (String, Option<String>),
    ) -> Option<&'b [u8]> {
        let at = self.at;
        let Some(piece) = self.bytes.get(at..at + len) else {
            let why = format!(
                "{name} should be {} from byte {at} on, but the frame ends after {}",
                count(len),
                count(self.bytes.len())
            );
            self.report.stop(at, why);
            return None;
        };
        let (value, note) = words(piece);
        self.report.fields.push(Field { at, len, name, value, note, clear: None, depth: 0 });
        self.at += len;
        Some(piece)
    }

    /// Bytes that no frame of this kind has.
    fn surplus(&mut self) {
        let len = self.left();
        if len > 0 {
            let at = self.at;
            self.take(len, "(surplus)", |bytes| (hex::encode(bytes), None));
            self.report.stop(at, format!("{} too many: the frame should end here", count(len)));
        }
    }
}

/// So many bytes, in words.
fn count(len: usize) -> String {
    if len == 1 { "1 byte".into() } else { format!("{len} bytes") }
}

/// An EUI as sent, and as it is written.
fn eui(bytes: &[u8]) -> (String, Option<String>) {
    let mut written = bytes.to_vec();
    written.reverse();
    (hex::encode(written), None)
}

/// A number sent least significant byte first.
fn number(bytes: &[u8]) -> u32 {
    bytes.iter().rev().fold(0, |n, byte| (n << 8) | u32::from(*byte))
}

/// A data rate of a region in words, or its index alone.
fn data_rate(region: Option<Region>, index: u8) -> String {
    region.map_or_else(|| format!("DR{index}"), |region| region.plan().data_rate_label(index))
}

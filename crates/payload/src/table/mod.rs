//! Field tables: a payload described instead of programmed, in TOML of our own layout (`docs/decoders.md`).
//!
//! A table has blocks. The first one that a payload's port, length and leading bytes fit says which fields are where; behind them
//! may come a group that repeats, or records that begin with a tag. Everything is checked when the table is loaded, so that
//! decoding is reading numbers from known places; and as the places are known, each reading knows its bytes.

pub mod field;
pub mod read;
pub mod write;

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::Deserialize;

use crate::outcome::{MAX_DEFINITION_BYTES, TableError};
use crate::readings::MAX_READINGS;
use crate::table::field::{Endian, Field, FieldSpec, MAX_PAYLOAD, check_name};

/// Blocks, commands, and records of a block, at most.
const MOST: usize = 256;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct TableSpec {
    #[serde(default)]
    endian: Endian,
    #[serde(default)]
    block: Vec<BlockSpec>,
    #[serde(default)]
    command: Vec<CommandSpec>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct BlockSpec {
    #[serde(default)]
    ports: Vec<u8>,
    /// Bytes the payload must have, no more and no less.
    length: Option<usize>,
    #[serde(default)]
    when: Vec<WhenSpec>,
    #[serde(default)]
    field: Vec<FieldSpec>,
    repeat: Option<RepeatSpec>,
    records: Option<RecordsSpec>,
    #[serde(default)]
    record: Vec<RecordSpec>,
}

/// A byte that must have one of some values.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct WhenSpec {
    #[serde(default)]
    pub(crate) at: usize,
    pub(crate) is: Vec<u8>,
    #[serde(default = "all_bits")]
    pub(crate) mask: u8,
}

fn all_bits() -> u8 {
    0xff
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RepeatSpec {
    /// What its readings' names begin with.
    name: String,
    /// Where the first one begins; behind the fields if not given.
    at: Option<usize>,
    /// Bytes of each; as many as its fields take if not given.
    bytes: Option<usize>,
    /// How many; to the end if not given.
    count: Option<usize>,
    field: Vec<FieldSpec>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordsSpec {
    /// Where the first tag is; behind the fields if not given.
    at: Option<usize>,
    #[serde(default = "one")]
    tag_bytes: usize,
    /// Bytes behind the tag that say how long the record is.
    #[serde(default)]
    length_bytes: usize,
    /// What is to be done about a tag that is not listed.
    #[serde(default)]
    unknown: Unknown,
}

fn one() -> usize {
    1
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Unknown {
    /// The payload is not read.
    #[default]
    Fail,
    /// It is passed over, which needs records that say how long they are.
    Skip,
    /// What came before counts.
    Stop,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RecordSpec {
    tag: u64,
    /// Bytes behind the tag; as many as its fields take if not given.
    bytes: Option<usize>,
    #[serde(default)]
    field: Vec<FieldSpec>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandSpec {
    port: u8,
    /// Bytes it begins with, in hex.
    #[serde(default)]
    lead: String,
    #[serde(default)]
    field: Vec<FieldSpec>,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Block {
    pub(crate) ports: Vec<u8>,
    pub(crate) length: Option<usize>,
    pub(crate) when: Vec<WhenSpec>,
    pub(crate) fields: Vec<Field>,
    pub(crate) tail: Tail,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Tail {
    None,
    Repeat { name: Arc<str>, at: usize, bytes: usize, count: Option<usize>, fields: Vec<Field> },
    Records { at: usize, tag_bytes: usize, length_bytes: usize, unknown: Unknown, records: BTreeMap<u64, Record> },
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Record {
    pub(crate) bytes: Option<usize>,
    pub(crate) fields: Vec<Field>,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Command {
    pub(crate) port: u8,
    pub(crate) lead: Vec<u8>,
    pub(crate) fields: Vec<Field>,
}

/// A field table that has been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct Table {
    pub(crate) endian: Endian,
    pub(crate) blocks: Vec<Block>,
    pub(crate) commands: Vec<Command>,
}

fn wrong(place: impl Into<String>, why: impl Into<String>) -> TableError {
    TableError::Wrong { place: place.into(), why: why.into() }
}

/// Checks fields that follow each other, or say where they are; `next` is where the first one is if it does not.
fn fields(place: &str, specs: Vec<FieldSpec>, mut next: usize, endian: Endian) -> Result<Vec<Field>, TableError> {
    let mut all: Vec<Field> = Vec::with_capacity(specs.len());
    if specs.len() > MAX_READINGS {
        return Err(wrong(place, format!("it has {} fields; {MAX_READINGS} are allowed", specs.len())));
    }
    for spec in specs {
        let here = format!("{place}, field {}", spec.name);
        let field = spec.check(next, endian).map_err(|why| wrong(&here, why))?;
        if all.iter().any(|other| other.name() == field.name()) {
            return Err(wrong(here, "another field has this name"));
        }
        if let Some(other) = all.iter().find(|other| other.meets(&field)) {
            let why = format!("it has bits in common with {}; if that is meant, say overlaps = true", other.name());
            return Err(wrong(here, why));
        }
        next = field.end().unwrap_or(MAX_PAYLOAD);
        all.push(field);
    }
    Ok(all)
}

/// Bytes that fields take, to the end of the one that ends last.
fn extent(fields: &[Field]) -> usize {
    fields.iter().filter_map(Field::end).max().unwrap_or(0)
}

impl BlockSpec {
    fn check(self, place: &str, endian: Endian) -> Result<Block, TableError> {
        if let Some(port) = self.ports.iter().find(|port| !(1..=223).contains(*port)) {
            return Err(wrong(place, format!("ports has {port}; 1 to 223 are allowed")));
        }
        if let Some(when) = self.when.iter().find(|when| when.at >= MAX_PAYLOAD || when.is.is_empty()) {
            return Err(wrong(
                place,
                format!("when at byte {}: a byte of a payload and its values are wanted", when.at),
            ));
        }
        let fields = fields(place, self.field, 0, endian)?;
        let behind = extent(&fields);
        let open = fields.iter().any(|field| field.end().is_none());
        let tail = match (self.repeat, self.records) {
            (None, None) if self.record.is_empty() => Tail::None,
            (None, None) => return Err(wrong(place, "it has a record and no [block.records] that says where")),
            (Some(_), Some(_)) => return Err(wrong(place, "it cannot have both repeat and records")),
            _ if open => return Err(wrong(place, "a field takes the rest, so nothing can follow")),
            (Some(repeat), None) => repeat.check(place, behind, endian)?,
            (None, Some(records)) => records.check(place, behind, self.record, endian)?,
        };
        Ok(Block { ports: self.ports, length: self.length, when: self.when, fields, tail })
    }
}

impl RepeatSpec {
    fn check(self, place: &str, behind: usize, endian: Endian) -> Result<Tail, TableError> {
        let place = format!("{place}, repeat {}", self.name);
        check_name(&self.name).map_err(|why| wrong(&place, why))?;
        let fields = fields(&place, self.field, 0, endian)?;
        let (at, bytes) = (self.at.unwrap_or(behind), self.bytes.unwrap_or_else(|| extent(&fields)));
        if fields.iter().any(|field| field.end().is_none_or(|end| end > bytes)) || bytes == 0 {
            return Err(wrong(place, format!("its fields do not lie within its {bytes} bytes")));
        }
        if at >= MAX_PAYLOAD || self.count.is_some_and(|count| count > MAX_PAYLOAD) {
            return Err(wrong(place, format!("no payload has more than {MAX_PAYLOAD} bytes")));
        }
        Ok(Tail::Repeat { name: self.name.into(), at, bytes, count: self.count, fields })
    }
}

impl RecordsSpec {
    fn check(self, place: &str, behind: usize, specs: Vec<RecordSpec>, endian: Endian) -> Result<Tail, TableError> {
        let Self { at, tag_bytes, length_bytes, unknown } = self;
        if !(1..=4).contains(&tag_bytes) || length_bytes > 2 {
            return Err(wrong(place, "tag_bytes is 1 to 4, length_bytes 0 to 2"));
        }
        if unknown == Unknown::Skip && length_bytes == 0 {
            return Err(wrong(place, "unknown records can only be skipped if length_bytes says how long they are"));
        }
        if specs.len() > MOST {
            return Err(wrong(place, format!("it has {} records; {MOST} are allowed", specs.len())));
        }
        let mut records = BTreeMap::new();
        for RecordSpec { tag, bytes, field } in specs {
            let place = format!("{place}, record {tag:#x}");
            if tag >> (8 * tag_bytes) != 0 {
                return Err(wrong(place, format!("its tag does not fit into {tag_bytes} bytes")));
            }
            let fields = fields(&place, field, 0, endian)?;
            let open = fields.iter().any(|field| field.end().is_none());
            let bytes = match (bytes, length_bytes) {
                (Some(bytes), _) => Some(bytes),
                (None, 0) if open => return Err(wrong(place, "a field takes the rest, so bytes is wanted")),
                (None, 0) => Some(extent(&fields)),
                (None, _) => None,
            };
            if bytes.is_some_and(|bytes| extent(&fields) > bytes) {
                return Err(wrong(place, "its fields do not lie within its bytes"));
            }
            if records.insert(tag, Record { bytes, fields }).is_some() {
                return Err(wrong(place, "another record has this tag"));
            }
        }
        Ok(Tail::Records { at: at.unwrap_or(behind), tag_bytes, length_bytes, unknown, records })
    }
}

impl CommandSpec {
    fn check(self, place: &str, endian: Endian) -> Result<Command, TableError> {
        if !(1..=223).contains(&self.port) {
            return Err(wrong(place, format!("port is {}; 1 to 223 are allowed", self.port)));
        }
        let lead = lorawan::text::bytes(&self.lead).map_err(|why| wrong(place, format!("lead: {why}")))?;
        let fields = fields(place, self.field, lead.len(), endian)?;
        if fields.iter().any(|field| field.span(&[]).start < lead.len()) {
            return Err(wrong(place, "a field lies in the bytes of its lead"));
        }
        Ok(Command { port: self.port, lead, fields })
    }
}

impl Table {
    /// Reads a table.
    ///
    /// # Errors
    /// If it is not TOML of this layout, or something in it cannot be: fields that overlap, reach out of any payload, or have no
    /// meaning. The place is named.
    pub fn new(source: &str) -> Result<Self, TableError> {
        if source.len() > MAX_DEFINITION_BYTES {
            return Err(TableError::TooLong(source.len()));
        }
        let spec: TableSpec = toml::from_str(source).map_err(|why| unreadable(source, &why))?;
        let TableSpec { endian, block, command } = spec;
        if block.is_empty() && command.is_empty() || block.len() > MOST || command.len() > MOST {
            return Err(wrong(
                "the table",
                format!("1 to {MOST} blocks are wanted ([[block]]), and up to {MOST} commands"),
            ));
        }
        let blocks = block.into_iter().enumerate();
        let blocks = blocks.map(|(n, block)| block.check(&format!("block {}", n + 1), endian));
        let commands = command.into_iter().enumerate();
        let commands = commands.map(|(n, command)| command.check(&format!("command {}", n + 1), endian));
        Ok(Self { endian, blocks: blocks.collect::<Result<_, _>>()?, commands: commands.collect::<Result<_, _>>()? })
    }
}

pub(crate) fn unreadable(source: &str, why: &toml::de::Error) -> TableError {
    let at = why.span().map_or(0, |span| span.start.min(source.len()));
    let before = source.get(..at).unwrap_or_default();
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().map_or(0, |last| last.chars().count()) + 1;
    TableError::Unreadable { line, column, message: why.message().to_owned() }
}

#[cfg(test)]
#[path = "table_tests.rs"]
mod tests;

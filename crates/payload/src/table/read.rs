//! Reading payloads by a field table.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use crate::outcome::TableReadError;
use crate::readings::{MAX_READINGS, Meaning, Reading};
use crate::table::field::{Endian, Field, FieldTrouble};
use crate::table::{Block, Record, Table, Tail, Unknown, WhenSpec};

impl Table {
    /// Reads a payload; appends what is in it to `out`.
    ///
    /// # Errors
    /// If no block is for such a payload, or it does not hold what its block says.
    pub fn decode(&self, port: u8, bytes: &[u8], out: &mut Vec<Reading>) -> Result<(), TableReadError> {
        let Some(block) = self.blocks.iter().find(|block| block.is_for(port, bytes)) else {
            return Err(TableReadError::NoBlock { port, length: bytes.len() });
        };
        read_fields(&block.fields, bytes, 0..bytes.len(), &Names::Plain, out)?;
        match &block.tail {
            Tail::None => Ok(()),
            Tail::Repeat { name, at, bytes: each, count, fields } => {
                let most = (bytes.len().saturating_sub(*at)) / each;
                for n in 0..count.unwrap_or(most) {
                    let start = at + n * each;
                    read_fields(fields, bytes, start..start + each, &Names::Nth(name, n), out)?;
                }
                Ok(())
            }
            Tail::Records { at, tag_bytes, length_bytes, unknown, records } => {
                let layout = Layout { tag_bytes: *tag_bytes, length_bytes: *length_bytes, endian: self.endian };
                read_records(bytes, *at, layout, *unknown, records, out)
            }
        }
    }
}

impl Block {
    fn is_for(&self, port: u8, bytes: &[u8]) -> bool {
        let is = |when: &WhenSpec| bytes.get(when.at).is_some_and(|byte| when.is.contains(&(byte & when.mask)));
        (self.ports.is_empty() || self.ports.contains(&port))
            && self.length.is_none_or(|length| length == bytes.len())
            && self.when.iter().all(is)
    }
}

/// How readings of a part are called.
enum Names<'a> {
    /// As their fields.
    Plain,
    /// One of several groups, from 0.
    Nth(&'a str, usize),
    /// A record that came so often before.
    Again(usize),
}

impl Names<'_> {
    fn of(&self, field: &Field) -> Arc<Meaning> {
        let named = |name: String| Meaning::new(name, field.of.unit.as_deref());
        match self {
            Names::Plain | Names::Again(0) => Arc::clone(&field.of),
            Names::Nth(group, n) => named(format!("{group}.{n}.{}", field.name())),
            Names::Again(n) => named(format!("{}.{n}", field.name())),
        }
    }
}

fn read_fields(
    fields: &[Field],
    payload: &[u8],
    part: Range<usize>,
    names: &Names<'_>,
    out: &mut Vec<Reading>,
) -> Result<(), TableReadError> {
    let block = payload.get(part.start..part.end.min(payload.len())).unwrap_or_default();
    for field in fields {
        if out.len() >= MAX_READINGS {
            break;
        }
        match field.read(block) {
            Ok(Some(value)) => {
                let span = field.span(block);
                let bytes = Some(part.start + span.start..part.start + span.end);
                out.push(Reading { of: names.of(field), value, bytes, at_ms: None });
            }
            Ok(None) => {}
            Err(FieldTrouble::TooShort { .. }) if field.optional => {}
            Err(FieldTrouble::TooShort { needs }) => {
                let field = names.of(field).name.clone();
                return Err(TableReadError::TooShort { field, needs: part.start + needs, has: payload.len() });
            }
            Err(FieldTrouble::Other(why)) => {
                return Err(TableReadError::Field { field: names.of(field).name.clone(), why });
            }
        }
    }
    Ok(())
}

#[derive(Clone, Copy)]
struct Layout {
    tag_bytes: usize,
    length_bytes: usize,
    endian: Endian,
}

fn read_records(
    payload: &[u8],
    mut at: usize,
    layout: Layout,
    unknown: Unknown,
    records: &BTreeMap<u64, Record>,
    out: &mut Vec<Reading>,
) -> Result<(), TableReadError> {
    let Layout { tag_bytes, length_bytes, endian } = layout;
    let short = |field: String, needs: usize| TableReadError::TooShort { field, needs, has: payload.len() };
    let mut seen: BTreeMap<u64, usize> = BTreeMap::new();
    while at < payload.len() {
        let head = tag_bytes + length_bytes;
        let Some(bytes) = payload.get(at..at + head) else { return Err(short("a record's tag".into(), at + head)) };
        // A tag is written as it stands in the payload, whatever the order of numbers.
        let tag = Endian::Big.number(&bytes[..tag_bytes]);
        let said = (length_bytes > 0).then(|| endian.number(&bytes[tag_bytes..]) as usize);
        let start = at + head;
        let Some(record) = records.get(&tag) else {
            match (unknown, said) {
                (Unknown::Stop, _) => return Ok(()),
                (Unknown::Skip, Some(length)) => {
                    at = start + length;
                    continue;
                }
                _ => return Err(TableReadError::UnknownTag { tag, at }),
            }
        };
        let length = said.or(record.bytes).unwrap_or(0);
        if start + length > payload.len() {
            return Err(short(format!("the record with tag {tag:#x}"), start + length));
        }
        let times = seen.entry(tag).or_default();
        read_fields(&record.fields, &payload[..start + length], start..start + length, &Names::Again(*times), out)?;
        *times += 1;
        at = start + length;
    }
    Ok(())
}

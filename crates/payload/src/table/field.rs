//! One field of a payload: where its bits are, and what they mean; read, and written the other way.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use serde::Deserialize;

use crate::readings::{Meaning, ReadingValue};

/// The largest payload a frame can carry at any data rate (RP002-1.0.4 §2.4.6).
pub(crate) const MAX_PAYLOAD: usize = 242;
/// Whole numbers up to this are exact as the numbers that readings are.
const MOST_BYTES: usize = 8;

/// Which byte of a number comes first.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Endian {
    /// The most significant one.
    #[default]
    Big,
    /// The least significant one.
    Little,
}

impl Endian {
    /// The number that bytes make; of more than eight, the last eight taken in.
    pub(crate) fn number(self, bytes: &[u8]) -> u64 {
        let add = |all: u64, byte: &u8| (all << 8) | u64::from(*byte);
        match self {
            Endian::Big => bytes.iter().fold(0, add),
            Endian::Little => bytes.iter().rev().fold(0, add),
        }
    }
}

/// What bits stand for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Kind {
    #[default]
    Unsigned,
    Signed,
    Bcd,
    Float,
    Flag,
    Choice,
    Text,
    Hex,
}

/// A field as a table has it.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct FieldSpec {
    pub(crate) name: String,
    /// Bytes from the beginning of its block; behind the field before if not given.
    at: Option<usize>,
    /// Bytes it lies in; as many as its bits need if not given.
    bytes: Option<usize>,
    /// Whether it goes on to the end, for text and hex.
    #[serde(default)]
    rest: bool,
    /// Its lowest bit within these bytes; 0 is the least significant one.
    low_bit: Option<u32>,
    bits: Option<u32>,
    endian: Option<Endian>,
    #[serde(default)]
    kind: Kind,
    scale: Option<f64>,
    offset: Option<f64>,
    unit: Option<String>,
    /// Words by number, for kind `choice`.
    #[serde(default)]
    choices: BTreeMap<String, String>,
    /// Numbers, as they stand in the payload, that mean that there is no reading.
    #[serde(default)]
    none: Vec<u64>,
    /// The least and the most that can be written.
    min: Option<f64>,
    max: Option<f64>,
    /// Whether it shares bits with another field on purpose.
    #[serde(default)]
    overlaps: bool,
    /// Whether a payload may end before it.
    #[serde(default)]
    optional: bool,
}

/// Multiplies, and divides by whole numbers where that is meant: 2413 / 1000 is 2.413, and 2413 · 0.001 is not quite.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Scale {
    Times(f64),
    Over(f64),
}

impl Scale {
    fn of(scale: f64) -> Self {
        let over = (1.0 / scale).round();
        let decimal = over.abs() > 1.0 && (over * scale - 1.0).abs() < 1e-12;
        if decimal { Scale::Over(over) } else { Scale::Times(scale) }
    }

    fn apply(self, raw: f64) -> f64 {
        match self {
            Scale::Times(by) => raw * by,
            Scale::Over(by) => raw / by,
        }
    }

    fn undo(self, value: f64) -> f64 {
        match self {
            Scale::Times(by) => value / by,
            Scale::Over(by) => value * by,
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
enum Means {
    Unsigned(Scale, f64),
    Signed(Scale, f64),
    Bcd(Scale, f64),
    Float(Scale, f64),
    Flag,
    Choice(BTreeMap<u64, Arc<str>>),
    Text,
    Hex,
}

/// A field that has been checked.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Field {
    pub(crate) of: Arc<Meaning>,
    /// Bytes from the beginning of its block.
    at: usize,
    /// Bytes it lies in; to the end if none.
    len: Option<usize>,
    endian: Endian,
    low_bit: u32,
    bits: u32,
    means: Means,
    none: Vec<u64>,
    min: f64,
    max: f64,
    overlaps: bool,
    pub(crate) optional: bool,
}

/// Why a field cannot be read or written.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum FieldTrouble {
    /// The payload ends before it.
    TooShort { needs: usize },
    /// In words.
    Other(String),
}

fn check(right: bool, why: impl FnOnce() -> String) -> Result<(), String> {
    if right { Ok(()) } else { Err(why()) }
}

/// A name for a reading: letters, digits, dots and underscores.
pub(crate) fn check_name(name: &str) -> Result<(), String> {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
    let good = !name.is_empty() && name.len() <= 80 && name.chars().all(plain) && !name.split('.').any(str::is_empty);
    check(good, || format!("{name:?} is no name: letters, digits, dots and underscores are allowed, at most 80"))
}

impl FieldSpec {
    /// Checks a field that begins at `next` if it does not say where.
    pub(crate) fn check(self, next: usize, endian: Endian) -> Result<Field, String> {
        check_name(&self.name)?;
        let (min, max) = (self.min.unwrap_or(f64::NEG_INFINITY), self.max.unwrap_or(f64::INFINITY));
        check(min <= max, || format!("min is {min} and max is {max}"))?;
        let at = self.at.unwrap_or(next);
        let len = self.checked_len(at)?;
        let (low_bit, bits) = self.checked_bits(len)?;
        let means = self.checked_meaning(len, bits)?;
        Ok(Field {
            of: Meaning::new(self.name, self.unit.as_deref()),
            at,
            len,
            endian: self.endian.unwrap_or(endian),
            low_bit,
            bits,
            means,
            none: self.none,
            min,
            max,
            overlaps: self.overlaps,
            optional: self.optional,
        })
    }

    /// Whether it takes whole bytes, of which there may be many.
    fn is_long(&self) -> bool {
        matches!(self.kind, Kind::Text | Kind::Hex)
    }

    /// Bits that its kind has without being told.
    fn one_bit(&self) -> Option<u32> {
        (self.kind == Kind::Flag).then_some(1)
    }

    /// Bytes it lies in; none if it goes on to the end.
    fn checked_len(&self, at: usize) -> Result<Option<usize>, String> {
        check(self.is_long() || !self.rest, || "rest is for text and hex".into())?;
        let len = match (self.rest, self.bytes) {
            (true, None) => None,
            (true, Some(_)) => return Err("bytes and rest cannot both be given".into()),
            (false, Some(bytes)) => Some(bytes),
            (false, None) => match self.bits.or(self.one_bit()) {
                Some(bits) => Some(self.low_bit.unwrap_or(0).saturating_add(bits).div_ceil(8) as usize),
                None => return Err("bytes or bits is wanted".into()),
            },
        };
        let most = if self.is_long() { MAX_PAYLOAD } else { MOST_BYTES };
        check(len.is_none_or(|len| (1..=most).contains(&len)), || {
            format!("it lies in {} bytes; 1 to {most} are allowed", len.unwrap_or(0))
        })?;
        let end = at.saturating_add(len.unwrap_or(0));
        check(at < MAX_PAYLOAD && end <= MAX_PAYLOAD, || {
            format!("it ends at byte {end}; no payload has more than {MAX_PAYLOAD}")
        })?;
        Ok(len)
    }

    /// Its lowest bit, and how many there are.
    fn checked_bits(&self, len: Option<usize>) -> Result<(u32, u32), String> {
        let partial = self.bits.is_some() || self.low_bit.is_some();
        let whole = self.is_long() || self.kind == Kind::Float;
        check(!(partial && whole), || "bits and low_bit are for whole numbers".into())?;
        let low_bit = self.low_bit.unwrap_or(0);
        let all = len.unwrap_or(0) as u32 * 8;
        let bits = self.bits.or(self.one_bit()).unwrap_or(all.saturating_sub(low_bit));
        check(self.is_long() || (bits >= 1 && low_bit.saturating_add(bits) <= all), || {
            format!("bits {low_bit} to {} are not all within its {all}", u64::from(low_bit) + u64::from(bits) - 1)
        })?;
        Ok((low_bit, bits))
    }

    fn checked_scale(&self) -> Result<(Scale, f64), String> {
        let numeric = matches!(self.kind, Kind::Unsigned | Kind::Signed | Kind::Bcd | Kind::Float);
        let given = self.scale.is_some() || self.offset.is_some();
        check(numeric || !given, || "scale and offset are for numbers".into())?;
        let (scale, offset) = (self.scale.unwrap_or(1.0), self.offset.unwrap_or(0.0));
        check(scale.is_finite() && scale != 0.0, || format!("scale is {scale}; a number other than 0 is wanted"))?;
        check(offset.is_finite(), || format!("offset is {offset}; a number is wanted"))?;
        Ok((Scale::of(scale), offset))
    }

    fn checked_meaning(&self, len: Option<usize>, bits: u32) -> Result<Means, String> {
        let (scale, offset) = self.checked_scale()?;
        check(self.kind == Kind::Choice || self.choices.is_empty(), || "choices are for kind \"choice\"".into())?;
        Ok(match self.kind {
            Kind::Unsigned => Means::Unsigned(scale, offset),
            Kind::Signed => Means::Signed(scale, offset),
            Kind::Bcd => {
                check(bits.is_multiple_of(4), || format!("{bits} bits are no whole digits: 4 are one"))?;
                Means::Bcd(scale, offset)
            }
            Kind::Float => {
                check(matches!(len, Some(2 | 4 | 8)), || "a float has 2, 4 or 8 bytes (IEEE 754)".into())?;
                Means::Float(scale, offset)
            }
            Kind::Flag => Means::Flag,
            Kind::Choice => {
                check(!self.choices.is_empty(), || "choices is wanted: words by number".into())?;
                let choice = |(number, word): (&String, &String)| match number.parse() {
                    Ok(number) => Ok((number, Arc::from(word.as_str()))),
                    Err(_) => Err(format!("choices has {number:?}, where a number is wanted")),
                };
                Means::Choice(self.choices.iter().map(choice).collect::<Result<_, _>>()?)
            }
            Kind::Text => Means::Text,
            Kind::Hex => Means::Hex,
        })
    }
}

impl Field {
    pub(crate) fn name(&self) -> &str {
        &self.of.name
    }

    /// Where its bytes end; none if they go on to the end.
    pub(crate) fn end(&self) -> Option<usize> {
        Some(self.at + self.len?)
    }

    /// Whether it has bits in common with another one.
    pub(crate) fn meets(&self, other: &Self) -> bool {
        if self.overlaps || other.overlaps {
            return false;
        }
        let (mine, theirs) = (self.positions(), other.positions());
        mine.iter().any(|(from, to)| theirs.iter().any(|(start, end)| from < end && start < to))
    }

    /// Its bits as they come on air, first and behind the last, counted from the most significant bit of the block's
    /// first byte.
    fn positions(&self) -> Vec<(usize, usize)> {
        let start = self.at * 8;
        let Some(len) = self.len else { return vec![(start, MAX_PAYLOAD * 8)] };
        let (low, high) = (self.low_bit as usize, (self.low_bit + self.bits) as usize);
        if matches!(self.means, Means::Text | Means::Hex) {
            return vec![(start, start + len * 8)];
        }
        match self.endian {
            Endian::Big => vec![(start + len * 8 - high, start + len * 8 - low)],
            // Byte by byte: the first holds bits 0 to 7.
            Endian::Little => (0..len)
                .filter_map(|byte| {
                    let (from, to) = (low.max(byte * 8), high.min(byte * 8 + 8));
                    let base = start + byte * 8;
                    (from < to).then(|| (base + byte * 8 + 8 - to, base + byte * 8 + 8 - from))
                })
                .collect(),
        }
    }

    /// Its bytes within a block.
    pub(crate) fn span(&self, block: &[u8]) -> Range<usize> {
        self.at..self.end().unwrap_or(block.len())
    }

    fn number(&self, bytes: &[u8]) -> u64 {
        let all = self.endian.number(bytes);
        let mask = if self.bits >= 64 { u64::MAX } else { (1 << self.bits) - 1 };
        (all >> self.low_bit) & mask
    }

    /// What stands in a block; nothing if it says that there is no reading.
    pub(crate) fn read(&self, block: &[u8]) -> Result<Option<ReadingValue>, FieldTrouble> {
        let span = self.span(block);
        let Some(bytes) = block.get(span.clone()) else { return Err(FieldTrouble::TooShort { needs: span.end }) };
        match &self.means {
            Means::Text => {
                let text = String::from_utf8_lossy(bytes);
                return Ok(Some(ReadingValue::Text(text.trim_end_matches(['\0', ' ']).to_owned())));
            }
            Means::Hex => {
                let hex = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
                return Ok(Some(ReadingValue::Text(hex)));
            }
            _ => {}
        }
        let raw = self.number(bytes);
        if self.none.contains(&raw) {
            return Ok(None);
        }
        let number = match &self.means {
            Means::Unsigned(scale, offset) => scale.apply(raw as f64) + offset,
            Means::Signed(scale, offset) => scale.apply(self.signed(raw) as f64) + offset,
            Means::Bcd(scale, offset) => scale.apply(self.digits(raw)? as f64) + offset,
            Means::Float(scale, offset) => {
                let value = scale.apply(float(raw, self.bits)) + offset;
                return Ok(value.is_finite().then_some(ReadingValue::Number(value)));
            }
            Means::Flag => return Ok(Some(ReadingValue::Boolean(raw != 0))),
            Means::Choice(choices) => {
                let word = choices.get(&raw).map_or_else(|| format!("{raw}"), ToString::to_string);
                return Ok(Some(ReadingValue::Text(word)));
            }
            Means::Text | Means::Hex => return Ok(None),
        };
        Ok(Some(ReadingValue::Number(number)))
    }

    fn signed(&self, raw: u64) -> i64 {
        let unused = 64 - self.bits;
        ((raw << unused) as i64) >> unused
    }

    fn digits(&self, raw: u64) -> Result<u64, FieldTrouble> {
        (0..self.bits / 4).rev().try_fold(0u64, |all, place| match raw >> (4 * place) & 0xf {
            digit @ 0..=9 => Ok(all * 10 + digit),
            other => Err(FieldTrouble::Other(format!("{other:x} is no decimal digit"))),
        })
    }

    /// Writes a value into a block that is grown as needed.
    pub(crate) fn write(&self, value: &serde_json::Value, block: &mut Vec<u8>) -> Result<(), String> {
        let mut put = |at: usize, bytes: &[u8]| {
            block.resize(block.len().max(at + bytes.len()), 0);
            block[at..at + bytes.len()].copy_from_slice(bytes);
        };
        let text = || value.as_str().ok_or_else(|| format!("{value} is given, a text is wanted"));
        let bytes = match &self.means {
            Means::Text => text()?.as_bytes().to_vec(),
            Means::Hex => lorawan::text::bytes(text()?).map_err(|why| why.to_string())?,
            _ => {
                let len = self.len.unwrap_or(0);
                let raw = self.raw(value)? << self.low_bit;
                let mut bytes = match self.endian {
                    Endian::Big => raw.to_be_bytes()[MOST_BYTES - len..].to_vec(),
                    Endian::Little => raw.to_le_bytes()[..len].to_vec(),
                };
                // Other fields may have bits in the same bytes.
                for (byte, old) in bytes.iter_mut().zip(block.get(self.at..).unwrap_or_default()) {
                    *byte |= old;
                }
                block.resize(block.len().max(self.at + len), 0);
                block[self.at..self.at + len].copy_from_slice(&bytes);
                return Ok(());
            }
        };
        let most = self.len.unwrap_or(MAX_PAYLOAD.saturating_sub(self.at));
        check(bytes.len() <= most, || format!("it has {} bytes, and {most} are there for it", bytes.len()))?;
        put(self.at, &bytes);
        if let Some(len) = self.len {
            put(self.at + bytes.len(), &vec![0; len - bytes.len()]);
        }
        Ok(())
    }

    fn raw(&self, value: &serde_json::Value) -> Result<u64, String> {
        let number = || {
            let number = value.as_f64().ok_or_else(|| format!("{value} is given, a number is wanted"))?;
            let (min, max) = (self.min, self.max);
            check((min..=max).contains(&number), || format!("{number} is given; {min} to {max} is allowed"))?;
            Ok::<f64, String>(number)
        };
        let whole = |scale: Scale, offset: f64, least: f64, most: f64| {
            let number = number()?;
            let raw = scale.undo(number - offset).round();
            let ends = (scale.apply(least) + offset, scale.apply(most) + offset);
            check((least..=most).contains(&raw), || format!("{number} is given; {} to {} fit", ends.0, ends.1))?;
            Ok::<f64, String>(raw)
        };
        let most = if self.bits >= 64 { u64::MAX } else { (1 << self.bits) - 1 };
        match &self.means {
            Means::Unsigned(scale, offset) => Ok(whole(*scale, *offset, 0.0, most as f64)? as u64),
            Means::Signed(scale, offset) => {
                let half = (most / 2) as f64;
                Ok(whole(*scale, *offset, -half - 1.0, half)? as i64 as u64 & most)
            }
            Means::Bcd(scale, offset) => {
                let digits = self.bits / 4;
                let number = whole(*scale, *offset, 0.0, 10f64.powi(digits as i32) - 1.0)? as u64;
                Ok((0..digits).fold((0, number), |(raw, left), place| (raw | (left % 10) << (4 * place), left / 10)).0)
            }
            Means::Float(scale, offset) => Ok(float_bits(scale.undo(number()? - offset), self.bits)),
            Means::Flag => match value.as_bool() {
                Some(flag) => Ok(u64::from(flag)),
                None => Err(format!("{value} is given, true or false is wanted")),
            },
            Means::Choice(choices) => {
                let word = value.as_str().ok_or_else(|| format!("{value} is given, a word is wanted"))?;
                let found = choices.iter().find(|(_, known)| &***known == word).map(|(number, _)| *number);
                found.filter(|number| *number <= most).ok_or_else(|| {
                    let known: Vec<&str> = choices.values().map(|word| &**word).collect();
                    format!("{word:?} is given; {} is allowed", known.join(", "))
                })
            }
            Means::Text | Means::Hex => Ok(0),
        }
    }
}

/// A number of IEEE 754, of 16, 32 or 64 bits.
fn float(raw: u64, bits: u32) -> f64 {
    match bits {
        16 => half(raw as u16),
        32 => f64::from(f32::from_bits(raw as u32)),
        _ => f64::from_bits(raw),
    }
}

/// Half precision: a sign, 5 bits of exponent, 10 of fraction (IEEE 754-2019 §3.6).
fn half(raw: u16) -> f64 {
    let sign = if raw >> 15 == 1 { -1.0 } else { 1.0 };
    let (exponent, fraction) = (i32::from(raw >> 10 & 0x1f), f64::from(raw & 0x3ff));
    sign * match exponent {
        0 => fraction * 2f64.powi(-24),
        31 if fraction == 0.0 => f64::INFINITY,
        31 => f64::NAN,
        _ => (1.0 + fraction / 1024.0) * 2f64.powi(exponent - 15),
    }
}

fn float_bits(value: f64, bits: u32) -> u64 {
    match bits {
        // The nearest of the 65,536 there are; commands are rare.
        16 => {
            let off = |raw: &u16| (half(*raw) - value).abs();
            let finite = (0..=u16::MAX).filter(|raw| half(*raw).is_finite());
            u64::from(finite.min_by(|a, b| off(a).total_cmp(&off(b))).unwrap_or(0))
        }
        32 => u64::from((value as f32).to_bits()),
        _ => value.to_bits(),
    }
}

#[cfg(test)]
#[path = "field_tests.rs"]
mod tests;

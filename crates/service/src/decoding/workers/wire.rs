//! The messages between the service and its decoder workers over a pipe: each a length and a postcard message.

use std::collections::BTreeMap;
use std::io::{self, Read, Write};
use std::sync::Arc;

use api::model::draft::DecoderProblem;
use domain::model::draft::decoder_problem;
use payload::{DecodeError, Decoded, Encoded, Meaning, Reading, ReadingValue};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

/// No message is longer: a script has 256 kB at most, a model with its tests a megabyte.
pub(crate) const LONGEST: usize = 4 << 20;

/// A request to a worker.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) enum Request {
    /// Takes a script under a number. Calls name it by that.
    Load { script: u64, source: Arc<str>, kind: ScriptKind },
    /// Lets all scripts go.
    Forget,
    /// Reads an uplink.
    Decode { script: u64, bytes: Vec<u8>, port: u8, time_ms: i64 },
    /// Finds the bytes of each reading of an uplink by trying.
    Trace { script: u64, bytes: Vec<u8>, port: u8, time_ms: i64 },
    /// Makes a downlink of named values, JSON.
    Encode { script: u64, values: String },
    /// Reads a downlink.
    ReadDownlink { script: u64, bytes: Vec<u8>, port: u8 },
    /// What is sent of a message, JSON.
    Transform { script: u64, message: String },
    /// Tries a model's scripts on its tests; the model is JSON.
    Flaw { model: String },
}

/// An answer of a worker.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum Answer {
    Loaded(Result<Loaded, Failure>),
    Forgotten,
    /// With the processor time that the call took.
    Decoded(Result<Found, Failure>, u32),
    Traced(BTreeMap<String, Vec<usize>>),
    Encoded(Result<Downlink, Failure>),
    Transformed(Result<Option<String>, Failure>),
    Flaw(Option<FoundFlaw>),
}

/// What a script is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub(crate) enum ScriptKind {
    /// Payloads.
    Decoder,
    /// Messages.
    Transform,
}

/// What is known of a script once it is loaded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Loaded {
    pub encodes: bool,
    pub reads_downlinks: bool,
    pub notes: Vec<String>,
}

/// What is wrong with a model's scripts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FoundFlaw {
    pub why: String,
    pub loads: bool,
}

/// Why a call ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Cause {
    /// It used up its steps.
    Steps,
    /// The clock ended it.
    Clock,
    /// Anything else.
    Other,
}

/// Why there is no result.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    pub cause: Cause,
    pub message: String,
    pub line: Option<u32>,
    pub column: Option<u32>,
    pub adapter: Option<String>,
}

impl Failure {
    /// A failure that is not the script's fault.
    pub fn other(cause: Cause, message: impl Into<String>) -> Self {
        Self { cause, message: message.into(), line: None, column: None, adapter: None }
    }
}

impl From<&DecodeError> for Failure {
    fn from(error: &DecodeError) -> Self {
        let DecoderProblem { message, line, column, adapter } = decoder_problem(error);
        let cause = if *error == DecodeError::TooSlow { Cause::Steps } else { Cause::Other };
        Self { cause, message, line, column, adapter }
    }
}

impl From<&Failure> for DecoderProblem {
    fn from(failure: &Failure) -> Self {
        let Failure { message, line, column, adapter, .. } = failure.clone();
        Self { message, line, column, adapter }
    }
}

/// The result of decoding one payload.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Found {
    readings: Vec<FoundReading>,
    warnings: Vec<String>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct FoundReading {
    name: String,
    unit: Option<String>,
    value: Value,
    bytes: Option<(usize, usize)>,
    at_ms: Option<i64>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum Value {
    Boolean(bool),
    Number(f64),
    Text(String),
}

impl From<Decoded> for Found {
    fn from(decoded: Decoded) -> Self {
        let reading = |reading: Reading| FoundReading {
            name: reading.of.name.clone(),
            unit: reading.of.unit.clone(),
            value: match reading.value {
                ReadingValue::Boolean(value) => Value::Boolean(value),
                ReadingValue::Number(value) => Value::Number(value),
                ReadingValue::Text(value) => Value::Text(value),
            },
            bytes: reading.bytes.map(|bytes| (bytes.start, bytes.end)),
            at_ms: reading.at_ms,
        };
        Self { readings: decoded.readings.into_iter().map(reading).collect(), warnings: decoded.warnings }
    }
}

impl From<Found> for Decoded {
    fn from(found: Found) -> Self {
        let reading = |reading: FoundReading| Reading {
            of: Arc::new(Meaning { name: reading.name, unit: reading.unit }),
            value: match reading.value {
                Value::Boolean(value) => ReadingValue::Boolean(value),
                Value::Number(value) => ReadingValue::Number(value),
                Value::Text(value) => ReadingValue::Text(value),
            },
            bytes: reading.bytes.map(|(start, end)| start..end),
            at_ms: reading.at_ms,
        };
        Self { readings: found.readings.into_iter().map(reading).collect(), warnings: found.warnings }
    }
}

/// A downlink as a script makes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Downlink {
    bytes: Vec<u8>,
    port: Option<u8>,
    warnings: Vec<String>,
}

impl From<Encoded> for Downlink {
    fn from(Encoded { bytes, port, warnings }: Encoded) -> Self {
        Self { bytes, port, warnings }
    }
}

impl From<Downlink> for Encoded {
    fn from(Downlink { bytes, port, warnings }: Downlink) -> Self {
        Self { bytes, port, warnings }
    }
}

/// Appends a message to a buffer, behind its length.
///
/// # Errors
/// If it is too long.
pub(crate) fn put(buffer: &mut Vec<u8>, message: &impl Serialize) -> io::Result<()> {
    let start = buffer.len();
    buffer.extend([0; 4]);
    *buffer = postcard::to_extend(message, std::mem::take(buffer)).map_err(io::Error::other)?;
    let len = buffer.len() - start - 4;
    if len > LONGEST {
        buffer.truncate(start);
        return Err(io::Error::other(format!("a message of {len} bytes, {LONGEST} are allowed")));
    }
    buffer[start..start + 4].copy_from_slice(&(len as u32).to_le_bytes());
    Ok(())
}

/// The first message of a buffer, with the bytes that it takes; none if it is not whole yet.
///
/// # Errors
/// If it cannot be read.
pub(crate) fn take<T: DeserializeOwned>(buffer: &[u8]) -> io::Result<Option<(T, usize)>> {
    let Some((len, rest)) = buffer.split_first_chunk::<4>() else { return Ok(None) };
    let len = u32::from_le_bytes(*len) as usize;
    if len > LONGEST {
        return Err(io::Error::other(format!("a message of {len} bytes, {LONGEST} are allowed")));
    }
    let Some(body) = rest.get(..len) else { return Ok(None) };
    Ok(Some((postcard::from_bytes(body).map_err(io::Error::other)?, 4 + len)))
}

/// Writes one message.
///
/// # Errors
/// If it is too long or cannot be written.
pub(crate) fn write(out: &mut impl Write, message: &impl Serialize) -> io::Result<()> {
    let mut buffer = Vec::with_capacity(256);
    put(&mut buffer, message)?;
    out.write_all(&buffer)?;
    out.flush()
}

/// Reads one message; none at the end.
///
/// # Errors
/// If it cannot be read, or ends early.
pub(crate) fn read<T: DeserializeOwned>(from: &mut impl Read, buffer: &mut Vec<u8>) -> io::Result<Option<T>> {
    let mut chunk = [0; 16 * 1024];
    loop {
        if let Some((message, taken)) = take(buffer)? {
            buffer.drain(..taken);
            return Ok(Some(message));
        }
        match from.read(&mut chunk)? {
            0 if buffer.is_empty() => return Ok(None),
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            n => buffer.extend(&chunk[..n]),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_message_is_read_as_it_was_written_however_it_arrives(
            names in prop::collection::vec(".{0,12}", 0..5), number: f64, cut: prop::sample::Index,
        ) {
            let readings = names.iter().map(|name| FoundReading {
                name: name.clone(), unit: None, value: Value::Number(number), bytes: Some((0, 2)), at_ms: Some(7),
            }).collect();
            let answer = Answer::Decoded(Ok(Found { readings, warnings: names.clone() }), 7);
            let mut bytes = Vec::new();
            put(&mut bytes, &answer).unwrap();
            let cut = cut.index(bytes.len());
            prop_assert!(take::<Answer>(&bytes[..cut]).unwrap().is_none());
            let (read, taken) = take::<Answer>(&bytes).unwrap().unwrap();
            prop_assert_eq!(taken, bytes.len());
            // Not a number is not equal to itself.
            prop_assert_eq!(format!("{read:?}"), format!("{answer:?}"));
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes: Vec<u8>) {
            let _ = take::<Answer>(&bytes);
            let _ = take::<Request>(&bytes);
        }
    }
}

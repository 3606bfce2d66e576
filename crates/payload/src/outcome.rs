//! What every decoder returns: readings or the bytes of a downlink, or why there are none.

use thiserror::Error;

use crate::readings::Reading;

/// The longest script taken, in bytes.
pub const MAX_SCRIPT_BYTES: usize = 256 * 1024;
/// The longest definition that is no script: a table, names for the low-power format, a form of text; in bytes.
pub const MAX_DEFINITION_BYTES: usize = 256 * 1024;

/// Where in a script something happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// Line, from 1.
    pub line: u32,
    /// Column, from 1.
    pub column: u32,
}

fn at(place: Option<Place>) -> String {
    place.map_or_else(String::new, |p| format!(" (line {}, column {})", p.line, p.column))
}

/// Why a script gave nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum DecodeError {
    /// The script is longer than [`MAX_SCRIPT_BYTES`].
    #[error("the script has {0} bytes, {MAX_SCRIPT_BYTES} are allowed")]
    TooLong(usize),
    /// The script does not parse, or throws before any function is called.
    #[error("the script does not load: {message}{}", at(*.place))]
    Load {
        /// The interpreter's message.
        message: String,
        /// Where.
        place: Option<Place>,
    },
    /// There is no such function.
    #[error("the script has no function {}(input)", .0.name())]
    Missing(Entry),
    /// There is none to decode with, but another that looks as if it were meant.
    #[error(
        "the script has no function decodeUplink(input), but {signature}. If that decodes, add this line: {adapter}"
    )]
    Otherwise {
        /// The other function.
        signature: String,
        /// What makes it be called.
        adapter: String,
    },
    /// The function threw.
    #[error("{} threw: {message}{}", .entry.name(), at(*.place))]
    Threw {
        /// Which one.
        entry: Entry,
        /// What was thrown.
        message: String,
        /// Where.
        place: Option<Place>,
    },
    /// The script ran longer than it may.
    #[error("the script was stopped: it ran too long, perhaps in an endless loop")]
    TooSlow,
    /// The script used more memory than it may.
    #[error("the script was stopped: it used more than {0} bytes of memory")]
    TooMuchMemory(usize),
    /// What came back is not what the function is to return.
    #[error("{} returned something else than {}: {}", .0.name(), .0.shape(), .1)]
    BadResult(Entry, String),
    /// The script itself reports that it cannot do it.
    #[error("the script reports: {}", .0.join("; "))]
    Reported(Vec<String>),
    /// The interpreter could not be started.
    #[error("the interpreter could not be started: {0}")]
    Interpreter(String),
    /// What is no script does not load.
    #[error("{0}")]
    Definition(#[from] TableError),
    /// A payload that is none of a field table.
    #[error("{0}")]
    Table(#[from] TableReadError),
    /// A payload that is not of the low-power format.
    #[error("{0}")]
    LowPower(#[from] LowPowerError),
    /// A payload that is no text of the form.
    #[error("{0}")]
    Text(#[from] TextError),
    /// Values that what is no script does not take.
    #[error("{0}")]
    NotWritten(String),
}

impl DecodeError {
    /// A line that, added to the script, makes it decode.
    pub fn adapter(&self) -> Option<&str> {
        match self {
            Self::Otherwise { adapter, .. } => Some(adapter),
            _ => None,
        }
    }

    /// Where in the decoder's source it is, if that is known.
    pub fn place(&self) -> Option<Place> {
        match self {
            Self::Load { place, .. } | Self::Threw { place, .. } => *place,
            Self::Definition(TableError::Unreadable { line, column, .. }) => {
                Some(Place { line: u32::try_from(*line).ok()?, column: u32::try_from(*column).ok()? })
            }
            _ => None,
        }
    }
}

/// The result of decoding one payload.
#[derive(Debug, Clone, PartialEq)]
pub struct Decoded {
    /// What was read, by name.
    pub readings: Vec<Reading>,
    /// What the script, or the reading of its result, found questionable.
    pub warnings: Vec<String>,
}

/// A function of a script that is called from outside (TS013-1.0.0 §4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// Bytes to readings.
    DecodeUplink,
    /// Named values to bytes.
    EncodeDownlink,
    /// The bytes of a downlink to named values.
    DecodeDownlink,
    /// A message to what is sent of it.
    Transform,
}

/// A downlink as a script makes it of named values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Encoded {
    /// The payload.
    pub bytes: Vec<u8>,
    /// FPort, if the script names one.
    pub port: Option<u8>,
    /// What the script found questionable.
    pub warnings: Vec<String>,
}

/// Why a table cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TableError {
    /// It is longer than [`MAX_DEFINITION_BYTES`].
    #[error("the table has {0} bytes, {MAX_DEFINITION_BYTES} are allowed")]
    TooLong(usize),
    /// It is not TOML, or has a field that tables do not have.
    #[error("line {line}, column {column}: {message}")]
    Unreadable {
        /// Line, from 1.
        line: usize,
        /// Column, from 1.
        column: usize,
        /// What is wrong.
        message: String,
    },
    /// Something in it cannot be.
    #[error("{place}: {why}")]
    Wrong {
        /// Which block, and which field.
        place: String,
        /// In words.
        why: String,
    },
}

/// Why a payload cannot be read by a table.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TableReadError {
    /// No block is for such a payload.
    #[error("no block of the table is for port {port} and {length} bytes that begin like this")]
    NoBlock {
        /// FPort.
        port: u8,
        /// Bytes there are.
        length: usize,
    },
    /// It ends too early.
    #[error("{field} needs {needs} bytes, and there are {has}")]
    TooShort {
        /// The field that is cut off.
        field: String,
        /// Bytes needed.
        needs: usize,
        /// Bytes there are.
        has: usize,
    },
    /// A field holds what it cannot.
    #[error("{field}: {why}")]
    Field {
        /// Which.
        field: String,
        /// In words.
        why: String,
    },
    /// A record begins with a tag that the table does not have.
    #[error("there is no record with tag {tag:#x}, which stands at byte {at}; what follows cannot be read")]
    UnknownTag {
        /// The tag.
        tag: u64,
        /// Where.
        at: usize,
    },
}

/// Why a payload is not of this format.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum LowPowerError {
    /// A type that is not known; how long its value is, nobody can tell.
    #[error("type {kind} of channel {channel}, at byte {at}, is not known; what follows cannot be read")]
    UnknownType {
        /// The type.
        kind: u8,
        /// Its channel.
        channel: u8,
        /// Where the record begins.
        at: usize,
    },
    /// It ends within a record.
    #[error("the {kind} of channel {channel} needs {needs} bytes, and there are {has}")]
    TooShort {
        /// The type's name.
        kind: &'static str,
        /// Its channel.
        channel: u8,
        /// Bytes needed.
        needs: usize,
        /// Bytes there are.
        has: usize,
    },
    /// A channel without type and value is left at the end.
    #[error("the last byte is a channel without a value")]
    LoneChannel,
}

/// Why a text holds no readings.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TextError {
    /// Bytes that are no text.
    #[error("byte {0} is not UTF-8: the payload is no text")]
    NoText(usize),
    /// No JSON.
    #[error("it is no JSON: {0}")]
    NoJson(String),
    /// JSON that has no names.
    #[error("it is JSON without names: an object is wanted")]
    NoObject,
    /// A pair without a name or a value.
    #[error("{0:?} is no pair of name and value")]
    NoPair(String),
    /// Another number of values than there are names.
    #[error("there are {found} values between separators, and {wanted} names for them")]
    Values {
        /// Values.
        found: usize,
        /// Names.
        wanted: usize,
    },
}

impl Entry {
    /// As scripts spell it.
    pub const fn name(self) -> &'static str {
        match self {
            Entry::DecodeUplink => "decodeUplink",
            Entry::EncodeDownlink => "encodeDownlink",
            Entry::DecodeDownlink => "decodeDownlink",
            Entry::Transform => "transform",
        }
    }

    /// What it is to return.
    const fn shape(self) -> &'static str {
        match self {
            Entry::DecodeUplink | Entry::DecodeDownlink => "{data, warnings, errors}",
            Entry::EncodeDownlink => "{bytes, fPort, warnings, errors}",
            Entry::Transform => "what is to be sent, or null",
        }
    }
}

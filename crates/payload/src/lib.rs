//! Decoders: what turns payload bytes into readings, and named values into the bytes of a downlink.
//!
//! Four kinds ([`Decoder`]): scripts in JavaScript with the LoRa Alliance's payload-codec interface ([`script`], TS013), field
//! tables ([`table`]), the low-power payload format ([`low_power`]), and payloads that are text ([`text`]). Whatever a decoder
//! returns becomes a flat list of named values; where the decoder can tell, each knows the bytes it came from.

pub mod check;
mod decoder;
pub mod low_power;
pub mod outcome;
mod readings;
pub mod script;
pub mod table;
pub mod text;
pub mod trace;

pub use decoder::{Decoder, Kind};
pub use low_power::LowPower;
pub use outcome::{DecodeError, Decoded, Encoded, Entry, LowPowerError, Place, TableError, TableReadError, TextError};
pub use readings::{MAX_READINGS, Meaning, Reading, ReadingValue};
pub use script::call::{Limits, Script};
pub use script::interpreter::Interpreter;
pub use table::Table;
pub use text::TextForm;

//! Decoders: what turns payload bytes into readings, and named values into the bytes of a downlink.
//!
//! Four kinds ([`Decoder`]): scripts in JavaScript with the LoRa Alliance's payload-codec interface ([`script`], TS013), field
//! tables ([`table`]), the low-power payload format ([`low_power`]), and payloads that are text ([`text`]). Whatever a decoder
//! returns becomes a flat list of named values; where the decoder can tell, each knows the bytes it came from.
#![warn(missing_docs)]

mod adapt;
pub mod check;
mod decoder;
pub mod encode;
mod field;
pub mod interpreter;
pub mod low_power;
mod readings;
pub mod script;
pub mod table;
mod table_read;
mod table_write;
pub mod text;
pub mod trace;

pub use decoder::{Decoder, Kind};
pub use encode::Encoded;
pub use interpreter::Interpreter;
pub use low_power::LowPower;
pub use readings::{MAX_READINGS, Meaning, Reading, ReadingValue};
pub use script::{DecodeError, Decoded, Entry, Limits, Place, Script};
pub use table::{Table, TableError};
pub use table_read::NotRead;
pub use text::TextForm;

//! Decoders: what turns payload bytes into readings.
//!
//! One kind so far: scripts in JavaScript with the LoRa Alliance's payload-codec interface
//! ([`script`], TS013). Whatever a decoder returns becomes a flat list of named values
//! ([`readings`]).
#![warn(missing_docs)]

pub mod check;
pub mod encode;
pub mod interpreter;
mod readings;
pub mod script;

pub use encode::Encoded;
pub use interpreter::Interpreter;
pub use readings::{Reading, ReadingValue};
pub use script::{DecodeError, Decoded, Entry, Limits, Script};

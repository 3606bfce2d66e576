//! Decoders: payload bytes to readings.
#![warn(missing_docs)]

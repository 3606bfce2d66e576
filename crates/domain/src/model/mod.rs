//! Models: reading a catalogue, checking and comparing models, trying drafts of decoders.

pub mod catalogue;
pub mod check;
pub mod diff;
pub mod draft;
pub mod redecoding;
pub mod request;

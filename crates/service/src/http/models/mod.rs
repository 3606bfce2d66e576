//! Handlers for models and decoders: catalogue, workbench, scripts, decoding history again.

pub mod catalogue;
pub mod model;
pub mod redecoding;
pub mod scripts;
pub mod turns;
pub mod workbench;

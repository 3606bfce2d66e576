//! Handlers for models and decoders: catalogue, workbench, scripts, decoding history again.

pub(crate) mod catalogue;
pub(crate) mod model;
pub(crate) mod redecoding;
pub(crate) mod scripts;
pub(crate) mod turns;
pub(crate) mod workbench;

//! From gateways to the engine: the journal of heard frames, the task that owns the engine, counts of what came in and
//! what was dropped. What the engine answers is handled in `pipeline`.

pub(crate) mod journal;
pub(crate) mod network;
pub(crate) mod stats;
pub(crate) mod strangers;

//! Decoders: running them in worker processes, fair turns between fleets, running totals, the workbench, decoding
//! history again, loading catalogues. What a decoder's value means is decided in `domain`.

pub(crate) mod catalogue;
pub(crate) mod decoder;
pub(crate) mod fair_queue;
pub(crate) mod outstanding;
pub(crate) mod ready;
pub(crate) mod redecoding;
pub(crate) mod totals;
pub(crate) mod workbench;
pub(crate) mod workers;

//! Decoders: running them in worker processes, fair turns between fleets, running totals, the workbench, decoding
//! history again, loading catalogues. What a decoder's value means is decided in `domain`.

pub mod catalogue;
pub mod decoder;
pub mod fair_queue;
pub mod ready;
pub mod redecoding;
pub mod totals;
pub mod workbench;
pub mod workers;

//! From the engine to the database and the live stream: messages are built, batched, committed, and only then sent.
//! Decoders are called from here but live in `decoding`.

pub(crate) mod ahead;
pub(crate) mod batch;
pub(crate) mod commit;
pub(crate) mod condition;
pub(crate) mod directory;
pub(crate) mod gateway_news;
pub(crate) mod ids;
pub(crate) mod live;
pub(crate) mod mailbox;
pub(crate) mod message;
pub(crate) mod metrics;
pub(crate) mod recent;
pub(crate) mod refused_rows;

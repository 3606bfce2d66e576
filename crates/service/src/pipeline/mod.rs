//! From the engine to the database and the live stream: messages are built, batched, committed, and only then sent.
//! Decoders are called from here but live in `decoding`.

pub mod batch;
pub mod commit;
pub mod condition;
pub mod directory;
pub mod gateway_news;
pub mod live;
pub mod mailbox;
pub mod message;
pub mod metrics;
pub mod refused_rows;

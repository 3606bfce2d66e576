//! Connecting to the database, and holding its lease.

pub(crate) mod lease;
pub(crate) mod migrate;
pub(crate) mod pool;

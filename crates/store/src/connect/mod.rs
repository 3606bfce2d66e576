//! Getting to the database, and holding it.

pub(crate) mod lease;
pub(crate) mod migrate;
pub(crate) mod pool;

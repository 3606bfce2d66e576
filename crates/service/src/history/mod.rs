//! Stored readings: hourly and daily summaries, charts, retention, export.
//! New readings are written by `pipeline`.

pub(crate) mod export;
pub(crate) mod messages;
pub(crate) mod summaries;

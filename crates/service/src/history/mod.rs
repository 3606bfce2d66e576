//! Stored readings: hourly and daily summaries, charts, retention, export.
//! New readings are written by `pipeline`.

pub mod export;
pub mod summaries;

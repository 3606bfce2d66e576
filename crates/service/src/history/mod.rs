//! Stored readings: hourly and daily summaries, charts, retention, export.
//! New readings are written by `pipeline`.

pub(crate) mod export;
pub(crate) mod messages;
pub(crate) mod summaries;

/// A file of text, an entry a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TextForm {
    Csv,
    JsonLines,
}

impl TextForm {
    /// As it is asked for, and as files of it end.
    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::Csv => "csv",
            Self::JsonLines => "jsonl",
        }
    }

    pub(crate) const fn content_type(self) -> &'static str {
        match self {
            Self::Csv => "text/csv; charset=utf-8",
            Self::JsonLines => "application/x-ndjson",
        }
    }
}

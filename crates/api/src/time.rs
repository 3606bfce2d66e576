//! Times as the messages write them: UTC, with milliseconds.

/// Serde for a time: `2026-05-04T09:12:33.481Z`.
pub mod millis {
    use chrono::{DateTime, SecondsFormat, Utc};
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes it with milliseconds.
    pub fn serialize<S: Serializer>(time: &DateTime<Utc>, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&time.to_rfc3339_opts(SecondsFormat::Millis, true))
    }

    /// Reads it.
    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<DateTime<Utc>, D::Error> {
        DateTime::<Utc>::deserialize(d)
    }
}

/// The same for a time that may be missing.
pub mod millis_option {
    use chrono::{DateTime, Utc};
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes it with milliseconds.
    pub fn serialize<S: Serializer>(time: &Option<DateTime<Utc>>, s: S) -> Result<S::Ok, S::Error> {
        match time {
            Some(time) => super::millis::serialize(time, s),
            None => s.serialize_none(),
        }
    }

    /// Reads it.
    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Option<DateTime<Utc>>, D::Error> {
        Option::deserialize(d)
    }
}

/// A duration in a suitable unit: `20 s`, `5 min`, `3 h`, `4 days`.
pub fn elapsed(seconds: i64) -> String {
    match seconds.max(0) {
        s @ 0..=119 => format!("{s} s"),
        s @ 120..=7199 => format!("{} min", s / 60),
        s @ 7200..=172_799 => format!("{} h", s / 3600),
        s => format!("{} days", s / 86_400),
    }
}

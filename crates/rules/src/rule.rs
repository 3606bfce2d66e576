//! What a rule says.

use std::sync::Arc;

use chrono_tz::Tz;
use serde::{Deserialize, Serialize};

use crate::active::Active;
use crate::area::Area;

/// Conditions that a rule can have.
pub const MOST_CONDITIONS: usize = 8;

/// Milliseconds since 1970-01-01 00:00 UTC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize)]
pub struct AtMs(pub i64);

impl AtMs {
    /// A later time.
    #[must_use]
    pub const fn plus(self, ms: i64) -> Self {
        Self(self.0.saturating_add(ms))
    }

    /// Milliseconds from `earlier` to this time.
    pub const fn since(self, earlier: Self) -> i64 {
        self.0.saturating_sub(earlier.0)
    }
}

/// A value of a source.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Value {
    /// A state of two.
    Flag(bool),
    /// A measured value or a count.
    Number(f64),
    /// A word.
    Text(Arc<str>),
    /// A position (WGS 84).
    Place {
        /// North is positive.
        latitude_deg: f64,
        /// East is positive.
        longitude_deg: f64,
    },
}

impl Value {
    /// The number, if it is one.
    pub fn number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// Whether its numbers are finite: a broken sensor or decoder sends NaN or infinity.
    pub(crate) fn is_finite(&self) -> bool {
        match self {
            Self::Number(number) => number.is_finite(),
            Self::Place { latitude_deg, longitude_deg } => latitude_deg.is_finite() && longitude_deg.is_finite(),
            Self::Flag(_) | Self::Text(_) => true,
        }
    }
}

/// What a value is compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compared {
    /// The latest value that another subject has sent for the same source, if it is not older than this.
    With {
        /// The other one.
        subject: u64,
        /// The age in milliseconds that counts.
        within_ms: i64,
    },
    /// What is usual for the same subject at this hour of the day, in this time zone.
    Usual(Tz),
}

/// When a condition holds. A `back_by` keeps it from coming and going with noise: once it holds, it holds until the value is
/// back by so much.
#[derive(Debug, Clone, PartialEq)]
pub enum Test {
    /// Above a limit.
    Above {
        /// The limit.
        limit: f64,
        /// How far below it the value has to be before it ends.
        back_by: f64,
    },
    /// Below a limit.
    Below {
        /// The limit.
        limit: f64,
        /// How far above it the value has to be before it ends.
        back_by: f64,
    },
    /// Between two limits, or on one of them.
    Between {
        /// The lower limit.
        low: f64,
        /// The upper limit.
        high: f64,
        /// How far outside of them the value has to be before it ends.
        back_by: f64,
    },
    /// Not between two limits.
    Outside {
        /// The lower limit.
        low: f64,
        /// The upper limit.
        high: f64,
        /// How far inside of them the value has to be before it ends.
        back_by: f64,
    },
    /// This value.
    Is(Value),
    /// Any value but this.
    IsNot(Value),
    /// Another value than before. It holds until the next value.
    Changes,
    /// Higher by so much than some value of the last time.
    Rises {
        /// By how much.
        by: f64,
        /// In how many milliseconds.
        within_ms: i64,
    },
    /// Lower by so much than some value of the last time.
    Falls {
        /// By how much.
        by: f64,
        /// In how many milliseconds.
        within_ms: i64,
    },
    /// Away by more than so much from another value, up or down.
    Differs {
        /// Which other value.
        from: Compared,
        /// By how much.
        by: f64,
        /// How much nearer than that it has to be before it ends.
        back_by: f64,
    },
    /// No value for so long.
    Silent {
        /// Milliseconds.
        for_ms: i64,
    },
    /// A position inside an area.
    Inside(Area),
    /// A position outside of an area.
    Beyond(Area),
}

/// One condition.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// Which source it is on: the caller's number for it.
    pub source: u16,
    /// When it holds.
    pub test: Test,
}

/// How conditions are combined.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Combine {
    /// All of them have to hold.
    All,
    /// One is enough.
    Any,
}

/// A rule.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// Its conditions: 1 to [`MOST_CONDITIONS`].
    pub conditions: Vec<Condition>,
    /// How they are combined.
    pub combine: Combine,
    /// How long they have to hold before an alert opens.
    pub hold_ms: i64,
    /// In how many messages in a row they have to hold before an alert opens.
    pub at_least: u32,
    /// When alerts may open; `None` means always.
    pub active: Option<Active>,
    /// An alert that opens again within this time of being cleared is the same one.
    pub reopen_within_ms: i64,
}

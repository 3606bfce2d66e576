//! One condition of one subject: what it has seen, and whether it holds.

use serde::{Deserialize, Serialize};

use crate::active::Active;
use crate::rule::{AtMs, Compared, Test, Value};
use crate::usual::Usual;
use crate::window::{Extreme, Window};

/// What a condition remembers beside the last value.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
struct Memory {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    window: Option<Window>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    usual: Option<Usual>,
}

/// What a condition has seen.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Seen {
    /// Whether it holds.
    pub holds: bool,
    /// The last value.
    pub value: Option<Value>,
    /// When that was.
    pub at: Option<AtMs>,
    #[serde(flatten)]
    memory: Memory,
}

/// What became of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Taken {
    /// It counts.
    Counted,
    /// It is not younger than the last one.
    Late,
    /// It is NaN or infinite.
    NotFinite,
    /// The condition is on another kind of value.
    OtherKind,
}

impl Seen {
    /// Takes a value. `other` is the value it is compared with, if the condition compares with another subject's.
    pub(crate) fn take(&mut self, test: &Test, (value, at): (&Value, AtMs), other: Option<f64>) -> Taken {
        if self.at.is_some_and(|last| at <= last) {
            return Taken::Late;
        }
        if !value.is_finite() {
            return Taken::NotFinite;
        }
        let holds = self.would_hold(test, (value, at), other);
        self.holds = holds.unwrap_or(false);
        self.at = Some(at);
        // A text is only copied when it is another one.
        if self.value.as_ref() != Some(value) {
            self.value = Some(value.clone());
        }
        if holds.is_none() { Taken::OtherKind } else { Taken::Counted }
    }

    /// Whether it holds with this value; `None` if the value is of another kind.
    fn would_hold(&mut self, test: &Test, (value, at): (&Value, AtMs), other: Option<f64>) -> Option<bool> {
        let held = self.holds;
        let back = |back_by: f64| if held { back_by } else { 0.0 };
        Some(match test {
            Test::Above { limit, back_by } => value.number()? > limit - back(*back_by),
            Test::Below { limit, back_by } => value.number()? < limit + back(*back_by),
            Test::Between { low, high, back_by } => {
                (low - back(*back_by)..=high + back(*back_by)).contains(&value.number()?)
            }
            Test::Outside { low, high, back_by } => {
                !(low + back(*back_by)..=high - back(*back_by)).contains(&value.number()?)
            }
            Test::Is(wanted) => same_kind(wanted, value)? && wanted == value,
            Test::IsNot(wanted) => same_kind(wanted, value)? && wanted != value,
            Test::Changes => self.value.as_ref().is_some_and(|before| before != value),
            Test::Rises { by, within_ms } => {
                let number = value.number()?;
                number - self.memory.window.get_or_insert_default().take(at, number, *within_ms, Extreme::Lowest) >= *by
            }
            Test::Falls { by, within_ms } => {
                let number = value.number()?;
                self.memory.window.get_or_insert_default().take(at, number, *within_ms, Extreme::Highest) - number
                    >= *by
            }
            Test::Differs { from, by, back_by } => {
                let number = value.number()?;
                let other = match from {
                    Compared::With { .. } => other,
                    Compared::Usual(zone) => {
                        let (usual, hour) = (self.memory.usual.get_or_insert_default(), Active::hour(*zone, at));
                        let known = usual.at(hour);
                        usual.learn(hour, number);
                        known
                    }
                };
                other.is_some_and(|other| (number - other).abs() > by - back(*back_by))
            }
            // Any value ends the silence.
            Test::Silent { .. } => false,
            Test::Inside(area) => within(value, |lat, lon| area.covers(lat, lon))?,
            Test::Beyond(area) => within(value, |lat, lon| !area.covers(lat, lon))?,
        })
    }
}

fn within(value: &Value, covers: impl Fn(f64, f64) -> bool) -> Option<bool> {
    match value {
        Value::Place { latitude_deg, longitude_deg } => Some(covers(*latitude_deg, *longitude_deg)),
        Value::Flag(_) | Value::Number(_) | Value::Text(_) => None,
    }
}

/// `Some(true)` if both are of one kind, so that `?` leaves for any other.
fn same_kind(a: &Value, b: &Value) -> Option<bool> {
    (std::mem::discriminant(a) == std::mem::discriminant(b)).then_some(true)
}

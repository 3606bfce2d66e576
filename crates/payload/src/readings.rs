//! From what a decoder returns to named values.
//!
//! The rule: an object's fields are joined to their parents with a dot, an array's entries by their
//! index from 0 (`tank.levels.0`). Numbers, texts and booleans are readings; an entry that is null
//! or not a number is left out with a warning.
//!
//! A data logger sends values that it measured before: `{ value, time }`, or a list of them, is a reading with times of its
//! own. A time is RFC 3339, as JavaScript writes a `Date`, or a number of milliseconds since 1970.

use std::ops::Range;
use std::sync::Arc;

use chrono::DateTime;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Readings taken from one payload; a decoder that returns more is most likely in error.
pub const MAX_READINGS: usize = 256;
/// Levels of nesting followed.
const MAX_DEPTH: usize = 8;

/// A value of a reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ReadingValue {
    /// A state.
    Boolean(bool),
    /// A measured value or a count.
    Number(f64),
    /// A word.
    Text(String),
}

/// What a value is of.
#[derive(Debug, PartialEq, Eq)]
pub struct Meaning {
    /// Its name: letters, digits, dots and underscores as the decoder gave them.
    pub name: String,
    /// Its unit, where the decoder says so.
    pub unit: Option<String>,
}

impl Meaning {
    pub(crate) fn new(name: impl Into<String>, unit: Option<&str>) -> Arc<Self> {
        Arc::new(Self { name: name.into(), unit: unit.filter(|unit| !unit.is_empty()).map(str::to_owned) })
    }
}

/// One named value.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// What it is of; readings of one field share it.
    pub of: Arc<Meaning>,
    /// Its value.
    pub value: ReadingValue,
    /// The bytes of the payload it came from, where the decoder can tell.
    pub bytes: Option<Range<usize>>,
    /// When it was measured, in milliseconds since 1970, where the decoder says so.
    pub at_ms: Option<i64>,
}

impl Reading {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.of.name
    }

    /// Its unit, where the decoder says so.
    pub fn unit(&self) -> Option<&str> {
        self.of.unit.as_deref()
    }
}

/// The readings in `data` by name; what could not be taken is said in `warnings`.
pub(crate) fn flatten(data: &Value, warnings: &mut Vec<String>) -> Vec<Reading> {
    let mut out = Vec::new();
    walk("", data, 0, &mut out, warnings);
    out.sort_by(|a, b| a.name().cmp(b.name()).then(a.at_ms.cmp(&b.at_ms)));
    if out.len() > MAX_READINGS {
        warnings.push(format!("{} readings returned, only the first {MAX_READINGS} are kept", out.len()));
        out.truncate(MAX_READINGS);
    }
    out
}

/// The values of `{ value, time }`, or of a list of them; none if it is neither.
fn logged(value: &Value) -> Option<Vec<(i64, ReadingValue)>> {
    match value {
        Value::Object(fields) => Some(vec![timed(fields)?]),
        Value::Array(entries) if !entries.is_empty() => entries.iter().map(|entry| timed(entry.as_object()?)).collect(),
        _ => None,
    }
}

/// A value with the time when it was measured, if that is what an object is: `value`, `time` and nothing else.
fn timed(fields: &Map<String, Value>) -> Option<(i64, ReadingValue)> {
    let (value, time) = (fields.get("value")?, fields.get("time").filter(|_| fields.len() == 2)?);
    let at_ms = match time {
        Value::Number(ms) => ms.as_f64().filter(|ms| ms.abs() < 1e16)? as i64,
        Value::String(text) => DateTime::parse_from_rfc3339(text.trim()).ok()?.timestamp_millis(),
        _ => return None,
    };
    let value = match value {
        Value::Bool(b) => ReadingValue::Boolean(*b),
        Value::Number(n) => ReadingValue::Number(n.as_f64()?),
        Value::String(s) => ReadingValue::Text(s.clone()),
        _ => return None,
    };
    Some((at_ms, value))
}

fn walk(name: &str, value: &Value, depth: usize, out: &mut Vec<Reading>, warnings: &mut Vec<String>) {
    let child = |key: &str| if name.is_empty() { key.to_owned() } else { format!("{name}.{key}") };
    if let Some(values) = logged(value).filter(|_| !name.is_empty()) {
        // Readings of one name share what they are of.
        let of = Meaning::new(name, None);
        out.extend(values.into_iter().map(|(at_ms, value)| Reading {
            of: Arc::clone(&of),
            value,
            bytes: None,
            at_ms: Some(at_ms),
        }));
        return;
    }
    let mut push = |value| out.push(Reading { of: Meaning::new(name, None), value, bytes: None, at_ms: None });
    match value {
        Value::Object(_) | Value::Array(_) if depth >= MAX_DEPTH => {
            warnings.push(format!("{name}: nested more than {MAX_DEPTH} levels deep, left out"));
        }
        Value::Object(fields) => {
            for (key, value) in fields {
                walk(&child(key), value, depth + 1, out, warnings);
            }
        }
        Value::Array(entries) => {
            for (i, value) in entries.iter().enumerate() {
                walk(&child(&i.to_string()), value, depth + 1, out, warnings);
            }
        }
        Value::Bool(b) => push(ReadingValue::Boolean(*b)),
        Value::Number(n) => push(ReadingValue::Number(n.as_f64().unwrap_or_default())),
        Value::String(s) => push(ReadingValue::Text(s.clone())),
        Value::Null => warnings.push(format!("{name}: null or not a number, left out")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn nested_values_get_dotted_names() {
        let mut warnings = Vec::new();
        let readings =
            flatten(&json!({"tank": {"levels": [1.5, 2], "open": true}, "mode": "ebb", "gone": null}), &mut warnings);
        let named: Vec<_> = readings.iter().map(Reading::name).collect();
        assert_eq!(named, ["mode", "tank.levels.0", "tank.levels.1", "tank.open"]);
        assert_eq!(readings[1].value, ReadingValue::Number(1.5));
        assert_eq!(warnings, ["gone: null or not a number, left out"]);
    }

    #[test]
    fn a_logger_s_values_have_times_of_their_own() {
        let mut warnings = Vec::new();
        let data = json!({
            "level": [{ "value": 2, "time": "2026-05-04T09:10:00Z" }, { "value": 1, "time": "2026-05-04T11:00:00+02:00" }],
            "door": { "value": true, "time": 1_777_885_200_000_i64 },
            "plain": { "value": 3, "unit": "m" },
            "odd": [{ "value": 1, "time": "yesterday" }],
        });
        let readings = flatten(&data, &mut warnings);
        let told: Vec<_> = readings.iter().map(|r| (r.name(), r.at_ms)).collect();
        assert_eq!(
            told,
            [
                ("door", Some(1_777_885_200_000)),
                ("level", Some(1_777_885_200_000)),
                ("level", Some(1_777_885_800_000)),
                ("odd.0.time", None),
                ("odd.0.value", None),
                ("plain.unit", None),
                ("plain.value", None)
            ]
        );
        assert_eq!(readings[1].value, ReadingValue::Number(1.0), "by time");
        assert_eq!(warnings, Vec::<String>::new());
    }

    #[test]
    fn runaway_results_are_cut() {
        let mut warnings = Vec::new();
        assert_eq!(flatten(&json!(vec![1; 1000]), &mut warnings).len(), MAX_READINGS);
        let deep = (0..50).fold(json!(1), |inner, _| json!({ "a": inner }));
        assert_eq!(flatten(&deep, &mut warnings), []);
        assert_eq!(warnings.len(), 2);
    }
}

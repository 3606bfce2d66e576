//! From what a decoder returns to named values.
//!
//! The rule: an object's fields are joined to their parents with a dot, an array's entries by their
//! index from 0 (`tank.levels.0`). Numbers, texts and booleans are readings; an entry that is null
//! or not a number is left out with a warning.

use std::ops::Range;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use serde_json::Value;

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
    out.sort_by(|a, b| a.name().cmp(b.name()));
    if out.len() > MAX_READINGS {
        warnings.push(format!("{} readings returned, only the first {MAX_READINGS} are kept", out.len()));
        out.truncate(MAX_READINGS);
    }
    out
}

fn walk(name: &str, value: &Value, depth: usize, out: &mut Vec<Reading>, warnings: &mut Vec<String>) {
    let child = |key: &str| if name.is_empty() { key.to_owned() } else { format!("{name}.{key}") };
    let mut push = |value| out.push(Reading { of: Meaning::new(name, None), value, bytes: None });
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
    fn runaway_results_are_cut() {
        let mut warnings = Vec::new();
        assert_eq!(flatten(&json!(vec![1; 1000]), &mut warnings).len(), MAX_READINGS);
        let deep = (0..50).fold(json!(1), |inner, _| json!({ "a": inner }));
        assert_eq!(flatten(&deep, &mut warnings), []);
        assert_eq!(warnings.len(), 2);
    }
}

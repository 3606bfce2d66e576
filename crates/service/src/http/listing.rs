//! Choosing and ordering the entries of a list that is held in memory as a whole.

use std::cmp::Ordering;

use api::Page;
use api::problem::{Problem, bad_field};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::http::error::Refusal;
use crate::http::extract::{Paging, page_of};

/// Between the two parts of a cursor.
const BETWEEN: char = '\u{1}';
/// The longest text that is looked for.
const LONGEST: usize = 80;

/// Which entries of a list, and in which order.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Choice {
    /// Only entries with this in one of their texts, whatever the case.
    #[param(max_length = 80)]
    find: Option<String>,
    /// A field of the entries to sort by, with a dash in front to sort backwards; their usual order if not given.
    #[param(example = "-name")]
    sort: Option<String>,
}

/// An entry with what decides its place.
struct Placed<T> {
    by: Value,
    key: String,
    entry: T,
}

impl Choice {
    /// Whether all entries are wanted in their usual order.
    pub(crate) fn is_plain(&self) -> bool {
        self.find.is_none() && self.sort.is_none()
    }

    /// The page of a list; `key` tells its entries apart.
    ///
    /// # Errors
    /// There is no such field, or the cursor is not one of this order.
    pub(crate) fn page_of<T: Serialize>(
        &self,
        all: Vec<T>,
        paging: &Paging,
        key: impl Fn(&T) -> String,
    ) -> Result<Page<T>, Refusal> {
        if self.is_plain() {
            return page_of(all, paging, key);
        }
        let wanted = self.find.as_deref().map(|find| find.trim().to_lowercase()).unwrap_or_default();
        if wanted.chars().count() > LONGEST {
            return Err(bad_field("find", &wanted, "at most 80 characters are allowed").into());
        }
        let written = |entry: T| Some((serde_json::to_value(&entry).ok()?, entry));
        let found: Vec<(Value, T)> =
            all.into_iter().filter_map(written).filter(|(value, _)| has_text(value, &wanted)).collect();
        let Some(sort) = self.sort.as_deref() else {
            return page_of(found.into_iter().map(|(_, entry)| entry).collect(), paging, key);
        };
        let (field, backwards) = sort.strip_prefix('-').map_or((sort, false), |field| (field, true));
        known(field, &found)?;
        let place = |(mut value, entry): (Value, T)| {
            let by = value.get_mut(field).map(Value::take).unwrap_or_default();
            Placed { by, key: key(&entry), entry }
        };
        let mut placed: Vec<Placed<T>> = found.into_iter().map(place).collect();
        let order = |a: (&Value, &str), b: (&Value, &str)| {
            let ahead = compared(a.0, b.0).then_with(|| a.1.cmp(b.1));
            if backwards { ahead.reverse() } else { ahead }
        };
        placed.sort_by(|a, b| order((&a.by, &a.key), (&b.by, &b.key)));
        if !paging.after().is_empty() {
            let (by, last) = cursor(paging.after())?;
            placed.retain(|one| order((&one.by, &one.key), (&by, last)).is_gt());
        }
        let (limit, more) = (paging.limit()? as usize, placed.len());
        placed.truncate(limit);
        let next = placed.last().filter(|_| more > limit).map(|last| format!("{}{BETWEEN}{}", last.by, last.key));
        Ok(Page { items: placed.into_iter().map(|one| one.entry).collect(), next })
    }
}

/// A list that is longer is not sorted as a whole.
const MOST: usize = 20_000;
/// How much of a list is read, so that one that is longer shows.
pub(crate) const ALL: u32 = MOST as u32 + 1;

/// Refuses a list that is too long to be sorted as a whole.
///
/// # Errors
/// If it is.
pub(crate) fn whole<R>(rows: Vec<R>) -> Result<Vec<R>, Problem> {
    if rows.len() <= MOST {
        return Ok(rows);
    }
    let why = format!("the list has more than {MOST} entries: take its pages in their usual order");
    Err(bad_field("sort", "a very long list", why))
}

/// Whether one of an entry's texts has this in it; of what lies deeper, those of the first level below.
fn has_text(value: &Value, wanted: &str) -> bool {
    let text = |value: &Value| value.as_str().is_some_and(|text| text.to_lowercase().contains(wanted));
    let within = |value: &Value| match value {
        Value::Array(all) => all.iter().any(text),
        Value::Object(all) => all.values().any(text),
        other => text(other),
    };
    wanted.is_empty() || value.as_object().is_some_and(|fields| fields.values().any(within))
}

/// Refuses a field that no entry has, or that is no single value.
fn known<T>(field: &str, entries: &[(Value, T)]) -> Result<(), Problem> {
    let single = |value: &Value| !value.is_array() && !value.is_object();
    let mut fields: Vec<&str> = entries
        .iter()
        .filter_map(|(value, _)| value.as_object())
        .flat_map(|fields| fields.iter().filter(|(_, value)| single(value)).map(|(name, _)| name.as_str()))
        .collect();
    fields.sort_unstable();
    fields.dedup();
    if fields.is_empty() || fields.contains(&field) {
        return Ok(());
    }
    Err(bad_field("sort", field, format!("it is sorted by {}, with a dash in front or not", fields.join(", "))))
}

fn cursor(after: &str) -> Result<(Value, &str), Problem> {
    let parts = after.split_once(BETWEEN).and_then(|(by, key)| Some((serde_json::from_str(by).ok()?, key)));
    parts.ok_or_else(|| bad_field("after", after, "the `next` of the page before"))
}

/// What is not there comes first; texts go by their letters, whatever the case.
fn compared(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::String(a), Value::String(b)) => a.to_lowercase().cmp(&b.to_lowercase()),
        (Value::Number(a), Value::Number(b)) => {
            a.as_f64().unwrap_or_default().total_cmp(&b.as_f64().unwrap_or_default())
        }
        (Value::Bool(a), Value::Bool(b)) => a.cmp(b),
        _ => kind(a).cmp(&kind(b)),
    }
}

fn kind(value: &Value) -> u8 {
    match value {
        Value::Null => 0,
        Value::Bool(_) => 1,
        Value::Number(_) => 2,
        Value::String(_) => 3,
        Value::Array(_) | Value::Object(_) => 4,
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn all() -> Vec<Value> {
        vec![
            json!({ "name": "chapel-rise", "heard": 3, "tags": ["mast"] }),
            json!({ "name": "Ferry-steps", "heard": 9, "last": "2026-05-04" }),
            json!({ "name": "north-weir", "heard": 3 }),
        ]
    }

    fn names(choice: &Choice, after: Option<String>, limit: u32) -> (Vec<String>, Option<String>) {
        let key = |one: &Value| one["name"].as_str().unwrap().to_owned();
        let page = choice.page_of(all(), &Paging { after, limit: Some(limit) }, key).unwrap();
        (page.items.iter().map(key).collect(), page.next)
    }

    fn choice(find: Option<&str>, sort: Option<&str>) -> Choice {
        Choice { find: find.map(str::to_owned), sort: sort.map(str::to_owned) }
    }

    #[test]
    fn entries_are_found_and_sorted_and_pages_go_on() {
        assert_eq!(names(&choice(Some("FERRY"), None), None, 9).0, ["Ferry-steps"]);
        assert_eq!(names(&choice(Some("mast"), None), None, 9).0, ["chapel-rise"]);
        assert_eq!(names(&choice(None, Some("-name")), None, 9).0, ["north-weir", "Ferry-steps", "chapel-rise"]);
        assert_eq!(
            names(&choice(None, Some("last")), None, 9).0.last().unwrap(),
            "Ferry-steps",
            "what is not there is first"
        );
        let by_heard = choice(None, Some("-heard"));
        let (first, next) = names(&by_heard, None, 2);
        assert_eq!(first, ["Ferry-steps", "north-weir"]);
        assert_eq!(names(&by_heard, next, 2), (vec!["chapel-rise".to_owned()], None));
    }

    #[test]
    fn a_field_that_is_not_there_is_refused_with_those_that_are() {
        let key = |one: &Value| one["name"].to_string();
        let paging = Paging { after: None, limit: None };
        let why = choice(None, Some("colour")).page_of(all(), &paging, key).unwrap_err().0;
        assert!(why.detail.unwrap().contains("heard, last, name"), "tags are no single value");
        let paging = Paging { after: Some("nonsense".into()), limit: None };
        assert!(choice(None, Some("name")).page_of(all(), &paging, key).is_err());
        assert!(choice(Some(&"x".repeat(81)), None).page_of(all(), &paging, key).is_err());
    }
}

//! Changes in part (RFC 7396, JSON Merge Patch): what is left out stays, and `null` takes away.

use api::problem::Problem;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Something as it is after a change in part.
///
/// # Errors
/// If the result cannot be what it is to be: a field has a value of another type.
pub fn patched<T: Serialize + DeserializeOwned>(before: &T, patch: &Value) -> Result<T, Problem> {
    let unusable = |why: serde_json::Error| {
        Problem::new(422, "bad_json", "The body is not the JSON expected here").detail(why.to_string())
    };
    let mut value = serde_json::to_value(before).map_err(unusable)?;
    merge(&mut value, patch);
    serde_json::from_value(value).map_err(unusable)
}

fn merge(target: &mut Value, patch: &Value) {
    let Value::Object(fields) = patch else {
        target.clone_from(patch);
        return;
    };
    if !target.is_object() {
        *target = Value::Object(serde_json::Map::new());
    }
    let Some(target) = target.as_object_mut() else { return };
    for (name, value) in fields {
        match value {
            Value::Null => drop(target.remove(name)),
            value => merge(target.entry(name.clone()).or_insert(Value::Null), value),
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    /// Examples of RFC 7396, appendix A.
    #[test]
    fn the_examples_of_the_standard_hold() {
        for (before, patch, after) in [
            (json!({ "a": "b" }), json!({ "a": "c" }), json!({ "a": "c" })),
            (json!({ "a": "b" }), json!({ "b": "c" }), json!({ "a": "b", "b": "c" })),
            (json!({ "a": "b" }), json!({ "a": null }), json!({})),
            (json!({ "a": "b", "b": "c" }), json!({ "a": null }), json!({ "b": "c" })),
            (json!({ "a": ["b"] }), json!({ "a": "c" }), json!({ "a": "c" })),
            (json!({ "a": "c" }), json!({ "a": ["b"] }), json!({ "a": ["b"] })),
            (json!({ "a": { "b": "c" } }), json!({ "a": { "b": "d", "c": null } }), json!({ "a": { "b": "d" } })),
            (json!({ "e": null }), json!({ "a": 1 }), json!({ "e": null, "a": 1 })),
            (json!({}), json!({ "a": { "bb": { "ccc": null } } }), json!({ "a": { "bb": {} } })),
        ] {
            let mut value = before.clone();
            merge(&mut value, &patch);
            assert_eq!(value, after, "{before} with {patch}");
        }
    }

    #[test]
    fn a_value_of_another_type_is_refused() {
        let before = std::collections::BTreeMap::from([("a".to_owned(), 1)]);
        assert!(patched(&before, &json!({ "a": "x" })).is_err());
        assert_eq!(patched(&before, &json!({ "b": 2 })).unwrap().len(), 2);
    }
}

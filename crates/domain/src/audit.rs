//! The fields of a change, for the audit log.

use api::people::audit::AuditDifference;

/// Fields that differ between two states, with both values; names of nested fields are joined by dots.
pub fn differences(before: Option<&serde_json::Value>, after: Option<&serde_json::Value>) -> Vec<AuditDifference> {
    let mut found = Vec::new();
    compare("", before, after, &mut found);
    found
}

/// Fields listed for one change, at most.
const MOST_FIELDS: usize = 200;

/// The longest text that is not cut.
const LONGEST: usize = 200;

fn compare(
    field: &str,
    before: Option<&serde_json::Value>,
    after: Option<&serde_json::Value>,
    found: &mut Vec<AuditDifference>,
) {
    use serde_json::Value;
    if before == after || found.len() >= MOST_FIELDS {
        return;
    }
    let empty = serde_json::Map::new();
    let parts = |side: Option<&Value>| side.and_then(Value::as_object).cloned();
    if let (Some(_), _) | (_, Some(_)) = (parts(before), parts(after))
        && [before, after].into_iter().flatten().all(|side| side.is_object() || side.is_null())
    {
        let (old, new) = (parts(before).unwrap_or(empty.clone()), parts(after).unwrap_or(empty));
        let names: std::collections::BTreeSet<&String> = old.keys().chain(new.keys()).collect();
        for name in names {
            let inner = if field.is_empty() { name.clone() } else { format!("{field}.{name}") };
            compare(&inner, old.get(name), new.get(name), found);
        }
        return;
    }
    let told = |side: Option<&Value>| side.filter(|value| !value.is_null()).map(short);
    if told(before) == told(after) && told(before).is_none() {
        return;
    }
    found.push(AuditDifference { field: field.to_owned(), before: told(before), after: told(after) });
}

/// A value, cut to a sensible length.
fn short(value: &serde_json::Value) -> serde_json::Value {
    match value {
        serde_json::Value::String(text) if text.chars().count() > LONGEST => {
            let begin: String = text.chars().take(LONGEST).collect();
            format!("{begin}… ({} characters)", text.chars().count()).into()
        }
        serde_json::Value::Array(items) if value.to_string().len() > LONGEST => {
            format!("{} entries", items.len()).into()
        }
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn only_what_differs_is_told() {
        let before =
            json!({ "name": "a", "tags": ["x"], "radio": { "class": "A", "power": 14 }, "gone": 1, "no": null });
        let after = json!({ "name": "b", "tags": ["x"], "radio": { "class": "C", "power": 14 }, "new": true });
        let found = differences(Some(&before), Some(&after));
        let told: Vec<_> = found.iter().map(|d| (d.field.as_str(), d.before.clone(), d.after.clone())).collect();
        assert_eq!(
            told,
            [
                ("gone", Some(json!(1)), None),
                ("name", Some(json!("a")), Some(json!("b"))),
                ("new", None, Some(json!(true))),
                ("radio.class", Some(json!("A")), Some(json!("C"))),
            ]
        );
        assert!(differences(Some(&before), Some(&before)).is_empty());
    }

    #[test]
    fn what_is_made_or_removed_is_told_whole_and_long_texts_are_cut() {
        let made = differences(None, Some(&json!({ "slug": "tide", "note": null })));
        assert_eq!((made.len(), made[0].field.as_str()), (1, "slug"));
        let gone = differences(Some(&json!({ "slug": "tide" })), None);
        assert_eq!((gone[0].before.clone(), gone[0].after.clone()), (Some(json!("tide")), None));
        let long = differences(None, Some(&json!({ "decoder": "x".repeat(5000) })));
        assert!(long[0].after.as_ref().unwrap().as_str().unwrap().ends_with("(5000 characters)"));
        assert!(long[0].after.as_ref().unwrap().to_string().len() < 300);
    }
}

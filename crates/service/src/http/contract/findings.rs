//! What a schema finds wrong with a value, in the words that people get to read.

use api::problem::FieldProblem;
use jsonschema::error::{TypeKind, ValidationErrorKind};
use jsonschema::{ValidationError, Validator};
use serde_json::Value;

use crate::http::contract::unknown;

/// What is said of a field or parameter that has to be given.
pub(super) const MISSING: &str = "it is needed, and was not given";
/// Problems told of one request at most.
const MOST: usize = 50;
/// Characters of a value that are repeated.
const SHOWN: usize = 80;

/// All that is wrong with a value; `prefix` is the name of what the schema describes, if it is one field.
pub(super) fn findings(validator: &Validator, schema: &Value, value: &Value, prefix: &str) -> Vec<FieldProblem> {
    let mut found = Vec::new();
    for error in validator.iter_errors(value).take(MOST) {
        explain(&error, schema, prefix, &mut found);
    }
    found.truncate(MOST);
    found
}

fn explain(error: &ValidationError<'_>, schema: &Value, prefix: &str, found: &mut Vec<FieldProblem>) {
    let at = join(prefix, &error.instance_path().to_string());
    let mut add = |field: String, detail: String| {
        let field = if field.is_empty() { "body".to_owned() } else { field };
        found.push(FieldProblem { field, detail });
    };
    match error.kind() {
        ValidationErrorKind::AdditionalProperties { unexpected }
        | ValidationErrorKind::UnevaluatedProperties { unexpected } => {
            let known = known_fields(schema, &error.evaluation_path().to_string());
            for name in unexpected {
                add(join(&at, name), unknown("field", name, known.iter().map(String::as_str)));
            }
        }
        ValidationErrorKind::Required { property } => {
            add(join(&at, property.as_str().unwrap_or_default()), MISSING.into());
        }
        // A value that may be left out is described as one of two: itself, or nothing.
        ValidationErrorKind::OneOfNotValid { context } | ValidationErrorKind::AnyOf { context } => {
            let mut meant = context.iter().filter(|branch| !is_about_null(branch)).collect::<Vec<_>>();
            let names = meant.iter().filter_map(|branch| lacks(branch, error)).collect::<Vec<_>>();
            if meant.len() > 1 && names.len() == meant.len() {
                return add(at, format!("one of {} is wanted", names.join(", ")));
            }
            // Of several forms, the one whose outside fits is the one that was meant.
            if meant.len() > 1 {
                meant.retain(|branch| !is_another_form(branch, error));
            }
            match meant.as_slice() {
                [only] => only.iter().for_each(|error| explain(error, schema, prefix, found)),
                _ => {
                    let detail = format!("{}it has none of the forms that are allowed", given(&at, error.instance()));
                    add(at, detail);
                }
            }
        }
        kind => {
            let detail = format!("{}{}", given(&at, error.instance()), allowed(kind, error, schema));
            add(at, detail);
        }
    }
}

/// Whether a branch of a choice fails at the value itself: it is of another type, another word, or without the field that
/// names this form.
fn is_another_form(branch: &[ValidationError<'_>], of: &ValidationError<'_>) -> bool {
    use ValidationErrorKind as Kind;
    branch.iter().any(|error| {
        error.instance_path() == of.instance_path()
            && matches!(
                error.kind(),
                Kind::Type { .. } | Kind::Enum { .. } | Kind::Constant { .. } | Kind::Required { .. }
            )
    })
}

/// The field that an object of this form would need, and does not have.
fn lacks<'a>(branch: &'a [ValidationError<'_>], of: &ValidationError<'_>) -> Option<&'a str> {
    branch.iter().find_map(|error| match error.kind() {
        ValidationErrorKind::Required { property } if error.instance_path() == of.instance_path() => property.as_str(),
        _ => None,
    })
}

/// Whether a branch of a choice only says that the value is not `null`.
fn is_about_null(branch: &[ValidationError<'_>]) -> bool {
    let null = |kind: &TypeKind| matches!(kind, TypeKind::Single(jsonschema::JsonType::Null));
    branch.iter().any(|error| matches!(error.kind(), ValidationErrorKind::Type { kind } if null(kind)))
}

/// What would be allowed instead of a value that is not.
fn allowed(kind: &ValidationErrorKind, error: &ValidationError<'_>, schema: &Value) -> String {
    use ValidationErrorKind as Kind;
    match kind {
        Kind::Type { kind } => format!("{} is wanted", types(kind)),
        Kind::Enum { options } => {
            let words: Vec<String> = options.as_array().into_iter().flatten().filter_map(word).collect();
            format!("{} are allowed", words.join(", "))
        }
        Kind::Minimum { limit } => range(schema, error).unwrap_or_else(|| format!("{limit} or more is allowed")),
        Kind::Maximum { limit } => range(schema, error).unwrap_or_else(|| format!("{limit} or less is allowed")),
        Kind::ExclusiveMinimum { limit } => format!("more than {limit} is allowed"),
        Kind::ExclusiveMaximum { limit } => format!("less than {limit} is allowed"),
        Kind::MinLength { limit } => format!("{limit} or more characters are wanted"),
        Kind::MaxLength { limit } => format!("{limit} characters at most are allowed"),
        Kind::MinItems { limit } => format!("{limit} or more are wanted"),
        Kind::MaxItems { limit } => format!("{limit} at most are allowed"),
        Kind::Pattern { pattern } => format!("it has to match {pattern}"),
        Kind::Format { format } => format!("it has to be a {format}"),
        _ => error.masked().to_string(),
    }
}

fn word(value: &Value) -> Option<String> {
    match value {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    }
}

fn types(kind: &TypeKind) -> String {
    let name = |kind: jsonschema::JsonType| match kind {
        jsonschema::JsonType::Array => "a list",
        jsonschema::JsonType::Boolean => "true or false",
        jsonschema::JsonType::Integer => "a whole number",
        jsonschema::JsonType::Null => "null",
        jsonschema::JsonType::Number => "a number",
        jsonschema::JsonType::Object => "an object",
        jsonschema::JsonType::String => "a text",
    };
    match kind {
        TypeKind::Single(one) => name(*one).to_owned(),
        TypeKind::Multiple(several) => {
            // A field that may be left out may also be null. Null is not offered: nobody writes it.
            let wanted = several.iter().filter(|kind| *kind != jsonschema::JsonType::Null);
            wanted.map(name).collect::<Vec<_>>().join(" or ")
        }
    }
}

/// The value as it was given. That of a secret is not repeated.
fn given(field: &str, value: &Value) -> String {
    let last = field.rsplit('.').next().unwrap_or_default();
    if ["key", "password", "secret", "code", "token"].iter().any(|word| last.ends_with(word)) {
        return String::new();
    }
    let text: String = value.to_string().chars().take(SHOWN).collect();
    format!("{text} was given; ")
}

/// The name of a field inside another.
fn join(outer: &str, inner: &str) -> String {
    let inner = inner.trim_start_matches('/').replace('/', ".");
    match (outer.is_empty(), inner.is_empty()) {
        (_, true) => outer.to_owned(),
        (true, false) => inner,
        (false, false) => format!("{outer}.{inner}"),
    }
}

/// The fields that the schema knows where it found one that it does not know. `path` leads there from the root: through
/// references, to the keyword that found it.
fn known_fields(root: &Value, path: &str) -> Vec<String> {
    let at = part(root, path);
    at.and_then(|at| at["properties"].as_object()).map(|known| known.keys().cloned().collect()).unwrap_or_default()
}

/// Both ends of what is allowed, if the schema has both.
fn range(root: &Value, error: &ValidationError<'_>) -> Option<String> {
    let at = part(root, &error.evaluation_path().to_string())?;
    let whole = |limit: &Value| match limit.as_f64() {
        // As people write it: 90, not 90.0.
        Some(number) if number.fract() == 0.0 && number.abs() < 1e15 => Some((number as i64).to_string()),
        Some(number) => Some(number.to_string()),
        None => None,
    };
    Some(format!("{} to {} are allowed", whole(&at["minimum"])?, whole(&at["maximum"])?))
}

/// The part of a schema that a path leads to, without the keyword at its end.
fn part<'a>(root: &'a Value, path: &str) -> Option<&'a Value> {
    let mut at = root;
    let mut steps: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    steps.pop();
    for step in steps.into_iter().filter(|step| !step.is_empty()) {
        let next = match (step, at) {
            ("$ref", _) => at["$ref"].as_str().and_then(|to| root.pointer(to.trim_start_matches('#'))),
            (_, Value::Array(items)) => step.parse::<usize>().ok().and_then(|n| items.get(n)),
            _ => at.get(step.replace("~1", "/").replace("~0", "~")),
        };
        at = next?;
    }
    Some(at)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn schema() -> Value {
        json!({
            "$ref": "#/components/schemas/New",
            "components": { "schemas": {
                "New": {
                    "type": "object", "required": ["name"], "additionalProperties": false,
                    "properties": {
                        "name": { "type": "string", "maxLength": 5 },
                        "port": { "type": ["integer", "null"], "minimum": 1, "maximum": 223 },
                        "app_key": { "type": "string", "maxLength": 3 },
                        "kind": { "type": "string", "enum": ["a", "b"] },
                        "inner": { "oneOf": [{ "$ref": "#/components/schemas/Inner" }, { "type": "null" }] },
                    },
                },
                "Inner": {
                    "type": "object", "additionalProperties": false, "properties": { "delay_s": { "type": "number" } },
                },
            } },
        })
    }

    fn told(value: &Value) -> Vec<(String, String)> {
        let schema = schema();
        let validator = jsonschema::validator_for(&schema).unwrap();
        findings(&validator, &schema, value, "").into_iter().map(|found| (found.field, found.detail)).collect()
    }

    #[test]
    fn a_good_value_has_no_findings() {
        assert_eq!(told(&json!({ "name": "a", "port": null, "inner": { "delay_s": 1.5 } })), vec![]);
        assert_eq!(told(&json!({ "name": "a", "inner": null })), vec![]);
    }

    #[test]
    fn everything_that_is_wrong_is_told_by_name() {
        let found = told(&json!({ "nmae": "a", "port": 300, "kind": "c", "inner": { "delay": 1 } }));
        let told = |field: &str| found.iter().find(|(name, _)| name == field).map(|(_, detail)| detail.as_str());
        assert_eq!(told("name"), Some("it is needed, and was not given"));
        assert_eq!(told("nmae"), Some("there is no such field; name is one"));
        assert_eq!(told("port"), Some("300 was given; 1 to 223 are allowed"));
        assert_eq!(told("kind"), Some("\"c\" was given; a, b are allowed"));
        assert_eq!(told("inner.delay"), Some("there is no such field; delay_s is one"));
        assert_eq!(found.len(), 5);
    }

    #[test]
    fn a_wrong_type_is_told_and_a_key_is_not_repeated() {
        let found = told(&json!({ "name": "a", "port": "7", "app_key": "c0ffee" }));
        assert!(found.contains(&("port".into(), "\"7\" was given; a whole number is wanted".into())), "{found:?}");
        assert!(found.contains(&("app_key".into(), "3 characters at most are allowed".into())), "{found:?}");
        assert_eq!(told(&json!([1])), vec![("body".into(), "[1] was given; an object is wanted".into())]);
    }
}

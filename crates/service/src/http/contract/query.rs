//! Checks of query parameters.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use api::problem::{FieldProblem, Problem, bad_fields};
use serde_json::Value;

use crate::http::contract::findings::MISSING;
use crate::http::contract::{LazyValidator, unknown};

/// The parameters of an operation, by name.
#[derive(Default)]
pub(super) struct QueryContract(BTreeMap<String, Parameter>);

struct Parameter {
    schema: LazyValidator,
    needed: bool,
}

impl QueryContract {
    pub(super) fn of(operation: &Value, schemas: &Arc<Value>) -> Self {
        let parameters = operation["parameters"].as_array().into_iter().flatten();
        let of_query = parameters.filter(|parameter| parameter["in"] == "query").filter_map(|parameter| {
            let schema = LazyValidator::new(&parameter["schema"], schemas);
            let needed = parameter["required"] == true;
            Some((parameter["name"].as_str()?.to_owned(), Parameter { schema, needed }))
        });
        Self(of_query.collect())
    }

    pub(super) fn check(&self, query: &str) -> Result<(), Problem> {
        let mut found = Vec::new();
        let mut seen = BTreeSet::new();
        for (name, text) in form_urlencoded::parse(query.as_bytes()) {
            let Some(parameter) = self.0.get(name.as_ref()) else {
                let detail = unknown("parameter", &name, self.0.keys().map(String::as_str));
                found.push(FieldProblem { field: name.into_owned(), detail });
                continue;
            };
            if !seen.insert(name.to_string()) {
                found.push(FieldProblem { field: name.into_owned(), detail: "it was given twice".into() });
                continue;
            }
            let value = typed(&parameter.schema.schema, &text);
            found.extend(parameter.schema.findings(&value, &name));
        }
        let missing = self.0.iter().filter(|(name, parameter)| parameter.needed && !seen.contains(*name));
        found.extend(missing.map(|(name, _)| FieldProblem { field: name.clone(), detail: MISSING.into() }));
        if found.is_empty() { Ok(()) } else { Err(bad_fields(found)) }
    }
}

/// A parameter's text as a value of the type that its schema wants. If it is no such value, it stays a text.
fn typed(schema: &Value, text: &str) -> Value {
    let wants = |name: &str| match &schema["type"] {
        Value::String(one) => one == name,
        Value::Array(several) => several.iter().any(|one| one == name),
        _ => false,
    };
    let read = if wants("integer") || wants("number") {
        serde_json::from_str::<serde_json::Number>(text).ok().map(Value::Number)
    } else if wants("boolean") {
        text.parse().ok().map(Value::Bool)
    } else {
        None
    };
    read.unwrap_or_else(|| Value::String(text.to_owned()))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn told(query: &str) -> Vec<(String, String)> {
        let operation = json!({ "parameters": [
            { "in": "query", "name": "limit", "schema": { "type": ["integer", "null"], "minimum": 1, "maximum": 500 } },
            { "in": "query", "name": "text", "required": true, "schema": { "type": "string" } },
            { "in": "query", "name": "keys", "schema": { "type": "boolean" } },
            { "in": "path", "name": "eui", "schema": { "type": "string" } },
        ] });
        match QueryContract::of(&operation, &Arc::new(json!({}))).check(query) {
            Ok(()) => Vec::new(),
            Err(problem) => problem.fields.into_iter().map(|found| (found.field, found.detail)).collect(),
        }
    }

    #[test]
    fn a_good_query_passes() {
        assert_eq!(told("text=S%C3%BCd&limit=20&keys=true"), vec![]);
    }

    #[test]
    fn what_is_wrong_is_named() {
        assert_eq!(told("limit=20"), [("text".into(), "it is needed, and was not given".into())]);
        let limit = |detail: &str| vec![("limit".to_owned(), detail.to_owned())];
        assert_eq!(told("text=a&limit=501"), limit("501 was given; 1 to 500 are allowed"));
        assert_eq!(told("text=a&limit=many"), limit("\"many\" was given; a whole number is wanted"));
        assert_eq!(told("text=a&limit=1&limit=2"), limit("it was given twice"));
        assert_eq!(told("text=a&limits=1"), [("limits".into(), "there is no such parameter; limit is one".into())]);
        assert_eq!(told("text=a&eui=1")[0].0, "eui", "a part of the path is no parameter");
    }
}

//! What the description of an operation says of its requests, enforced before its handler runs: fields and query
//! parameters that it does not know are refused by name, and all that is wrong is told at once.

pub(crate) mod body;
mod findings;
pub(crate) mod idempotency;
mod query;
pub(crate) mod tags;

use std::sync::{Arc, OnceLock};

use api::problem::{FieldProblem, Problem};
use axum::http::Method;
use axum::http::request::Parts;
use body::BodyContract;
use query::QueryContract;
use serde_json::Value;
use utoipa::openapi::path::Operation;

use crate::http::error::Refusal;

/// What one operation takes.
pub(crate) struct Contract {
    query: QueryContract,
    body: Option<BodyContract>,
    /// Whether it creates something: then it honours `Idempotency-Key`.
    pub creates: bool,
    /// The largest body, in bytes.
    pub max_body: usize,
    /// Whether what it changes has a revision that the caller may state (`If-Match`).
    pub has_revision: bool,
}

impl Contract {
    /// From an operation of the document, whose schemas are `schemas`.
    ///
    /// # Errors
    /// If it cannot be written as JSON.
    pub(crate) fn of(operation: &Operation, schemas: &Arc<Value>) -> Result<Self, String> {
        let operation = serde_json::to_value(operation).map_err(|why| why.to_string())?;
        let body = operation.pointer("/requestBody/content/application~1json/schema");
        let header = |name: &str| {
            let mut all = operation["parameters"].as_array().into_iter().flatten();
            all.any(|parameter| parameter["in"] == "header" && parameter["name"] == name)
        };
        Ok(Self {
            query: QueryContract::of(&operation, schemas),
            body: body.map(|schema| BodyContract::of(schema, schemas)),
            creates: header("Idempotency-Key"),
            max_body: operation["x-max-body-bytes"].as_u64().map_or(body::MAX_BODY, |bytes| bytes as usize),
            has_revision: header("If-Match"),
        })
    }

    /// Checks the query of a request, and whether it states a revision of what has none.
    ///
    /// # Errors
    /// Names each parameter that is not known or cannot be what was given.
    pub(crate) fn check_head(&self, parts: &Parts) -> Result<(), Refusal> {
        self.query.check(parts.uri.query().unwrap_or_default())?;
        let changes = matches!(parts.method, Method::PUT | Method::PATCH | Method::DELETE);
        if changes && !self.has_revision && tags::if_match(&parts.headers).is_some() {
            let problem = Problem::new(412, "no_revision", "This has no revision that could be compared");
            return Err(problem.detail("leave If-Match out, or send If-Match: *").into());
        }
        Ok(())
    }

    /// Checks a body. What is not JSON at all is left to the handler.
    ///
    /// # Errors
    /// Names each field that is not known, is missing, or cannot be what was given.
    pub(crate) fn check_body(&self, body: &[u8]) -> Result<(), Problem> {
        let Some(contract) = &self.body else { return Ok(()) };
        match serde_json::from_slice::<Value>(body) {
            Ok(value) => contract.check(&value),
            Err(_) => Ok(()),
        }
    }
}

/// A schema of the document, made ready when it is first needed: most operations are not called in a short run.
struct LazyValidator {
    schema: Value,
    schemas: Arc<Value>,
    ready: OnceLock<Option<Ready>>,
}

/// A schema with all that it refers to, and its validator.
struct Ready {
    whole: Value,
    validator: jsonschema::Validator,
}

impl LazyValidator {
    /// For a schema of the document, whose components are `schemas`.
    fn new(schema: &Value, schemas: &Arc<Value>) -> Self {
        Self { schema: schema.clone(), schemas: Arc::clone(schemas), ready: OnceLock::new() }
    }

    fn ready(&self) -> Option<Ready> {
        let mut whole = self.schema.clone();
        if let Some(fields) = whole.as_object_mut() {
            fields
                .insert("components".into(), serde_json::json!({ "schemas": reachable(&self.schema, &self.schemas) }));
        }
        let validator = jsonschema::validator_for(&whole)
            .inspect_err(|why| tracing::error!("a schema of the description cannot be used: {why}"))
            .ok()?;
        Some(Ready { whole, validator })
    }

    /// All that is wrong with a value; `prefix` is the name of what the schema describes, if it is one field.
    fn findings(&self, value: &Value, prefix: &str) -> Vec<FieldProblem> {
        match self.ready.get_or_init(|| self.ready()) {
            Some(ready) => findings::findings(&ready.validator, &ready.whole, value, prefix),
            None => Vec::new(),
        }
    }
}

/// The schemas that one refers to, by name.
fn reachable(schema: &Value, schemas: &Value) -> serde_json::Map<String, Value> {
    let mut found = serde_json::Map::new();
    let mut waiting = vec![schema];
    while let Some(next) = waiting.pop() {
        match next {
            Value::Object(fields) => {
                let name = fields.get("$ref").and_then(Value::as_str).and_then(|at| at.rsplit('/').next());
                if let Some((name, referred)) = name.and_then(|name| Some((name, schemas.get(name)?)))
                    && !found.contains_key(name)
                {
                    found.insert(name.to_owned(), referred.clone());
                    waiting.push(referred);
                }
                waiting.extend(fields.values());
            }
            Value::Array(items) => waiting.extend(items),
            _ => {}
        }
    }
    found
}

/// The known name that is most like one that is not known, if any is much like it.
fn nearest<'a>(name: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let likeness = |known: &str| strsim::jaro_winkler(&name.to_lowercase(), known);
    let best = known.max_by(|a, b| likeness(a).total_cmp(&likeness(b)))?;
    (likeness(best) > 0.75).then_some(best)
}

/// What to say of a name that is not known.
fn unknown<'a>(kind: &str, name: &str, known: impl Iterator<Item = &'a str> + Clone) -> String {
    let mut all: Vec<&str> = known.clone().collect();
    all.sort_unstable();
    match (nearest(name, known), all.as_slice()) {
        (Some(near), _) => format!("there is no such {kind}; {near} is one"),
        (None, []) => format!("there is no such {kind}, and no other"),
        (None, all) => format!("there is no such {kind}; known are {}", all.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_nearest_name_is_offered() {
        let known = ["name", "fleet", "dev_eui", "app_key"];
        assert_eq!(nearest("nmae", known.into_iter()), Some("name"));
        assert_eq!(nearest("devEUI", known.into_iter()), Some("dev_eui"));
        assert_eq!(nearest("latitude", known.into_iter()), None);
        assert_eq!(unknown("field", "appkey", known.into_iter()), "there is no such field; app_key is one");
        assert!(unknown("field", "x", known.into_iter()).ends_with("known are app_key, dev_eui, fleet, name"));
    }
}

//! The schemas of messages as files of their own: those who take messages have no use for the whole description.

use std::collections::BTreeSet;

use api::outlet::MessageType;
use serde_json::{Map, Value, json};

/// Where the description keeps its schemas, and where such a file does.
const FROM: &str = "#/components/schemas/";
const TO: &str = "#/$defs/";

/// The schema of each type of message, JSON Schema 2020-12, by the type's name.
pub(crate) fn message_schemas(document: &Value) -> Vec<(&'static str, Value)> {
    let schemas = &document["components"]["schemas"];
    let mapping = &schemas["Message"]["discriminator"]["mapping"];
    let of = |kind: MessageType| {
        let root = mapping[kind.name()].as_str()?.strip_prefix(FROM)?;
        Some((kind.name(), schema(schemas, root, kind.name())))
    };
    MessageType::ALL.into_iter().filter_map(of).collect()
}

fn schema(schemas: &Value, root: &str, kind: &str) -> Value {
    let mut needed = BTreeSet::new();
    refer(&schemas[root], schemas, &mut needed);
    let mut schema = moved(&schemas[root]);
    let defs: Map<String, Value> = needed.iter().map(|name| (name.clone(), moved(&schemas[name]))).collect();
    schema["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
    schema["title"] = json!(format!("A message of the type {kind}"));
    schema["$defs"] = defs.into();
    schema
}

/// The names of all schemas that one refers to, and that those do.
fn refer(value: &Value, schemas: &Value, needed: &mut BTreeSet<String>) {
    match value {
        Value::Object(fields) => {
            if let Some(name) = fields.get("$ref").and_then(Value::as_str).and_then(|path| path.strip_prefix(FROM))
                && needed.insert(name.to_owned())
            {
                refer(&schemas[name], schemas, needed);
            }
            fields.values().for_each(|value| refer(value, schemas, needed));
        }
        Value::Array(items) => items.iter().for_each(|value| refer(value, schemas, needed)),
        _ => {}
    }
}

/// A schema with its references led to where they are in the file.
fn moved(value: &Value) -> Value {
    match value {
        Value::Object(fields) => fields.iter().map(|(name, value)| (name.clone(), moved(value))).collect(),
        Value::Array(items) => items.iter().map(moved).collect(),
        Value::String(text) if text.starts_with(FROM) => text.replacen(FROM, TO, 1).into(),
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::http::document;

    #[test]
    fn the_files_in_docs_are_those_of_today() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
        let current = message_schemas(&serde_json::to_value(document()).unwrap());
        assert_eq!(current.len(), MessageType::ALL.len());
        for (kind, schema) in current {
            let text = std::fs::read_to_string(folder.join(format!("{kind}.schema.json"))).unwrap_or_default();
            let committed: Value = serde_json::from_str(&text).unwrap_or_default();
            assert!(committed == schema, "run: cargo run -p service -- message-schemas docs/schemas");
            let validator = jsonschema::validator_for(&schema).unwrap();
            assert!(!validator.is_valid(&json!({ "type": kind })), "what every message has is wanted");
        }
    }
}

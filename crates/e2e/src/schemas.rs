//! The schemas of messages in `docs/schemas`, and whether what was sent is as they say.

use std::collections::HashMap;
use std::path::Path;
use std::sync::LazyLock;

use jsonschema::Validator;
use serde_json::{Value, json};

static SCHEMAS: LazyLock<HashMap<String, Validator>> = LazyLock::new(|| {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let files = std::fs::read_dir(folder).expect("docs/schemas");
    let read = |file: std::fs::DirEntry| {
        let kind = file.file_name().into_string().ok()?.strip_suffix(".schema.json")?.to_owned();
        let mut schema: Value = serde_json::from_str(&std::fs::read_to_string(file.path()).ok()?).ok()?;
        // Those who take messages are to ignore what they do not know; here nothing may be unknown.
        schema["unevaluatedProperties"] = json!(false);
        Some((kind, jsonschema::validator_for(&schema).expect("a schema")))
    };
    files.filter_map(Result::ok).filter_map(read).collect()
});

/// What is wrong with a message that was sent as it is documented; nothing for what is no such message, as what a script makes.
pub fn wrong_with(sent: &Value) -> Option<String> {
    let whole = ["id", "time", "estate", "type"].iter().all(|field| sent[field].is_string());
    // Flat, no value is an object.
    let flat = sent.as_object().is_none_or(|fields| fields.keys().any(|name| name.contains('.')));
    if !whole || flat {
        return None;
    }
    let kind = sent["type"].as_str()?;
    let Some(schema) = SCHEMAS.get(kind) else { return Some(format!("there is no schema for {kind}")) };
    let why: Vec<String> =
        schema.iter_errors(sent).map(|error| format!("{}: {error}", error.instance_path())).collect();
    (!why.is_empty()).then(|| format!("{sent} is not as its schema says: {}", why.join("; ")))
}

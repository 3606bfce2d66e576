//! What is sent of a message.

use api::outlet::Shape;
use serde_json::{Map, Value};

/// How deep objects are looked into.
const DEEPEST: usize = 16;

/// A message in the shape that is sent; `json` is the message as it is stored. `None` if a script is to make it, which is not
/// run here.
///
/// # Errors
/// If it is no JSON object, which no message is.
pub fn shaped(shape: &Shape, json: &str) -> Result<Option<String>, serde_json::Error> {
    let object = match shape {
        Shape::Script(_) => return Ok(None),
        Shape::Message => return Ok(Some(json.to_owned())),
        Shape::Flat => flat(&serde_json::from_str(json)?),
        Shape::Fields(paths) => {
            let message: Value = serde_json::from_str(json)?;
            let found = paths.iter().filter_map(|path| Some((path.clone(), field(&message, path)?.clone())));
            found.collect()
        }
    };
    serde_json::to_string(&Value::Object(object)).map(Some)
}

/// One object without objects and lists in it.
fn flat(message: &Value) -> Map<String, Value> {
    let mut flat = Map::new();
    put(&mut flat, String::new(), message, DEEPEST);
    flat
}

fn put(flat: &mut Map<String, Value>, path: String, value: &Value, deeper: usize) {
    let inner = |name: &str| if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
    match (value, deeper) {
        (Value::Object(fields), 1..) => {
            fields.iter().for_each(|(name, value)| put(flat, inner(name), value, deeper - 1));
        }
        (Value::Array(items), 1..) => {
            let numbered = items.iter().enumerate();
            numbered.for_each(|(index, value)| put(flat, inner(&index.to_string()), value, deeper - 1));
        }
        _ => drop(flat.insert(path, value.clone())),
    }
}

/// What a path leads to. Names of readings may have dots in them.
pub fn field<'a>(message: &'a Value, path: &str) -> Option<&'a Value> {
    at(message, path, DEEPEST)
}

fn at<'a>(value: &'a Value, path: &str, deeper: usize) -> Option<&'a Value> {
    let step = |name: &str| match value {
        Value::Object(fields) => fields.get(name),
        Value::Array(items) => items.get(name.parse::<usize>().ok()?),
        _ => None,
    };
    if let Some(found) = step(path) {
        return Some(found);
    }
    let deeper = deeper.checked_sub(1)?;
    path.match_indices('.').find_map(|(dot, _)| at(step(&path[..dot])?, &path[dot + 1..], deeper))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    fn message() -> String {
        json!({
            "id": "01K", "device": { "eui": "02b0090000000001" },
            "readings": { "water_level": { "value": 2.5, "unit": "m" }, "cell.1": { "value": 3.1 } },
            "heard_by": [{ "name": "chapel-rise", "rssi_dbm": -97 }, { "name": "north-weir", "rssi_dbm": -110 }],
            "warnings": []
        })
        .to_string()
    }

    fn shape(shape: &Shape) -> Value {
        serde_json::from_str(&shaped(shape, &message()).unwrap().unwrap()).unwrap()
    }

    #[test]
    fn as_it_is_nothing_is_written_anew() {
        assert_eq!(shaped(&Shape::Message, "{ \"b\": 1.50 }").unwrap().unwrap(), "{ \"b\": 1.50 }");
    }

    #[test]
    fn flat_is_one_object_of_values() {
        let flat = shape(&Shape::Flat);
        assert_eq!(flat["readings.water_level.value"], 2.5);
        assert_eq!(flat["heard_by.1.name"], "north-weir");
        assert!(flat.as_object().unwrap().values().all(|value| !value.is_object() && !value.is_array()));
        assert!(flat.get("warnings").is_none(), "an empty list has no values");
    }

    #[test]
    fn fields_are_named_by_their_paths_and_those_that_are_missing_are_left_out() {
        let paths = ["id", "readings.cell.1.value", "readings.water_level", "heard_by.0.rssi_dbm", "heard_by.9", "no"];
        let shaped = shape(&Shape::Fields(paths.iter().map(ToString::to_string).collect()));
        assert_eq!(
            shaped,
            json!({ "id": "01K", "readings.cell.1.value": 3.1, "readings.water_level": { "value": 2.5, "unit": "m" },
                "heard_by.0.rssi_dbm": -97 })
        );
    }

    proptest! {
        #[test]
        fn any_path_ends(path in "[a-z.0-9]{0,60}") {
            let _ = shaped(&Shape::Fields(vec![path]), &message()).unwrap();
        }
    }
}

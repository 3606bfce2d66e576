//! The other way: named values to the bytes of a downlink, by the commands of a field table.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::outcome::Encoded;
use crate::table::field::Field;
use crate::table::{Command, Table};

/// Values by name; those within objects by names with dots.
pub(crate) fn flat(values: &serde_json::Map<String, Value>) -> BTreeMap<String, &Value> {
    fn walk<'v>(before: &str, values: &'v serde_json::Map<String, Value>, out: &mut BTreeMap<String, &'v Value>) {
        for (name, value) in values {
            let name = if before.is_empty() { name.clone() } else { format!("{before}.{name}") };
            match value {
                Value::Object(inner) => walk(&name, inner, out),
                value => drop(out.insert(name, value)),
            }
        }
    }
    let mut out = BTreeMap::new();
    walk("", values, &mut out);
    out
}

impl Command {
    fn takes(&self, values: &BTreeMap<String, &Value>) -> bool {
        let has = |name: &str| values.contains_key(name);
        self.fields.len() == values.len() && self.fields.iter().all(|field| has(field.name()))
    }

    fn label(&self) -> String {
        let names: Vec<&str> = self.fields.iter().map(Field::name).collect();
        if names.is_empty() { "no values".into() } else { names.join(" with ") }
    }
}

impl Table {
    /// Makes a downlink of named values, by the command that takes just these.
    ///
    /// # Errors
    /// In words: if there is no such command, or a value does not fit.
    pub fn encode(&self, values: &serde_json::Map<String, Value>) -> Result<Encoded, String> {
        let values = flat(values);
        let Some(command) = self.commands.iter().find(|command| command.takes(&values)) else {
            let known: Vec<String> = self.commands.iter().map(Command::label).collect();
            return Err(match known.len() {
                0 => "the table has no command".into(),
                _ => format!("no command takes just these values; there is one for {}", known.join(", one for ")),
            });
        };
        let mut bytes = command.lead.clone();
        for field in &command.fields {
            field.write(values[field.name()], &mut bytes).map_err(|why| format!("{}: {why}", field.name()))?;
        }
        Ok(Encoded { bytes, port: Some(command.port), warnings: Vec::new() })
    }
}

//! An outlet's settings as they are sent to the service.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use serde_json::{Map, Value, json};

use crate::args::secret;
use crate::commands::outlet::args::{MessagesArgs, OutletSecretArgs};

/// Fields of an object; those that are not given are left out.
#[derive(Default)]
pub(super) struct Fields(pub Map<String, Value>);

impl Fields {
    pub(super) fn put(&mut self, name: &str, value: Option<impl Into<Value>>) {
        if let Some(value) = value {
            self.0.insert(name.to_owned(), value.into());
        }
    }

    /// An object in this one, if it has fields.
    pub(super) fn put_inside(&mut self, name: &str, fields: Self) {
        if !fields.0.is_empty() {
            self.0.insert(name.to_owned(), fields.0.into());
        }
    }
}

pub(super) fn file(path: Option<&Path>) -> Result<Option<String>> {
    path.map(|path| std::fs::read_to_string(path).with_context(|| format!("reading {}", path.display()))).transpose()
}

/// Names and values as they are given: `NAME=VALUE`.
pub(super) fn pairs(option: &str, given: &[String]) -> Result<Option<Value>> {
    let mut pairs = Map::new();
    for text in given {
        // A secret is not repeated.
        let Some((name, value)) = text.split_once('=') else { bail!("{option} has to be NAME=VALUE") };
        pairs.insert(name.trim().to_owned(), value.trim().into());
    }
    Ok((!pairs.is_empty()).then_some(pairs.into()))
}

/// Which messages, and what is sent of them.
pub(super) fn messages(args: MessagesArgs, fields: &mut Fields) -> Result<()> {
    fields.put("fleet", args.fleet);
    fields.put("types", Some(args.types).filter(|types| !types.is_empty()));
    fields.put("tag", args.tag);
    fields.put("model", args.model);
    let chosen = (!args.field.is_empty()).then(|| json!({ "fields": args.field }));
    let script = file(args.script.as_deref())?.map(|script| json!({ "script": script }));
    fields.put("shape", args.shape.map(Value::from).or(chosen).or(script));
    Ok(())
}

/// The secrets that are given.
pub(super) fn secrets(args: &OutletSecretArgs) -> Result<Fields> {
    let mut secrets = Fields::default();
    let line = |wanted: bool| wanted.then(secret::line).transpose();
    secrets.put("signing", args.signing_secret.clone().or(line(args.signing_secret_stdin)?));
    secrets.put("bearer", args.bearer.clone().or(line(args.bearer_stdin)?));
    secrets.put("password", line(args.password_stdin)?);
    secrets.put("headers", pairs("--secret-header", &args.secret_header)?);
    secrets.put("key", file(args.key.as_deref())?);
    Ok(secrets)
}

/// Takes settings away by the names that options have for them.
pub(super) fn without(names: &[String], body: &mut Fields, to: &mut Fields, secrets: &mut Fields) -> Result<()> {
    for name in names {
        let null = Some(Value::Null);
        match name.as_str() {
            "fleet" | "tag" | "model" | "types" => body.put(name, null),
            "account" => {
                to.put(name, null.clone());
                secrets.put("password", null);
            }
            "certificate" => {
                to.put(name, null.clone());
                secrets.put("key", null);
            }
            "together" | "retain" | "commands" | "create" => to.put(name, null),
            "expires-after" => to.put("expires_after_s", null),
            "properties" => to.put("user_properties", null),
            "client-id" => to.put("client_id", null),
            "without-tls" => to.put("without_tls", null),
            "authority" => to.put("trust", null),
            "headers" => {
                to.put(name, null.clone());
                secrets.put(name, null);
            }
            "signing-secret" => secrets.put("signing", null),
            "bearer" | "password" => secrets.put(name, null),
            other => bail!(
                "--without {other}: fleet, tag, model, types, account, together, authority, certificate, signing-secret, \
                 bearer, password, headers, retain, expires-after, properties, client-id, commands, create and without-tls \
                 are allowed"
            ),
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_given_is_not_sent() {
        let mut body = Fields::default();
        let none = MessagesArgs {
            fleet: None,
            types: Vec::new(),
            tag: None,
            model: None,
            shape: None,
            field: Vec::new(),
            script: None,
        };
        messages(none, &mut body).unwrap();
        body.put_inside("to", Fields::default());
        assert!(body.0.is_empty());
    }

    #[test]
    fn a_header_has_a_name_and_a_value() {
        let headers = pairs("--header", &["X-Harbour = north=quay".into()]).unwrap().unwrap();
        assert_eq!(headers, json!({ "X-Harbour": "north=quay" }));
        let told = pairs("--secret-header", &["a secret".into()]).unwrap_err().to_string();
        assert!(!told.contains("a secret"), "{told}");
    }

    #[test]
    fn settings_are_taken_away_with_what_belongs_to_them() {
        let (mut body, mut webhook, mut secrets) = (Fields::default(), Fields::default(), Fields::default());
        without(&["account".into(), "fleet".into()], &mut body, &mut webhook, &mut secrets).unwrap();
        assert!(body.0["fleet"].is_null() && webhook.0["account"].is_null() && secrets.0["password"].is_null());
        assert!(without(&["url".into()], &mut body, &mut webhook, &mut secrets).is_err());
    }
}

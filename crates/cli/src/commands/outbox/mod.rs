//! `heron outbox`.

mod add;
pub(crate) mod args;
mod set;

use std::cmp::Reverse;

use anyhow::{Context as _, Result, bail};
use api::device::outbox::{NewOutboxItem, OutboxItem, OutboxReadBack, Values};
use chrono::{DateTime, Utc};
use domain::downlink::expected_words;
use serde_json::Value;

use crate::client::{Client, segment};
use crate::commands::group;
use crate::commands::outbox::args::{CargoArgs, OutboxAddArgs, OutboxVerb};
use crate::failure::NotFound;
use crate::show::{self, Out};

/// The path of the outbox of a device or a group.
async fn path(client: &Client, target: &str) -> Result<String> {
    let eui = match client.dev_eui(target).await {
        Ok(eui) => eui,
        Err(unknown) if unknown.is::<NotFound>() => match group::find(client, target).await {
            Ok(group) => group.eui,
            Err(why) if why.is::<NotFound>() => {
                let why =
                    format!("neither a device nor a group has the name {target:?}, and it is no EUI (16 hex digits)");
                return Err(NotFound(why).into());
            }
            Err(why) => return Err(why),
        },
        Err(why) => return Err(why),
    };
    client.in_estate(&format!("devices/{eui}/outbox")).await
}

/// What it waits for and when that is expected, or what became of it.
fn note(note: Option<&str>, expected_at: Option<DateTime<Utc>>) -> String {
    let expected = expected_at.map(|at| expected_words(at, Utc::now()));
    note.map(str::to_owned).into_iter().chain(expected).collect::<Vec<_>>().join("; ")
}

fn lines(i: &OutboxItem) -> Vec<(&'static str, String)> {
    let mut lines = vec![
        ("id", i.id.clone()),
        ("port", i.port.to_string()),
        ("payload", show::pairs(&i.payload)),
        ("confirmed", if i.confirmed { "yes" } else { "no" }.into()),
        ("state", i.state.label().into()),
        ("note", note(i.note.as_deref(), i.expected_at)),
    ];
    lines.extend(i.expires_at.map(|at| ("expires", show::moment(at))));
    lines
}

fn read_back(i: &OutboxReadBack) -> Vec<(&'static str, String)> {
    let mut lines = vec![
        ("port", i.port.to_string()),
        (
            "payload",
            format!("{} ({} {})", show::pairs(&i.payload), i.length, if i.length == 1 { "byte" } else { "bytes" }),
        ),
        ("when", note(Some(&i.note), i.expected_at)),
    ];
    if let Some(values) = &i.reads_as {
        let values: Vec<String> = values.iter().map(|(name, value)| format!("{name} = {value}")).collect();
        lines.push(("reads as", values.join(", ")));
    }
    lines.extend(i.warnings.iter().map(|warning| ("warning", warning.clone())));
    lines
}

async fn list(client: &Client, out: &Out, path: &str) -> Result<()> {
    let mut items: Vec<OutboxItem> = client.all(path, &[]).await?;
    // They come newest first. What waits stands in its line, behind what is under way.
    items.sort_by_key(|item| (!item.state.is_open(), item.ahead, Reverse(item.added_at)));
    let none = "No downlink was ever added. Next: `heron outbox add DEVICE --port PORT --payload HEX`.";
    out.list(&items, none, &["ID", "PORT", "PAYLOAD", "STATE", "TRIES", "ADDED", "NOTE"], |i| {
        vec![
            i.id.clone(),
            i.port.to_string(),
            i.payload.clone(),
            i.state.label().into(),
            i.attempts.to_string(),
            show::ago(Some(i.added_at)),
            note(i.note.as_deref(), i.expected_at),
        ]
    })
}

/// `gate.opening=40`: an object `gate` with a number. What is no JSON is a text.
pub(super) fn put_value(values: &mut Values, given: &str) -> Result<()> {
    let (name, value) = given.split_once('=').with_context(|| format!("--value {given}: NAME=VALUE is wanted"))?;
    let value = serde_json::from_str(value).unwrap_or_else(|_| Value::String(value.to_owned()));
    let mut parts = name.split('.').collect::<Vec<_>>();
    let last = parts.pop().filter(|_| !name.split('.').any(str::is_empty));
    let Some(last) = last else { bail!("--value {given}: the name is empty, or ends or begins with a dot") };
    let mut inside = values;
    for part in parts {
        let entry = inside.entry(part).or_insert_with(|| Value::Object(Values::new()));
        let Value::Object(next) = entry else { bail!("--value {given}: {part} has a value already") };
        inside = next;
    }
    inside.insert(last.to_owned(), value);
    Ok(())
}

/// What is sent, as the service wants it.
pub(super) fn cargo(args: CargoArgs) -> Result<NewOutboxItem> {
    let CargoArgs { payload, base64, text, command, values: given, json_values } = args;
    let mut values = Values::new();
    given.iter().try_for_each(|given| put_value(&mut values, given))?;
    let values = match json_values {
        Some(json) => Some(serde_json::from_str(&json).context("--json-values: an object of JSON is wanted")?),
        None => (!given.is_empty()).then_some(values),
    };
    Ok(NewOutboxItem { payload, payload_base64: base64, text, command, values, ..NewOutboxItem::default() })
}

fn new_item(args: OutboxAddArgs) -> Result<NewOutboxItem> {
    let OutboxAddArgs { port, cargo: given, confirmed, first, attempts, expires_in, .. } = args;
    let (max_attempts, expires_in_s) = (attempts, expires_in);
    Ok(NewOutboxItem { port, confirmed, first, max_attempts, expires_in_s, ..cargo(given)? })
}

pub(crate) async fn run(client: &Client, out: &Out, verb: OutboxVerb) -> Result<()> {
    match verb {
        OutboxVerb::List { target } => list(client, out, &path(client, &target).await?).await,
        OutboxVerb::Show { target, id } => {
            let path = format!("{}/{}", path(client, &target).await?, segment(&id));
            out.one(&client.get::<OutboxItem>(&path, &[]).await?, lines)
        }
        OutboxVerb::Add(args) => add::run(client, out, *args).await,
        OutboxVerb::Set { target, id, to } => set::run(client, out, target, id, to).await,
        OutboxVerb::Remove { target, id } => {
            let path = format!("{}/{}", path(client, &target).await?, segment(&id));
            let answer = client.delete(&path).await?;
            out.one(&answer.json::<OutboxItem>().await?, lines)
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn values_are_read_as_json_where_they_are_and_as_text_where_not() {
        let mut values = Values::new();
        for given in ["gate.opening=40", "gate.mode=ebb", "quiet=true", "note=a=b"] {
            put_value(&mut values, given).unwrap();
        }
        let expected = json!({ "gate": { "opening": 40, "mode": "ebb" }, "quiet": true, "note": "a=b" });
        assert_eq!(Value::Object(values.clone()), expected);
        for bad in ["gate", "=4", "gate.=4", "quiet.long=1"] {
            assert!(put_value(&mut values, bad).unwrap_err().to_string().contains(bad), "{bad}");
        }
    }
}

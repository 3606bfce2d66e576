//! `heron decoder test`: what a model's decoder must make of payloads.

use anyhow::{Result, bail};
use api::model::draft::{Draft, DraftPayload, Tried};
use api::model::{Model, PutModel, TestPayload};
use domain::model::draft;
use serde::Serialize;

use super::version_of;
use crate::client::Client;
use crate::commands::decoder::args::{TestAddArgs, TestVerb};
use crate::failure::NotFound;
use crate::show::{self, Out};

/// A test, and the versions whose decoder it is about.
#[derive(Serialize)]
struct Listed {
    #[serde(skip_serializing_if = "Option::is_none")]
    versions: Option<String>,
    #[serde(flatten)]
    test: TestPayload,
}

pub(super) async fn run(client: &Client, out: &Out, verb: TestVerb, yes: bool) -> Result<()> {
    match verb {
        TestVerb::List { model } => list(client, out, &model).await,
        TestVerb::Add(args) => add(client, out, args).await,
        TestVerb::Remove { model, name, version } => {
            let path = client.one("models", &model).await?;
            let mut about = client.get::<Model>(&path, &[]).await?.about;
            let tests = tests_of(&mut about, version.as_deref())?;
            let before = tests.len();
            tests.retain(|test| test.name != name);
            if tests.len() == before {
                return Err(NotFound(format!("{model} has no test {name:?}")).into());
            }
            show::confirm(yes, &format!("The test {name:?} of {model} will be removed."))?;
            let _: Model = client.put_noted(&path, &format!("test {name:?} removed"), &about).await?;
            out.said(format!("The test {name:?} was removed."))
        }
    }
}

async fn list(client: &Client, out: &Out, model: &str) -> Result<()> {
    let about = client.get::<Model>(&client.one("models", model).await?, &[]).await?.about;
    let of_versions = about.versions.iter().flat_map(|version| {
        version.tests.iter().map(|test| Listed { versions: Some(version.label()), test: test.clone() })
    });
    let all = about.tests.iter().map(|test| Listed { versions: None, test: test.clone() });
    let all: Vec<Listed> = all.chain(of_versions).collect();
    let none = "It has no test. Next: `heron decoder test add MODEL --name NAME --payload HEX`.";
    out.list(&all, none, &["TEST", "PORT", "PAYLOAD", "MUST GIVE", "VERSIONS"], |one| {
        let Listed { versions, test } = one;
        let (port, bytes) = (test.port.to_string(), show::pairs(&test.bytes));
        vec![test.name.clone(), port, bytes, expected(test), versions.clone().unwrap_or_default()]
    })
}

/// What a test wants, on one line.
fn expected(test: &TestPayload) -> String {
    if test.fails {
        return "an error".into();
    }
    test.readings.iter().map(|(name, value)| format!("{name} = {value}")).collect::<Vec<_>>().join(", ")
}

/// The tests of a model's decoder, or of the one for some versions.
fn tests_of<'a>(about: &'a mut PutModel, version: Option<&str>) -> Result<&'a mut Vec<TestPayload>> {
    if version.is_none() {
        return Ok(&mut about.tests);
    }
    match version_of(about, version)? {
        Some(version) => Ok(&mut version.tests),
        None => bail!("the model has no decoder of its own for that"),
    }
}

async fn add(client: &Client, out: &Out, args: TestAddArgs) -> Result<()> {
    let path = client.one("models", &args.model).await?;
    let draft = Draft {
        version: args.version.clone(),
        payloads: args.payload.into_iter().map(|bytes| DraftPayload { port: args.port, bytes }).collect(),
        messages: args.message.into_iter().collect(),
        ..Draft::default()
    };
    let tried: Tried = client.post(&format!("{path}/try"), &draft).await?;
    let Some(uplink) = tried.uplinks.first() else { bail!("there is nothing to keep") };
    let test = draft::as_test(&uplink.after, &args.name, uplink.port, &uplink.payload);
    let mut about = client.get::<Model>(&path, &[]).await?.about;
    let tests = tests_of(&mut about, args.version.as_deref())?;
    tests.retain(|other| other.name != test.name);
    tests.push(test.clone());
    let note = format!("test {:?} kept", args.name);
    let _: Model = client.put_noted(&path, &note, &about).await?;
    if out.json {
        return out.json(&test);
    }
    out.line(format!("Kept: port {} [{}] must give {}.", test.port, show::pairs(&test.bytes), expected(&test)))
}

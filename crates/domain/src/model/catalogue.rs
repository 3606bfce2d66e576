//! The catalogue: models as a folder of text files, and what happens to them when it is imported again.
//!
//! ```text
//! models/
//!   brinemark-tg2/          the model's short name
//!     model.toml            who makes it, its radio, its readings, its tests
//!     decoder.js            what model.toml names: scripts, field tables and the like
//! ```
//! Folders above the models' do not matter, and neither do other files. `docs/catalogue.md` has every field.

use std::collections::{BTreeMap, BTreeSet};

use api::model::{ModelVersion, PutModel, TestCommand, TestPayload};
use api::problem::{Problem, bad_field};
use api::radio::settings::RadioSettings;
use api::reading::ReadingRule;
use serde::Deserialize;
use serde_json::Value;

use crate::input;
use crate::model::request::{DECODER_FILES, check, kind_of_file};

/// The file that makes a folder a model.
pub const FILE: &str = "model.toml";

/// The largest archive taken, in bytes.
pub const LARGEST: usize = 16 << 20;

/// Models that one catalogue can have.
pub const MOST_MODELS: usize = 2000;

/// Whether a file of this name is needed.
pub fn wanted(name: &str) -> bool {
    name == FILE || kind_of_file(name).is_some()
}

/// Files by their path, with `/` between its parts.
pub type Files = BTreeMap<String, Vec<u8>>;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ModelFile {
    maker: String,
    name: String,
    #[serde(default)]
    description: String,
    profile_id: Option<String>,
    decoder: Option<String>,
    #[serde(default)]
    test: Vec<TestPayload>,
    #[serde(default)]
    command: Vec<TestCommand>,
    #[serde(default)]
    version: Vec<VersionFile>,
    /// A unit, or more, by reading; empty where a reading has none.
    #[serde(default)]
    readings: BTreeMap<String, ReadingRule>,
    #[serde(default)]
    radio: RadioSettings,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct VersionFile {
    #[serde(default)]
    hardware: Vec<String>,
    #[serde(default)]
    firmware: Vec<String>,
    decoder: String,
    #[serde(default)]
    test: Vec<TestPayload>,
    #[serde(default)]
    command: Vec<TestCommand>,
}

/// A model as it stands in a catalogue.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// Its short name: that of its folder.
    pub slug: String,
    /// The model, or what is wrong with its files.
    pub model: Result<PutModel, Problem>,
}

/// The models among some files, by short name.
///
/// # Errors
/// If there is none, or there are too many.
pub fn read(files: &Files) -> Result<Vec<Entry>, Problem> {
    let folders: Vec<&str> = files.keys().filter_map(|path| folder(path, FILE)).collect();
    if folders.is_empty() {
        let detail = "each model is a folder with a model.toml in it, and there is no such file";
        return Err(Problem::new(422, "no_models", "This is no catalogue of models").detail(detail));
    }
    if folders.len() > MOST_MODELS {
        let given = format!("{} models", folders.len());
        return Err(bad_field("catalogue", &given, format!("at most {MOST_MODELS} are allowed")));
    }
    let mut seen = BTreeSet::new();
    let mut entries: Vec<Entry> = folders
        .into_iter()
        .map(|folder| {
            let slug = folder.rsplit('/').next().unwrap_or(folder).to_owned();
            let model = match seen.insert(slug.clone()) {
                true => read_model(files, folder),
                false => Err(bad_field("folder", folder, "another folder of this catalogue has the same name")),
            };
            Entry { slug, model }
        })
        .collect();
    entries.sort_by(|a, b| a.slug.cmp(&b.slug));
    Ok(entries)
}

/// The folder a file of this name lies in.
fn folder<'a>(path: &'a str, name: &str) -> Option<&'a str> {
    path.strip_suffix(name)?.strip_suffix('/')
}

fn text<'a>(files: &'a Files, path: &str, field: &str) -> Result<&'a str, Problem> {
    let Some(bytes) = files.get(path) else {
        return Err(bad_field(field, path, "there is no such file in the catalogue"));
    };
    std::str::from_utf8(bytes).map_err(|_| bad_field(field, path, "it is not UTF-8 text"))
}

fn read_model(files: &Files, folder: &str) -> Result<PutModel, Problem> {
    input::slug("folder", folder.rsplit('/').next().unwrap_or(folder))?;
    let path = format!("{folder}/{FILE}");
    let file: ModelFile = toml::from_str(text(files, &path, "file")?).map_err(|why| {
        let place = why.span().map_or_else(String::new, |span| {
            let before = files.get(&path).map_or(&[][..], |bytes| &bytes[..span.start.min(bytes.len())]);
            format!("line {}: ", before.iter().filter(|byte| **byte == b'\n').count() + 1)
        });
        Problem::new(422, "bad_model_file", "The model cannot be read")
            .field("file")
            .detail(format!("{path}, {place}{}", why.message()))
    })?;
    let decoder = |name: &str| {
        let plain = !name.contains(['/', '\\']) && name != "..";
        if !plain {
            return Err(bad_field("decoder", name, "the name of a file in the model's own folder is wanted"));
        }
        let Some(kind) = kind_of_file(name) else {
            return Err(bad_field("decoder", name, format!("a file that ends with {DECODER_FILES} is wanted")));
        };
        Ok((text(files, &format!("{folder}/{name}"), "decoder")?.to_owned(), kind))
    };
    let versions = file.version.into_iter().map(|version| {
        let VersionFile { hardware, firmware, decoder: name, test, command } = version;
        let (decoder, decoder_kind) = decoder(&name)?;
        Ok(ModelVersion { hardware, firmware, decoder, decoder_kind, tests: test, commands: command })
    });
    let versions = versions.collect::<Result<_, Problem>>()?;
    let (decoder, decoder_kind) = file.decoder.as_deref().map(decoder).transpose()?.unzip();
    let model = PutModel {
        maker: file.maker,
        name: file.name,
        description: file.description,
        profile_id: file.profile_id,
        decoder,
        decoder_kind: decoder_kind.unwrap_or_default(),
        tests: file.test,
        commands: file.command,
        versions,
        readings: file.readings.into_iter().filter(|(_, rule)| *rule != ReadingRule::default()).collect(),
        radio: file.radio,
    };
    check(model)
}

fn fields(model: &PutModel) -> BTreeMap<String, Value> {
    match serde_json::to_value(model) {
        Ok(Value::Object(fields)) => fields.into_iter().collect(),
        _ => BTreeMap::new(),
    }
}

/// The fields in which two states of a model differ.
pub fn differences(a: &PutModel, b: &PutModel) -> Vec<String> {
    let (a, b) = (fields(a), fields(b));
    a.into_iter().filter(|(name, value)| b.get(name) != Some(value)).map(|(name, _)| name).collect()
}

/// A model after its catalogue has changed: fields edited here stay, all others follow the catalogue.
#[derive(Debug, Clone, PartialEq)]
pub struct Merged {
    /// The result.
    pub model: PutModel,
    /// Fields that follow the catalogue and are different now.
    pub changed: Vec<String>,
    /// Fields that were edited here and stay, though the catalogue has changed them too.
    pub kept: Vec<String>,
}

/// Merges the imported model, its present state, and the catalogue's new state.
pub fn merge(imported: &PutModel, here: &PutModel, there: &PutModel) -> Merged {
    let edited: BTreeSet<String> = differences(imported, here).into_iter().collect();
    let moved: BTreeSet<String> = differences(imported, there).into_iter().collect();
    let (ours, theirs) = (fields(here), fields(there));
    let of = |name: &String| if edited.contains(name) { ours.get(name) } else { theirs.get(name) };
    let merged: serde_json::Map<String, Value> =
        ours.keys().filter_map(|name| Some((name.clone(), of(name)?.clone()))).collect();
    // Every field is one that a model has, so it reads back.
    let model = serde_json::from_value(Value::Object(merged)).unwrap_or_else(|_| here.clone());
    let changed = differences(here, &model);
    let same = |name: &&String| ours.get(*name) == theirs.get(*name);
    let kept = edited.intersection(&moved).filter(|name| !same(name)).cloned().collect();
    Merged { model, changed, kept }
}

#[cfg(test)]
#[path = "catalogue_tests.rs"]
mod tests;

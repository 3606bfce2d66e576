//! Models made ready to decode, and catalogues compared with what is there.

use std::collections::HashMap;
use std::sync::Arc;

use api::model::catalogue::{ModelFate, ModelOutcome};
use api::model::{DecoderKind, PutModel, TestCommand};
use domain::model::catalogue::{Entry, Files, Merged, merge};
use store::{ImportedModel, ModelRow};

use crate::decoding::ready::{Decoder, Decoders, Pace, Ready};
use crate::decoding::workers;
use crate::decoding::workers::{FoundFlaw, Lane};

/// The catalogue that comes with the service.
#[derive(rust_embed::RustEmbed)]
#[folder = "../../catalogue"]
struct Shipped;

/// The files of the catalogue that comes with the service.
pub(crate) fn shipped() -> Files {
    Shipped::iter().filter_map(|path| Some((path.to_string(), Shipped::get(&path)?.data.into_owned()))).collect()
}

/// Its name among sources.
pub(crate) const SHIPPED: &str = "shipped";

fn decoder(about: &PutModel, version: String, ready: Result<Ready, String>, commands: &[TestCommand]) -> Arc<Decoder> {
    let commands = commands.iter().filter(|command| !command.fails).cloned().collect();
    Arc::new(Decoder { version, ready, rules: about.readings.clone(), commands, pace: Pace::default() })
}

/// A stored model's decoders. A model with a flaw has none that works: each uplink then says why.
pub(crate) fn loaded(about: &PutModel, flaw: Option<&str>) -> Decoders {
    let load = |source: &str, kind: DecoderKind| match flaw {
        Some(flaw) => Err(format!("the model's decoder is not used until it is fixed: {flaw}")),
        None => Ready::load(kind, source, Lane::People).map_err(|failure| failure.message),
    };
    let versions = about.versions.iter();
    Decoders {
        versions: versions
            .map(|version| {
                let ready = load(&version.decoder, version.decoder_kind);
                (version.clone(), decoder(about, version.label(), ready, &version.commands))
            })
            .collect(),
        others: about
            .decoder
            .as_deref()
            .map(|source| decoder(about, String::new(), load(source, about.decoder_kind), &about.commands)),
    }
}

/// A model's decoders, loaded and tried on its test payloads; and what is wrong with them. Blocks while it waits for
/// workers.
pub(crate) fn load(about: &PutModel) -> (Decoders, Option<FoundFlaw>) {
    let flaw = workers::flaw(about);
    (loaded(about, flaw.as_ref().map(|flaw| flaw.why.as_str())), flaw)
}

/// What is wrong with a model's decoders, as text.
pub(crate) fn flaw_of(about: &PutModel) -> Option<String> {
    workers::flaw(about).map(|flaw| flaw.why)
}

/// The results of importing a catalogue's models: an outcome for each, and what to write to the database.
pub(crate) fn plan(source: &str, entries: Vec<Entry>, here: &[ModelRow]) -> (Vec<ModelOutcome>, Vec<ImportedModel>) {
    let known: HashMap<&str, &ModelRow> = here.iter().map(|row| (row.model.slug.as_str(), row)).collect();
    let (mut outcomes, mut writes) = (Vec::new(), Vec::new());
    let named = |model: &PutModel| format!("{} {}", model.maker, model.name);
    let of_source = |row: &ModelRow| row.model.source.as_deref() == Some(source);
    let there: Vec<String> = entries.iter().map(|entry| entry.slug.clone()).collect();
    for Entry { slug, model } in entries {
        let before = known.get(slug.as_str()).copied();
        let mut outcome = ModelOutcome {
            name: before.map_or_else(String::new, |row| named(&row.model.about)),
            slug,
            fate: ModelFate::Bad,
            changed: Vec::new(),
            kept: Vec::new(),
            flaw: None,
            problem: None,
        };
        match (model, before) {
            (Err(problem), _) => outcome.problem = Some(problem),
            (Ok(_), Some(row)) if !of_source(row) => outcome.fate = ModelFate::Taken,
            (Ok(model), before) => {
                let imported = before.and_then(|row| row.imported.as_ref());
                let merged = match (before, imported) {
                    (Some(row), Some(imported)) => merge(imported, &row.model.about, &model),
                    _ => Merged { model: model.clone(), changed: Vec::new(), kept: Vec::new() },
                };
                let same = imported == Some(&model) && merged.changed.is_empty();
                outcome.fate = match before {
                    None => ModelFate::New,
                    Some(_) if same => ModelFate::Same,
                    Some(_) => ModelFate::Updated,
                };
                outcome.name = named(&merged.model);
                (outcome.changed, outcome.kept) = (merged.changed, merged.kept);
                outcome.flaw = before.filter(|_| same).and_then(|row| row.model.flaw.clone());
                if !same {
                    let flaw = load(&merged.model).1.map(|flaw| flaw.why);
                    outcome.flaw.clone_from(&flaw);
                    let slug = outcome.slug.clone();
                    writes.push(ImportedModel { slug, model: merged.model, imported: model, flaw });
                }
            }
        }
        outcomes.push(outcome);
    }
    let gone = here.iter().filter(|row| of_source(row) && !there.contains(&row.model.slug));
    outcomes.extend(gone.map(|row| ModelOutcome {
        slug: row.model.slug.clone(),
        name: named(&row.model.about),
        fate: ModelFate::Gone,
        changed: Vec::new(),
        kept: Vec::new(),
        flaw: row.model.flaw.clone(),
        problem: None,
    }));
    (outcomes, writes)
}

#[cfg(test)]
mod tests {
    use api::problem::Problem;

    use super::*;

    #[test]
    fn the_shipped_models_pass_their_own_tests() {
        let entries = domain::model::catalogue::read(&shipped()).unwrap();
        assert_eq!(entries.len(), 12);
        let mut with_versions = 0;
        for entry in entries {
            let model = entry.model.unwrap_or_else(|why| panic!("{}: {why}", entry.slug));
            let (_, flaw) = load(&model);
            assert_eq!(flaw.map(|flaw| flaw.why), None, "{}", entry.slug);
            assert!(!model.tests.is_empty() && model.decoder.is_some(), "{} tests itself", entry.slug);
            assert!(model.versions.iter().all(|version| !version.tests.is_empty()), "{}", entry.slug);
            with_versions += usize::from(!model.versions.is_empty());
        }
        assert_eq!(with_versions, 3);
    }

    #[test]
    fn a_model_with_a_flaw_has_no_decoder_that_works() {
        let decoder = Some("function decodeUplink(i) { return {data: {level: i.bytes[0]}} }".to_owned());
        let test = api::model::TestPayload {
            name: "one".into(),
            port: 1,
            bytes: "01".into(),
            readings: [].into(),
            fails: true,
        };
        let about = PutModel { decoder, tests: vec![test], ..PutModel::default() };
        let (decoders, flaw) = load(&about);
        let said = decoders.others.unwrap().ready.as_ref().unwrap_err().clone();
        assert!(said.contains("not used until it is fixed") && said.contains(&flaw.unwrap().why), "{said}");
    }

    fn row(slug: &str, source: Option<&str>, about: &PutModel, imported: &PutModel) -> ModelRow {
        let model = api::model::Model {
            revision: String::new(),
            slug: slug.into(),
            about: about.clone(),
            flaw: None,
            source: source.map(Into::into),
            edited: vec![],
            changed_at: chrono::Utc::now(),
        };
        ModelRow { model, imported: Some(imported.clone()) }
    }

    #[test]
    fn each_model_has_a_fate() {
        let model = |name: &str| PutModel { maker: "M".into(), name: name.into(), ..PutModel::default() };
        let (old, new) = (model("old"), model("new"));
        let edited = PutModel { description: "ours".into(), ..old.clone() };
        let here = [
            row("edited", Some("here"), &edited, &old),
            row("same", Some("here"), &old, &old),
            row("mine", None, &old, &old),
            row("gone", Some("here"), &old, &old),
        ];
        let entry = |slug: &str, model| Entry { slug: slug.into(), model };
        let bad = Problem::new(422, "bad", "Bad");
        let entries = vec![
            entry("edited", Ok(new.clone())),
            entry("same", Ok(old.clone())),
            entry("mine", Ok(new.clone())),
            entry("fresh", Ok(new)),
            entry("bad", Err(bad)),
        ];
        let (outcomes, writes) = plan("here", entries, &here);
        let fates: Vec<(&str, ModelFate)> = outcomes.iter().map(|o| (o.slug.as_str(), o.fate)).collect();
        assert_eq!(
            fates,
            [
                ("edited", ModelFate::Updated),
                ("same", ModelFate::Same),
                ("mine", ModelFate::Taken),
                ("fresh", ModelFate::New),
                ("bad", ModelFate::Bad),
                ("gone", ModelFate::Gone)
            ]
        );
        assert_eq!(writes.iter().map(|w| w.slug.as_str()).collect::<Vec<_>>(), ["edited", "fresh"]);
        assert_eq!((writes[0].model.name.as_str(), writes[0].model.description.as_str()), ("new", "ours"));
    }
}

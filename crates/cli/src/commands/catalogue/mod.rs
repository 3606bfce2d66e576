//! `heron catalogue`: models from folders, archives and git repositories.

pub(crate) mod args;
mod import;
mod list;

use std::fs;
use std::path::Path;
use std::sync::LazyLock;
use std::time::Instant;

use anyhow::{Context as _, Result, bail};
use api::model::catalogue::{CatalogueOutcome, ModelFate, RefreshCatalogue};
use domain::model::catalogue;
use domain::model::catalogue::Files;
use domain::model::check::flaw;
use domain::model::request::test_count;
use flate2::Compression;
use flate2::write::GzEncoder;
use serde::Serialize;

use crate::client::Client;
use crate::commands::Context;
use crate::commands::catalogue::args::{CatalogueVerb, LocalCatalogueVerb, RemoteCatalogueVerb};
use crate::show::Out;

/// Folders followed downward.
const DEEPEST: usize = 8;
/// What is sent.
const ARCHIVE: &str = "application/octet-stream";

static STARTED: LazyLock<Instant> = LazyLock::new(Instant::now);

/// Model files and scripts below a folder; links are passed over.
fn read_folder(folder: &Path, below: &str, depth: usize, files: &mut Files) -> Result<()> {
    for entry in fs::read_dir(folder).with_context(|| format!("reading {}", folder.display()))? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        let path = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
        let kind = entry.file_type()?;
        if kind.is_dir() && depth < DEEPEST && !name.starts_with('.') {
            read_folder(&entry.path(), &path, depth + 1, files)?;
        } else if kind.is_file() && catalogue::wanted(&name) {
            let bytes = fs::read(entry.path()).with_context(|| format!("reading {}", entry.path().display()))?;
            files.insert(path, bytes);
        }
    }
    Ok(())
}

/// A folder's models; one that is itself a model's counts as well.
fn of_folder(folder: &Path) -> Result<Files> {
    let folder = folder.canonicalize().with_context(|| format!("reading {}", folder.display()))?;
    let own = folder.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let mut files = Files::new();
    read_folder(&folder, &own, 0, &mut files)?;
    Ok(files)
}

fn pack(files: &Files) -> Result<Vec<u8>> {
    let mut builder = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::default()));
    for (path, bytes) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        builder.append_data(&mut header, path, bytes.as_slice())?;
    }
    Ok(builder.into_inner()?.finish()?)
}

/// A model that was tried.
#[derive(Serialize)]
struct Checked {
    model: String,
    tests: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    flaw: Option<String>,
}

impl Checked {
    fn words(&self) -> String {
        match (&self.flaw, self.tests) {
            (Some(why), _) => why.clone(),
            (None, 0) => "fine, but it has no test".into(),
            (None, 1) => "fine, 1 test".into(),
            (None, tests) => format!("fine, {tests} tests"),
        }
    }
}

/// Tries each model of a folder.
pub(crate) fn check(out: &Out, folder: &Path) -> Result<()> {
    let entries = catalogue::read(&of_folder(folder)?)?;
    let checked = entries.iter().map(|entry| Checked {
        model: entry.slug.clone(),
        tests: entry.model.as_ref().map_or(0, test_count),
        flaw: match &entry.model {
            Err(problem) => Some(problem.to_string()),
            Ok(model) => flaw(model, || STARTED.elapsed()).map(|flaw| flaw.why),
        },
    });
    let checked: Vec<Checked> = checked.collect();
    out.list(&checked, "It has no model.", &["MODEL", "RESULT"], |one| vec![one.model.clone(), one.words()])?;
    match checked.iter().filter(|one| one.flaw.is_some()).count() {
        0 => Ok(()),
        bad => bail!("{bad} of {} models cannot be used as they are", checked.len()),
    }
}

fn shown(out: &Out, outcome: &CatalogueOutcome) -> Result<()> {
    if out.json {
        return out.json(outcome);
    }
    let none = "It has no model.";
    out.list(&outcome.models, none, &["MODEL", "NAME", "WHAT BECOMES OF IT", "CHANGED", "KEPT AS EDITED HERE"], |m| {
        let listed = |all: &[String]| if all.is_empty() { "–".into() } else { all.join(", ") };
        vec![m.slug.clone(), m.name.clone(), m.fate.label().into(), listed(&m.changed), listed(&m.kept)]
    })?;
    for model in &outcome.models {
        if let Some(flaw) = &model.flaw {
            out.line(format!("{}: it will not be used until it is fixed: {flaw}", model.slug))?;
        }
        match (&model.problem, model.fate) {
            (Some(problem), _) => out.line(format!("{}: {problem}", model.slug))?,
            (None, ModelFate::Taken) => {
                out.line(format!("{}: a model of that name is not from this catalogue, and stays.", model.slug))?;
            }
            _ => {}
        }
    }
    let at = outcome.revision.as_ref().map_or_else(String::new, |revision| format!(" at {revision:.10}"));
    let done = if outcome.done { "Imported" } else { "Nothing is changed yet; this would be imported" };
    out.line(format!("{done} from {}{at}.", outcome.source))
}

/// Carries a verb out. Some need no service.
pub(crate) async fn run(context: &Context, verb: CatalogueVerb) -> Result<()> {
    match verb {
        CatalogueVerb::Local(verb) => local(context, verb),
        CatalogueVerb::Remote(verb) => remote(&context.client()?, &context.out, verb).await,
    }
}

fn local(context: &Context, verb: LocalCatalogueVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        LocalCatalogueVerb::Check { folder } => check(out, &folder),
    }
}

async fn remote(client: &Client, out: &Out, verb: RemoteCatalogueVerb) -> Result<()> {
    match verb {
        RemoteCatalogueVerb::List(which) => list::run(client, out, which).await,
        RemoteCatalogueVerb::Refresh { source, preview } => {
            let path = client.in_estate("catalogue/refresh").await?;
            shown(out, &client.post(&path, &RefreshCatalogue { source, preview }).await?)
        }
        RemoteCatalogueVerb::Import(args) => import::run(client, out, args).await,
    }
}

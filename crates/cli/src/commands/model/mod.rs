//! `heron model`.

pub(crate) mod args;
mod list;
mod reading;
mod set;
mod show;

use anyhow::{Result, bail};
use api::model::{Model, PutModel};
use domain::model::request::test_count;
use domain::reading::rule;

use crate::client::Client;
use crate::commands::model::args::ModelVerb;
use crate::show::{Out, confirm};

fn lines(m: &Model) -> Vec<(&'static str, String)> {
    let none = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
    let units: Vec<_> =
        m.about.readings.iter().map(|(name, rule)| format!("{name} {}", rule::in_words(rule))).collect();
    let versions: Vec<_> = m.about.versions.iter().map(api::model::ModelVersion::label).collect();
    let mut lines = vec![
        ("model", m.slug.clone()),
        ("maker", m.about.maker.clone()),
        ("name", m.about.name.clone()),
        ("description", m.about.description.clone()),
        ("readings", units.join("; ")),
        (
            "decoder",
            m.about.decoder.as_ref().map_or_else(
                || "none".into(),
                |d| format!("{}, {} lines", m.about.decoder_kind.label(), d.lines().count()),
            ),
        ),
        ("of their own", versions.join("; ")),
        ("tests", test_count(&m.about).to_string()),
        ("label", none(&m.about.profile_id)),
        ("from", m.source.clone().unwrap_or_else(|| "made here".into())),
        ("edited here", m.edited.join(", ")),
        ("not used", m.flaw.clone().unwrap_or_default()),
    ];
    lines.retain(|(_, text)| !text.is_empty());
    lines
}

pub(crate) async fn run(client: &Client, out: &Out, verb: ModelVerb, yes: bool) -> Result<()> {
    match verb {
        ModelVerb::List(which) => list::run(client, out, which).await,
        ModelVerb::Show { slug } => show::run(client, out, slug).await,
        ModelVerb::Remove { slug } => {
            let what = format!("The model {slug} will be removed with its decoder, its tests and its editions.");
            confirm(yes, &what)?;
            client.delete(&at(client, &slug).await?).await?;
            out.said(format!("{slug} was removed."))
        }
        ModelVerb::Add(args) => set::add(client, out, *args).await,
        ModelVerb::Set(args) => set::set(client, out, *args).await,
        ModelVerb::Reading { verb } => reading::run(client, out, verb, yes).await,
    }
}

/// The path of a model.
async fn at(client: &Client, slug: &str) -> Result<String> {
    client.one("models", slug).await
}

async fn put(client: &Client, slug: &str, about: &PutModel) -> Result<Model> {
    client.put(&at(client, slug).await?, about).await
}

fn pairs(option: &str, texts: &[String]) -> Result<Vec<(String, String)>> {
    let pair = |text: &String| match text.split_once('=') {
        Some((left, right)) if !left.is_empty() => Ok((left.to_owned(), right.to_owned())),
        _ => bail!("{option} {text:?} is not of the form LEFT=RIGHT"),
    };
    texts.iter().map(pair).collect()
}

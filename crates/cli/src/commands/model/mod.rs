//! `heron model`.

pub(crate) mod args;
mod list;
mod put;
mod reading;
mod show;

use anyhow::{Result, bail};
use api::model::{Model, PutModel};
use api::problem::Problem;
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
        ModelVerb::List => list::run(client, out).await,
        ModelVerb::Show { slug } => show::run(client, out, slug).await,
        ModelVerb::Remove { slug } => {
            let what = format!("The model {slug} will be removed with its decoder, its tests and its editions.");
            confirm(yes, &what)?;
            client.delete(&client.in_estate(&format!("models/{slug}")).await?).await?;
            out.said(format!("{slug} was removed."))
        }
        ModelVerb::Put(args) => put::run(client, out, *args).await,
        ModelVerb::Reading(args) => reading::run(client, out, args).await,
    }
}

/// The model as it is, if there is one.
async fn before(client: &Client, slug: &str) -> Result<Option<Model>> {
    match client.get::<Model>(&client.in_estate(&format!("models/{slug}")).await?, &[]).await {
        Ok(model) => Ok(Some(model)),
        Err(error) if error.downcast_ref::<Problem>().is_some_and(|p| p.code == "not_found") => Ok(None),
        Err(error) => Err(error),
    }
}

async fn put(client: &Client, slug: &str, about: &PutModel) -> Result<Model> {
    client.put(&client.in_estate(&format!("models/{slug}")).await?, about).await
}

fn pairs(option: &str, texts: &[String]) -> Result<Vec<(String, String)>> {
    let pair = |text: &String| match text.split_once('=') {
        Some((left, right)) if !left.is_empty() => Ok((left.to_owned(), right.to_owned())),
        _ => bail!("{option} {text:?} is not of the form LEFT=RIGHT"),
    };
    texts.iter().map(pair).collect()
}

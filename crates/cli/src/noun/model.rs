use anyhow::{Result, bail};
use api::model::{Model, PutModel};
use api::problem::Problem;
use api::reading::ReadingRule;
use domain::model::request::test_count;
use domain::reading::rule;

use super::decoder::source_of;
use crate::args::ModelVerb;
use crate::client::Client;
use crate::show::Out;

fn lines(m: &Model) -> Vec<(&'static str, String)> {
    let none = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
    let units: Vec<_> =
        m.about.readings.iter().map(|(name, rule)| format!("{name} {}", rule::in_words(rule))).collect();
    let versions: Vec<_> = m.about.versions.iter().map(api::model::ModelVersion::words).collect();
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
                |d| format!("{}, {} lines", m.about.decoder_kind.words(), d.lines().count()),
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

pub async fn run(client: &Client, out: &Out, verb: ModelVerb) -> Result<()> {
    match verb {
        ModelVerb::List => {
            let models: Vec<Model> = client.all(&client.in_estate("models").await?, &[]).await?;
            let none = "There is no model. Next: `heron catalogue import --shipped`, or `heron model put SLUG --maker MAKER --name NAME --decoder FILE`.";
            out.list(&models, none, &["MODEL", "MAKER", "NAME", "DECODER", "FROM"], |m| {
                let decoder = match (&m.flaw, &m.about.decoder) {
                    (Some(_), _) => "flawed, not used",
                    (None, Some(_)) => m.about.decoder_kind.words(),
                    (None, None) => "none",
                };
                let edited = if m.edited.is_empty() { "" } else { ", edited here" };
                let from = format!("{}{edited}", m.source.as_deref().unwrap_or("made here"));
                vec![m.slug.clone(), m.about.maker.clone(), m.about.name.clone(), decoder.into(), from]
            })
        }
        ModelVerb::Show { slug } => {
            let model: Model = client.get(&client.in_estate(&format!("models/{slug}")).await?, &[]).await?;
            out.one(&model, lines)?;
            match (&model.about.decoder, out.json) {
                (Some(decoder), false) => out.line(format!("\n{}", decoder.trim_end())),
                _ => Ok(()),
            }
        }
        ModelVerb::Remove { slug } => {
            client.delete(&client.in_estate(&format!("models/{slug}")).await?).await?;
            out.line(format!("{slug} was removed."))
        }
        ModelVerb::Put { slug, maker, name, decoder, units, radio } => {
            let decoder = decoder.as_deref().map(source_of).transpose()?;
            let mut about = match before(client, &slug).await? {
                Some(model) => model.about,
                None => PutModel::default(),
            };
            for (reading, unit) in pairs("--unit", &units)? {
                about.readings.entry(reading).or_default().unit = Some(unit).filter(|unit| !unit.is_empty());
            }
            about.readings.retain(|_, rule| *rule != ReadingRule::default());
            about.maker = maker.unwrap_or(about.maker);
            about.name = name.unwrap_or(about.name);
            if let Some((source, kind)) = decoder {
                (about.decoder, about.decoder_kind) = (Some(source), kind);
            }
            about.radio = radio.over(about.radio);
            out.one(&put(client, &slug, &about).await?, lines)
        }
        ModelVerb::Reading(args) => {
            let Some(model) = before(client, &args.slug).await? else { bail!("there is no model {:?}", args.slug) };
            let mut about = model.about;
            let rule = about.readings.remove(&args.reading).filter(|_| !args.anew).unwrap_or_default();
            let rule = ReadingRule {
                unit: args.unit.or(rule.unit).filter(|unit| !unit.is_empty()),
                kind: args.kind.map(Into::into).or(rule.kind),
                scale: args.scale.or(rule.scale),
                offset: args.offset.or(rule.offset),
                min: args.min.or(rule.min),
                max: args.max.or(rule.max),
                decimals: args.decimals.or(rule.decimals),
                wraps_at: args.wraps_at.or(rule.wraps_at),
                words: rule.words.into_iter().chain(pairs("--word", &args.words)?).collect(),
            };
            if rule != ReadingRule::default() {
                about.readings.insert(args.reading, rule);
            }
            out.one(&put(client, &args.slug, &about).await?, lines)
        }
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

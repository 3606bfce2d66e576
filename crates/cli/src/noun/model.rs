use std::collections::BTreeMap;

use anyhow::{Result, bail};
use api::model::{Model, PutModel};
use api::problem::Problem;

use super::decoder::source_of;
use crate::args::ModelVerb;
use crate::client::Client;
use crate::show::Out;

fn lines(m: &Model) -> Vec<(&'static str, String)> {
    let none = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
    let units: Vec<_> = m.about.units.iter().map(|(reading, unit)| format!("{reading} in {unit}")).collect();
    let versions: Vec<_> = m.about.versions.iter().map(api::model::ModelVersion::words).collect();
    let mut lines = vec![
        ("model", m.slug.clone()),
        ("maker", m.about.maker.clone()),
        ("name", m.about.name.clone()),
        ("description", m.about.description.clone()),
        ("units", units.join(", ")),
        (
            "decoder",
            m.about.decoder.as_ref().map_or_else(
                || "none".into(),
                |d| format!("{}, {} lines", m.about.decoder_kind.words(), d.lines().count()),
            ),
        ),
        ("of their own", versions.join("; ")),
        ("tests", m.about.test_count().to_string()),
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
            let units = units
                .iter()
                .map(|pair| match pair.split_once('=') {
                    Some((reading, unit)) => Ok((reading.to_owned(), unit.to_owned())),
                    None => bail!("--unit {pair:?} is not READING=UNIT"),
                })
                .collect::<Result<BTreeMap<_, _>>>()?;
            let path = client.in_estate(&format!("models/{slug}")).await?;
            // What is not given stays as it is.
            let before = match client.get::<Model>(&path, &[]).await {
                Ok(model) => model.about,
                Err(error) if error.downcast_ref::<Problem>().is_some_and(|p| p.code == "not_found") => {
                    PutModel::default()
                }
                Err(error) => return Err(error),
            };
            let (decoder, decoder_kind) = match decoder {
                Some((source, kind)) => (Some(source), kind),
                None => (before.decoder, before.decoder_kind),
            };
            let wanted = PutModel {
                maker,
                name,
                decoder,
                decoder_kind,
                units: if units.is_empty() { before.units } else { units },
                radio: radio.over(before.radio),
                ..before
            };
            let model: Model = client.put(&path, &wanted).await?;
            out.one(&model, lines)
        }
    }
}

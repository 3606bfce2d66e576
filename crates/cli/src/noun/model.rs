use std::fs;

use anyhow::{Context as _, Result, bail};
use api::model::{Model, PutModel};
use api::radio::RadioSettings;

use crate::args::ModelVerb;
use crate::client::Client;
use crate::show::Out;

fn lines(m: &Model) -> Vec<(&'static str, String)> {
    let units: Vec<_> = m.about.units.iter().map(|(reading, unit)| format!("{reading} in {unit}")).collect();
    vec![
        ("model", m.slug.clone()),
        ("maker", m.about.maker.clone()),
        ("name", m.about.name.clone()),
        ("units", units.join(", ")),
        ("decoder", m.about.decoder.as_ref().map_or_else(|| "none".into(), |d| format!("{} lines", d.lines().count()))),
    ]
}

pub async fn run(client: &Client, out: &Out, verb: ModelVerb) -> Result<()> {
    match verb {
        ModelVerb::List => {
            let models: Vec<Model> = client.all(&client.in_estate("models").await?, &[]).await?;
            let none = "There is no model. Next: `heron model put SLUG --maker MAKER --name NAME --decoder FILE`.";
            out.list(&models, none, &["MODEL", "MAKER", "NAME", "DECODER"], |m| {
                let decoder = if m.about.decoder.is_some() { "script" } else { "none" };
                vec![m.slug.clone(), m.about.maker.clone(), m.about.name.clone(), decoder.into()]
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
        ModelVerb::Put { slug, maker, name, decoder, units, radio } => {
            let decoder = match decoder {
                None => None,
                Some(file) => Some(fs::read_to_string(&file).with_context(|| format!("reading {}", file.display()))?),
            };
            let units = units
                .iter()
                .map(|pair| match pair.split_once('=') {
                    Some((reading, unit)) => Ok((reading.to_owned(), unit.to_owned())),
                    None => bail!("--unit {pair:?} is not READING=UNIT"),
                })
                .collect::<Result<_>>()?;
            let path = client.in_estate(&format!("models/{slug}")).await?;
            let model: Model = client
                .put(
                    &path,
                    &PutModel {
                        maker,
                        name,
                        decoder,
                        units,
                        radio: radio.over(RadioSettings::default()),
                        ..PutModel::default()
                    },
                )
                .await?;
            out.one(&model, lines)
        }
    }
}

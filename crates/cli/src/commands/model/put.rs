//! `heron model put`.

use crate::commands::model::args::ModelPutArgs;
use anyhow::Result;
use api::model::PutModel;
use api::reading::ReadingRule;

use super::{before, lines, pairs, put};
use crate::client::Client;
use crate::commands::decoder::payload::source_of;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: ModelPutArgs) -> Result<()> {
    let ModelPutArgs { slug, maker, name, decoder, units, radio } = args;
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

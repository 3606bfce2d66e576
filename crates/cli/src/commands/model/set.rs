//! `heron model add` and `heron model set`.

use anyhow::Result;
use api::model::{Model, PutModel};
use api::reading::ReadingRule;

use super::{at, lines, pairs, put};
use crate::client::Client;
use crate::commands::decoder::payload::source_of;
use crate::commands::model::args::{ModelAboutArgs, ModelAddArgs, ModelSetArgs};
use crate::show::Out;

pub(super) async fn add(client: &Client, out: &Out, args: ModelAddArgs) -> Result<()> {
    let about = PutModel { maker: args.maker, name: args.name, ..PutModel::default() };
    let about = args.about.over(about)?;
    out.one(&client.put_new::<Model>(&at(client, &args.slug).await?, &about).await?, lines)
}

pub(super) async fn set(client: &Client, out: &Out, args: ModelSetArgs) -> Result<()> {
    let before: Model = client.get(&at(client, &args.slug).await?, &[]).await?;
    let mut about = args.about.over(before.about)?;
    about.maker = args.maker.unwrap_or(about.maker);
    about.name = args.name.unwrap_or(about.name);
    out.one(&put(client, &args.slug, &about).await?, lines)
}

impl ModelAboutArgs {
    /// A model with what is given; the rest stays.
    fn over(self, mut about: PutModel) -> Result<PutModel> {
        for (reading, unit) in pairs("--unit", &self.units)? {
            about.readings.entry(reading).or_default().unit = Some(unit).filter(|unit| !unit.is_empty());
        }
        about.readings.retain(|_, rule| *rule != ReadingRule::default());
        if let Some((source, kind)) = self.decoder.as_deref().map(source_of).transpose()? {
            (about.decoder, about.decoder_kind) = (Some(source), kind);
        }
        about.radio = self.radio.over(about.radio);
        Ok(about)
    }
}

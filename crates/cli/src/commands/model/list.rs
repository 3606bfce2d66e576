//! `heron model list`.

use anyhow::Result;
use api::model::Model;

use crate::args::ListArgs;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let models: Vec<Model> = client.all(&client.in_estate("models").await?, &which.query()).await?;
    let none = "There is no model. Next: `heron catalogue import --shipped`, or `heron model add MODEL --maker MAKER --name NAME --decoder FILE`.";
    out.list(&models, none, &["MODEL", "MAKER", "NAME", "DECODER", "FROM"], |m| {
        let decoder = match (&m.flaw, &m.about.decoder) {
            (Some(_), _) => "flawed, not used",
            (None, Some(_)) => m.about.decoder_kind.label(),
            (None, None) => "none",
        };
        let edited = if m.edited.is_empty() { "" } else { ", edited here" };
        let from = format!("{}{edited}", m.source.as_deref().unwrap_or("made here"));
        vec![m.slug.clone(), m.about.maker.clone(), m.about.name.clone(), decoder.into(), from]
    })
}

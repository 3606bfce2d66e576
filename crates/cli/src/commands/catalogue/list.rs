//! `heron catalogue list`.

use anyhow::Result;
use api::model::catalogue::CatalogueSource;

use crate::args::ListArgs;
use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let sources: Vec<CatalogueSource> = client.all(&client.in_estate("catalogue").await?, &which.query()).await?;
    let none = "No model came from a catalogue. Next: `heron catalogue import --shipped`.";
    out.list(&sources, none, &["SOURCE", "MODELS", "COMMIT", "IMPORTED"], |s| {
        let revision = s.revision.as_ref().map_or_else(|| "–".into(), |revision| format!("{revision:.10}"));
        vec![s.source.clone(), s.models.to_string(), revision, show::ago(Some(s.refreshed_at))]
    })
}

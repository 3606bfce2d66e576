//! `heron model show`.

use anyhow::Result;
use api::model::Model;

use super::lines;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, slug: String) -> Result<()> {
    let model: Model = client.get(&super::at(client, &slug).await?, &[]).await?;
    out.one(&model, lines)?;
    match (&model.about.decoder, out.json) {
        (Some(decoder), false) => out.line(format!("\n{}", decoder.trim_end())),
        _ => Ok(()),
    }
}

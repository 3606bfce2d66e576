//! `heron decoder restore`.

use anyhow::Result;
use api::model::Model;
use serde_json::Value;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, model: String, number: u32, yes: bool) -> Result<()> {
    show::confirm(yes, &format!("{model} becomes what it was as edition {number}."))?;
    let path = client.in_estate(&format!("models/{model}/editions/{number}/restore")).await?;
    let model: Model = client.post(&path, &Value::Null).await?;
    if out.json {
        return out.json(&model);
    }
    out.line(format!("{} is as it was as edition {number}.", model.slug))
}

//! `heron decoder edition`: a model each time it was saved.

use anyhow::{Result, bail};
use api::model::Model;
use api::model::edition::{Comparison, Edition, LineChange};
use serde_json::Value;

use crate::client::Client;
use crate::commands::decoder::args::EditionVerb;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, verb: EditionVerb, yes: bool) -> Result<()> {
    match verb {
        EditionVerb::List { model } => list(client, out, &model).await,
        EditionVerb::Compare { model, from, to } => compare(client, out, &model, from, to).await,
        EditionVerb::Restore { model, number } => {
            show::confirm(yes, &format!("{model} becomes what it was as edition {number}."))?;
            let path = format!("{}/editions/{number}/restore", client.one("models", &model).await?);
            let model: Model = client.post(&path, &Value::Null).await?;
            if out.json {
                return out.json(&model);
            }
            out.line(format!("{} is as it was as edition {number}.", model.slug))
        }
    }
}

async fn list(client: &Client, out: &Out, model: &str) -> Result<()> {
    let path = format!("{}/editions", client.one("models", model).await?);
    let editions: Vec<Edition> = client.all(&path, &[]).await?;
    out.list(
        &editions,
        "It has not been saved since editions are kept.",
        &["EDITION", &format!("SAVED ({})", show::zone()), "BY", "CHANGED", "NOTE"],
        |e| {
            let flaw = if e.flaw.is_some() { " (not used: it has a flaw)" } else { "" };
            let note = format!("{}{flaw}", e.note);
            vec![e.number.to_string(), show::moment(e.saved_at), e.saved_by.clone(), e.changed.join(", "), note]
        },
    )
}

async fn compare(client: &Client, out: &Out, model: &str, from: Option<u32>, to: Option<u32>) -> Result<()> {
    let base = client.one("models", model).await?;
    let to = match to {
        Some(to) => to,
        None => {
            let page: api::Page<Edition> = client.get(&format!("{base}/editions"), &[("limit", "1".into())]).await?;
            let Some(last) = page.items.first() else { bail!("{model} has not been saved since editions are kept") };
            last.number
        }
    };
    let from = from.unwrap_or(to.saturating_sub(1));
    let query = [("from", from.to_string()), ("to", to.to_string())];
    let comparison: Comparison = client.get(&format!("{base}/comparison"), &query).await?;
    if out.json {
        return out.json(&comparison);
    }
    if comparison.parts.is_empty() {
        return out.line(format!("Editions {from} and {to} are the same."));
    }
    for part in &comparison.parts {
        out.line(format!("{} of edition {from} and of edition {to}:", part.field))?;
        for line in &part.lines {
            let number = line.new.or(line.old).map_or_else(String::new, |n| n.to_string());
            match line.change {
                LineChange::Stays => out.line(format!("{number:>5}   {}", line.text))?,
                LineChange::Added => out.line(format!("{number:>5} + {}", line.text))?,
                LineChange::Removed => out.line(format!("{number:>5} - {}", line.text))?,
                LineChange::Skipped => out.line("    …")?,
            }
        }
    }
    Ok(())
}

//! `heron model reading`.

use anyhow::Result;
use api::model::Model;
use api::reading::ReadingRule;
use domain::reading::rule;

use super::{at, lines, pairs, put};
use crate::client::Client;
use crate::commands::model::args::{ReadingArgs, ReadingVerb};
use crate::failure::NotFound;
use crate::show::{Out, confirm};

pub(super) async fn run(client: &Client, out: &Out, verb: ReadingVerb, yes: bool) -> Result<()> {
    match verb {
        ReadingVerb::List { slug } => list(client, out, &slug).await,
        ReadingVerb::Set(args) => set(client, out, args).await,
        ReadingVerb::Remove { slug, reading } => {
            let model: Model = client.get(&at(client, &slug).await?, &[]).await?;
            let mut about = model.about;
            if about.readings.remove(&reading).is_none() {
                return Err(NotFound(format!("nothing is set for {reading:?} of {slug}")).into());
            }
            confirm(yes, &format!("What is set for {reading} of {slug} will be gone."))?;
            out.one(&put(client, &slug, &about).await?, lines)
        }
    }
}

async fn list(client: &Client, out: &Out, slug: &str) -> Result<()> {
    let model: Model = client.get(&at(client, slug).await?, &[]).await?;
    if out.json {
        return out.json(&model.about.readings);
    }
    let rules: Vec<(&String, &ReadingRule)> = model.about.readings.iter().collect();
    let none = "Nothing is set for its readings. Next: `heron model reading set MODEL READING --unit UNIT`.";
    out.list(&rules, none, &["READING", "WHAT IS SET"], |(name, one)| vec![(*name).clone(), rule::in_words(one)])
}

async fn set(client: &Client, out: &Out, args: ReadingArgs) -> Result<()> {
    let model: Model = client.get(&at(client, &args.slug).await?, &[]).await?;
    let mut about = model.about;
    let rule = about.readings.remove(&args.reading).unwrap_or_default();
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

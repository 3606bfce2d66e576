//! `heron model reading`.

use crate::commands::model::args::ReadingArgs;
use anyhow::{Result, bail};
use api::reading::ReadingRule;

use super::{before, lines, pairs, put};
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: ReadingArgs) -> Result<()> {
    let Some(model) = before(client, &args.slug).await? else { bail!("there is no model {:?}", args.slug) };
    let mut about = model.about;
    let rule = about.readings.remove(&args.reading).filter(|_| !args.reset).unwrap_or_default();
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

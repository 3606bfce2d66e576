//! `heron fleet set`.

use anyhow::{Result, bail};
use api::fleet::{Fleet, FleetRetention};
use serde::Serialize;
use serde_json::{Map, Value};

use super::{kept, lines};
use crate::args::{OrNone, secret};
use crate::client::{Client, segment};
use crate::commands::fleet::args::FleetSetArgs;
use crate::show::{self, Out};

/// The fields that are given; `null` for what is taken away.
fn changes(args: &FleetSetArgs) -> Result<Map<String, Value>> {
    let mut changes = Map::new();
    let mut put = |name: &str, value: Option<Value>| drop(value.map(|value| changes.insert(name.into(), value)));
    put("name", args.name.clone().map(Value::from));
    put("slug", args.new_slug.clone().map(Value::from));
    put("airtime_a_day_s", value(args.airtime_a_day)?);
    put("downlinks_a_day", value(args.downlinks_a_day)?);
    let mut retention = Map::new();
    let kept = [
        ("values_days", args.keep_values),
        ("summaries_days", args.keep_summaries),
        ("messages_days", args.keep_messages),
    ];
    for (name, days) in kept {
        value(days)?.map(|days| retention.insert(name.into(), days));
    }
    if !retention.is_empty() {
        put("retention", Some(retention.into()));
    }
    if args.remove_app_key {
        put("app_key", Some(Value::Null));
    } else if args.app_key.is_some() || args.app_key_stdin {
        put("app_key", Some(secret::APP_KEY.read(args.app_key.clone(), args.app_key_stdin)?.into()));
    }
    Ok(changes)
}

fn value<T: Serialize>(given: Option<OrNone<T>>) -> Result<Option<Value>> {
    Ok(given.map(|OrNone(value)| serde_json::to_value(value)).transpose()?)
}

pub(super) async fn run(client: &Client, out: &Out, args: FleetSetArgs, yes: bool) -> Result<()> {
    let changes = changes(&args)?;
    if changes.is_empty() {
        bail!("nothing is to be changed; `heron fleet set --help` says what can be");
    }
    let path = client.in_estate(&format!("fleets/{}", segment(&args.slug))).await?;
    if args.remove_app_key || changes.contains_key("retention") {
        let before: Fleet = client.get(&path, &[]).await?;
        let mut after = before.retention;
        for (given, days) in [
            (args.keep_values, &mut after.values_days),
            (args.keep_summaries, &mut after.summaries_days),
            (args.keep_messages, &mut after.messages_days),
        ] {
            *days = given.map_or(*days, |OrNone(days)| days);
        }
        if shorter(before.retention, after) {
            let what = format!("Of {}, {} are kept; what is older will be gone.", args.slug, kept(after));
            show::confirm(yes, &what)?;
        }
        if args.remove_app_key {
            show::confirm(yes, &format!("The AppKey that {} holds will be gone.", args.slug))?;
        }
    }
    let fleet: Fleet = client.patch(&path, &changes).await?;
    out.one(&fleet, lines)
}

/// Whether something is kept for a shorter time than before.
fn shorter(before: FleetRetention, after: FleetRetention) -> bool {
    let less = |before: Option<u32>, after: Option<u32>| after.unwrap_or(u32::MAX) < before.unwrap_or(u32::MAX);
    less(before.values_days, after.values_days)
        || less(before.summaries_days, after.summaries_days)
        || less(before.messages_days, after.messages_days)
}

//! `heron fleet`.

pub(crate) mod args;
mod set;

use anyhow::Result;
use api::fleet::{Fleet, FleetLimits, FleetRetention, NewFleet};

use crate::client::Client;
use crate::commands::fleet::args::{FleetLimitArgs, FleetVerb};
use crate::show::{self, Out};

fn lines(f: &Fleet) -> Vec<(&'static str, String)> {
    let limit = |value: Option<String>| value.unwrap_or_else(|| "no limit but the law's".into());
    vec![
        ("fleet", f.slug.clone()),
        ("name", f.name.clone()),
        ("devices", f.devices.to_string()),
        ("default key", if f.has_default_key { "held, not shown" } else { "none" }.into()),
        ("airtime a day", limit(f.limits.airtime_a_day_s.map(|s| format!("{s} s for each device")))),
        ("kept", kept(f.retention)),
        ("downlinks a day", limit(f.limits.downlinks_a_day.map(|n| format!("{n} for each device")))),
    ]
}

fn kept(retention: FleetRetention) -> String {
    let time = |days: Option<u32>| days.map_or_else(|| "for ever".into(), |days| format!("for {days} days"));
    let FleetRetention { values_days, summaries_days, messages_days } = retention;
    format!("values {}, summaries {}, messages {}", time(values_days), time(summaries_days), time(messages_days))
}

impl From<FleetLimitArgs> for FleetLimits {
    fn from(args: FleetLimitArgs) -> Self {
        Self { airtime_a_day_s: args.airtime_a_day, downlinks_a_day: args.downlinks_a_day }
    }
}

pub(crate) async fn run(client: &Client, out: &Out, verb: FleetVerb, yes: bool) -> Result<()> {
    match verb {
        FleetVerb::List(which) => {
            let fleets: Vec<Fleet> = client.all(&client.in_estate("fleets").await?, &which.query()).await?;
            out.list(&fleets, "There is no fleet. Next: `heron fleet add SLUG`.", &["FLEET", "NAME", "DEVICES"], |f| {
                vec![f.slug.clone(), f.name.clone(), f.devices.to_string()]
            })
        }
        FleetVerb::Show { slug } => {
            let fleet: Fleet = client.get(&client.in_estate(&format!("fleets/{slug}")).await?, &[]).await?;
            out.one(&fleet, lines)
        }
        FleetVerb::Add { slug, name, limits } => {
            let new = NewFleet { slug, name, limits: limits.into() };
            let fleet: Fleet = client.post(&client.in_estate("fleets").await?, &new).await?;
            out.one(&fleet, lines)
        }
        FleetVerb::Set(args) => set::run(client, out, *args, yes).await,
        FleetVerb::Remove { slug } => {
            show::confirm(yes, &format!("The fleet {slug} will be removed."))?;
            client.delete(&client.in_estate(&format!("fleets/{slug}")).await?).await?;
            out.said(format!("{slug} was removed."))
        }
    }
}

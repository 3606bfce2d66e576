//! `heron share`: what is shared with people of other estates.

pub(crate) mod args;
mod list;

use anyhow::{Result, anyhow};
use api::people::{NewInvitation, Offer, Share};
use serde_json::{Map, Value};

use crate::args::moment::{self, Moment};
use crate::client::Client;
use crate::commands::invitation::{self, ends};
use crate::commands::people::scope;
use crate::commands::share::args::{ShareAddArgs, ShareVerb, Until};
use crate::show::{self, Out};

pub(crate) async fn run(client: &Client, out: &Out, verb: ShareVerb, yes: bool) -> Result<()> {
    match verb {
        ShareVerb::List(which) => list::run(client, out, which).await,
        ShareVerb::Add(args) => add(client, out, args).await,
        ShareVerb::Set { id, may, until } => {
            let mut change = Map::new();
            if let Some(may) = may {
                change.insert("may".into(), serde_json::to_value(may)?);
            }
            if let Some(Until(until)) = until {
                let until = until.map_or(Value::Null, |until| moment::text(until.until()).into());
                change.insert("until".into(), until);
            }
            let path = client.in_estate(&format!("shares/{id}")).await?;
            out.one(&client.patch::<Share>(&path, &change).await?, lines)
        }
        ShareVerb::Remove { id } => {
            show::confirm(yes, &format!("Share {id} will end at once."))?;
            client.delete(&client.in_estate(&format!("shares/{id}")).await?).await?;
            out.said(format!("Share {id} has ended."))
        }
    }
}

fn lines(s: &Share) -> Vec<(&'static str, String)> {
    let may = format!("{}{}", s.may.name(), ends(s.until));
    vec![("with", s.person.clone()), ("what", s.scope.to_string()), ("they may", may)]
}

async fn add(client: &Client, out: &Out, args: ShareAddArgs) -> Result<()> {
    let scope = scope(client, args.fleet, args.device).await?;
    let scope = scope.ok_or_else(|| anyhow!("say what with --fleet or --device"))?;
    let offer = Offer::Share { scope, may: args.may, until: args.until.map(Moment::until) };
    invitation::add(client, out, &NewInvitation { for_whom: args.for_whom, offer, days: args.days }).await
}

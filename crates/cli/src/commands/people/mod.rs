//! `heron people`: the members of the estate.

pub(crate) mod args;
mod list;
mod roles;

use anyhow::Result;
use api::people::rights::Scope;
use api::people::{ChangeMember, EstateMember};

use crate::client::Client;
use crate::commands::people::args::PeopleVerb;
use crate::show::{self, Out, ago};

/// A fleet or device given by name, as a scope.
pub(crate) async fn scope(client: &Client, fleet: Option<String>, device: Option<String>) -> Result<Option<Scope>> {
    Ok(match (fleet, device) {
        (Some(fleet), _) => Some(Scope::Fleet(fleet)),
        (None, Some(device)) => Some(Scope::Device(client.dev_eui(&device).await?)),
        (None, None) => None,
    })
}

fn lines(m: &EstateMember) -> Vec<(&'static str, String)> {
    vec![
        ("name", m.name.clone()),
        ("role", m.role.to_string()),
        ("since", show::day(m.since)),
        ("invited by", m.by.clone().unwrap_or_else(|| "–".into())),
        ("two steps", if m.two_step { "yes" } else { "no" }.into()),
        ("last seen", ago(m.last_seen)),
    ]
}

pub(crate) async fn run(client: &Client, out: &Out, verb: PeopleVerb, yes: bool) -> Result<()> {
    match verb {
        PeopleVerb::List(which) => list::run(client, out, which).await,
        PeopleVerb::Show { name } => {
            let member: EstateMember = client.get(&client.one("people", &name).await?, &[]).await?;
            out.one(&member, lines)
        }
        PeopleVerb::Set { name, role } => {
            let path = client.one("people", &name).await?;
            let before: EstateMember = client.get(&path, &[]).await?;
            if before.role > role {
                show::confirm(yes, &format!("{name} is {} and will be {role}: they may do less then.", before.role))?;
            }
            let member: EstateMember = client.patch(&path, &ChangeMember { role, was: None }).await?;
            out.one(&member, lines)
        }
        PeopleVerb::Remove { name } => {
            let what = format!("{name} will no longer be a member, and their tokens here will end.");
            show::confirm(yes, &what)?;
            client.delete(&client.one("people", &name).await?).await?;
            out.said(format!("{name} is no longer a member."))
        }
        PeopleVerb::Leave => {
            show::confirm(yes, "You will no longer have access to this estate.")?;
            client.act(&client.in_estate("leave").await?).await?;
            out.said("You have left.")
        }
        PeopleVerb::Roles => roles::run(client, out).await,
    }
}

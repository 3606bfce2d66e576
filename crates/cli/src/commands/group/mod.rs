//! `heron group`.

mod add;
pub(crate) mod args;
mod keys;
mod list;

use anyhow::{Result, bail};
use api::device::group::{ChangeGroup, Group};
use lorawan::Eui64;

use crate::client::Client;
use crate::commands::group::args::GroupVerb;
use crate::failure::NotFound;
use crate::show::{self, Out};

const NONE: &str = "There is no multicast group. Next: `heron group add NAME --fleet FLEET --class C --member DEVICE`.";

fn lines(g: &Group) -> Vec<(&'static str, String)> {
    let names = |reached| -> String {
        let names: Vec<&str> = g.members.iter().filter(|m| m.reached == reached).map(|m| m.name.as_str()).collect();
        if names.is_empty() { "none".into() } else { names.join(", ") }
    };
    let slots = g.ping_periodicity.map_or_else(String::new, |n| format!(", a ping slot every {} s", 1u32 << n));
    vec![
        ("eui", g.eui.to_string()),
        ("name", g.name.clone()),
        ("fleet", g.fleet.clone()),
        ("address", g.address.to_string()),
        (
            "listens",
            format!(
                "{} class {}, {:.3} MHz, DR{}{slots}",
                g.region,
                g.class.name(),
                f64::from(g.frequency_hz) / 1e6,
                g.data_rate
            ),
        ),
        ("next counter", g.next_counter_down.to_string()),
        ("members", names(true)),
        ("out of reach", names(false)),
        (
            "sent by",
            if g.gateways.is_empty() { "no gateway has heard a member yet".into() } else { g.gateways.join(", ") },
        ),
    ]
}

/// A group by name or EUI.
pub(super) async fn find(client: &Client, group: &str) -> Result<Group> {
    let all: Vec<Group> = client.all(&client.in_estate("groups").await?, &[]).await?;
    let eui = group.parse::<Eui64>().ok();
    let found = all.into_iter().find(|g| g.name == group || Some(g.eui) == eui);
    found.ok_or_else(|| NotFound(format!("there is no group {group}")).into())
}

async fn members(client: &Client, devices: &[String]) -> Result<Vec<String>> {
    let mut all = Vec::new();
    for device in devices {
        all.push(client.dev_eui(device).await?.to_string());
    }
    Ok(all)
}

pub(crate) async fn run(client: &Client, out: &Out, verb: GroupVerb, yes: bool) -> Result<()> {
    match verb {
        GroupVerb::List(which) => list::run(client, out, which).await,
        GroupVerb::Show { group } => out.one(&find(client, &group).await?, lines),
        GroupVerb::Add(args) => add::run(client, out, args).await,
        GroupVerb::Set { group, name, add, remove } => {
            let eui = find(client, &group).await?.eui;
            let (add_members, remove_members) = (members(client, &add).await?, members(client, &remove).await?);
            let change = ChangeGroup { name, members: None, add_members, remove_members };
            if change == ChangeGroup::default() {
                bail!("nothing is to be changed; `heron group set --help` says what can be");
            }
            if !change.remove_members.is_empty() {
                let what = format!("{} will hear nothing of {group} any more.", remove.join(", "));
                show::confirm(yes, &what)?;
            }
            let path = client.in_estate(&format!("groups/{eui}")).await?;
            out.one(&client.patch::<Group>(&path, &change).await?, lines)
        }
        GroupVerb::Keys { group } => keys::run(client, out, group).await,
        GroupVerb::Remove { group } => {
            let group = find(client, &group).await?;
            show::confirm(yes, &format!("{} will be removed with its keys and what waits in its outbox.", group.name))?;
            client.delete(&client.in_estate(&format!("groups/{}", group.eui)).await?).await?;
            out.said(format!("{} was removed.", group.name))
        }
    }
}

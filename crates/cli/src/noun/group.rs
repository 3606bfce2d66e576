use anyhow::Result;
use api::device::group::{Group, GroupKeys, GroupMembers, NewGroup};
use api::device::outbox::{NewOutboxItem, OutboxItem};
use api::problem::Problem;
use lorawan::Eui64;

use crate::args::GroupVerb;
use crate::client::Client;
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
async fn find(client: &Client, group: &str) -> Result<Group> {
    let all: Vec<Group> = client.get(&client.in_estate("groups").await?, &[]).await?;
    let eui = group.parse::<Eui64>().ok();
    let found = all.into_iter().find(|g| g.name == group || Some(g.eui) == eui);
    found.ok_or_else(|| Problem::new(404, "not_found", format!("There is no group {group}")).into())
}

async fn members(client: &Client, devices: &[String]) -> Result<Vec<String>> {
    let mut all = Vec::new();
    for device in devices {
        all.push(client.dev_eui(device).await?.to_string());
    }
    Ok(all)
}

pub async fn run(client: &Client, out: &Out, verb: GroupVerb, yes: bool) -> Result<()> {
    match verb {
        GroupVerb::List => {
            let groups: Vec<Group> = client.get(&client.in_estate("groups").await?, &[]).await?;
            out.list(&groups, NONE, &["NAME", "EUI", "CLASS", "ADDRESS", "MEMBERS", "OUT OF REACH", "SENT BY"], |g| {
                vec![
                    g.name.clone(),
                    g.eui.to_string(),
                    g.class.name().into(),
                    g.address.to_string(),
                    g.members.len().to_string(),
                    g.members.iter().filter(|m| !m.reached).count().to_string(),
                    g.gateways.join(", "),
                ]
            })
        }
        GroupVerb::Show { group } => out.one(&find(client, &group).await?, lines),
        GroupVerb::Add(args) => {
            let new = NewGroup {
                name: args.name,
                fleet: args.fleet,
                class: args.class,
                region: args.region,
                address: args.address,
                nwk_s_key: args.nwk_s_key,
                app_s_key: args.app_s_key,
                frequency_hz: args.frequency_hz,
                data_rate: args.data_rate,
                ping_periodicity: args.ping_periodicity,
                members: members(client, &args.members).await?,
            };
            let group: Group = client.post(&client.in_estate("groups").await?, &new).await?;
            out.one(&group, lines)
        }
        GroupVerb::Members { group, devices } => {
            let eui = find(client, &group).await?.eui;
            let path = client.in_estate(&format!("groups/{eui}/members")).await?;
            let members = GroupMembers { members: members(client, &devices).await? };
            out.one(&client.put::<Group>(&path, &members).await?, lines)
        }
        GroupVerb::Keys { group } => {
            let eui = find(client, &group).await?.eui;
            let keys: GroupKeys = client.get(&client.in_estate(&format!("groups/{eui}/keys")).await?, &[]).await?;
            out.one(&keys, |k| {
                vec![
                    ("address", k.address.to_string()),
                    ("nwk s key", k.nwk_s_key.clone()),
                    ("app s key", k.app_s_key.clone()),
                ]
            })
        }
        GroupVerb::Send { group, port, payload, expires_in } => {
            let eui = find(client, &group).await?.eui;
            let path = client.in_estate(&format!("devices/{eui}/outbox")).await?;
            let (port, payload) = (Some(port), Some(payload));
            let new = NewOutboxItem { port, payload, expires_in_s: expires_in, ..NewOutboxItem::default() };
            let item: OutboxItem = client.post(&path, &new).await?;
            out.one(&item, super::outbox::lines)
        }
        GroupVerb::Outbox { group } => {
            let eui = find(client, &group).await?.eui;
            super::outbox::list(client, out, &client.in_estate(&format!("devices/{eui}/outbox")).await?).await
        }
        GroupVerb::Remove { group } => {
            let group = find(client, &group).await?;
            show::confirm(yes, &format!("{} will be removed with its keys and what waits in its outbox.", group.name))?;
            client.delete(&client.in_estate(&format!("groups/{}", group.eui)).await?).await?;
            out.line(format!("{} was removed.", group.name))
        }
    }
}

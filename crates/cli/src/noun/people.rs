//! Members, invitations and shares.

use anyhow::{Result, anyhow};
use api::people::rights::{RightAbout, Role, Scope};
use api::people::{
    ChangeMember, ChangeShare, EstateMember, Invitation, NewInvitation, Offer, Share, TakeInvitation, WrittenInvitation,
};
use chrono::{DateTime, Utc};

use crate::args::{PeopleVerb, ShareArgs};
use crate::client::{Client, segment};
use crate::show::{self, Out, ago};

/// What an invitation offers, in words.
fn offered(offer: &Offer) -> String {
    match offer {
        Offer::Role(role) => format!("to be {role}"),
        Offer::Share { scope, may, until } => format!("{scope}, to {}{}", may.name(), ends(*until)),
    }
}

fn ends(until: Option<DateTime<Utc>>) -> String {
    until.map_or_else(String::new, |until| format!(", until {}", until.format("%Y-%m-%d %H:%M UTC")))
}

/// A fleet or device given by name, as a scope.
pub async fn scope(client: &Client, fleet: Option<String>, device: Option<String>) -> Result<Option<Scope>> {
    Ok(match (fleet, device) {
        (Some(fleet), _) => Some(Scope::Fleet(fleet)),
        (None, Some(device)) => Some(Scope::Device(client.dev_eui(&device).await?)),
        (None, None) => None,
    })
}

pub fn shown(client: &Client, out: &Out, written: &WrittenInvitation) -> Result<()> {
    out.one(written, |written| {
        let until = written.invitation.expires_at.format("%Y-%m-%d %H:%M UTC");
        vec![
            ("invitation", format!("{} for {}", written.invitation.id, written.invitation.for_whom)),
            ("offers", offered(&written.invitation.offer)),
            ("good until", until.to_string()),
            ("link", format!("{}{}", client.url(), written.path)),
            ("", "Whoever opens the link takes it, once. It is shown only now.".into()),
        ]
    })
}

pub async fn run(client: &Client, out: &Out, verb: PeopleVerb, yes: bool) -> Result<()> {
    match verb {
        PeopleVerb::List => {
            let members: Vec<EstateMember> = client.get(&client.in_estate("people").await?, &[]).await?;
            let head = ["NAME", "ROLE", "SINCE", "INVITED BY", "TWO STEPS", "LAST SEEN"];
            out.list(&members, "Nobody is a member.", &head, |m| {
                let since = m.since.format("%Y-%m-%d").to_string();
                let two_step = if m.two_step { "yes" } else { "no" };
                let by = m.by.clone().unwrap_or_else(|| "–".into());
                vec![m.name.clone(), m.role.to_string(), since, by, two_step.into(), ago(m.last_seen)]
            })
        }
        PeopleVerb::Roles => {
            let table: Vec<RightAbout> = client.get("/roles", &[]).await?;
            let head = ["RIGHT", "VIEWER", "OPERATOR", "ENGINEER", "OWNER", "TOKENS", "ALLOWS TO"];
            out.list(&table, "", &head, |row| {
                let yes = |yes: bool| if yes { "yes" } else { "–" }.to_owned();
                let mut cells = vec![row.right.to_string()];
                cells.extend(Role::ALL.map(|role| yes(row.roles.contains(&role))));
                cells.extend([yes(row.for_tokens), row.about.clone()]);
                cells
            })
        }
        PeopleVerb::Invite { role, for_whom, days } => {
            let new = NewInvitation { for_whom, offer: Offer::Role(role), days };
            let written = client.post(&client.in_estate("invitations").await?, &new).await?;
            shown(client, out, &written)
        }
        PeopleVerb::Share(args) => share(client, out, args).await,
        PeopleVerb::Invitations => {
            let all: Vec<Invitation> = client.get(&client.in_estate("invitations").await?, &[]).await?;
            out.list(&all, "No invitation waits.", &["NUMBER", "FOR", "OFFERS", "GOOD UNTIL", "BY"], |i| {
                let until = i.expires_at.format("%Y-%m-%d %H:%M UTC").to_string();
                vec![i.id.to_string(), i.for_whom.clone(), offered(&i.offer), until, i.by.clone()]
            })
        }
        PeopleVerb::Withdraw { id } => {
            client.delete(&client.in_estate(&format!("invitations/{id}")).await?).await?;
            out.line(format!("Invitation {id} was withdrawn."))
        }
        PeopleVerb::Take(args) => {
            let code = args.link.rsplit('#').next().unwrap_or_default().to_owned();
            client.act_with("/invitations/take", &TakeInvitation { code, account: None }).await?;
            out.line("The invitation was taken; see `heron estate list`.")
        }
        PeopleVerb::Role { name, role } => {
            let path = client.in_estate(&format!("people/{}", segment(&name))).await?;
            let member: EstateMember = client.put(&path, &ChangeMember { role, was: None }).await?;
            out.one(&member, |m| vec![("name", m.name.clone()), ("role", m.role.to_string())])
        }
        PeopleVerb::Remove { name } => {
            let what = format!("{name} will be no member any more, and their tokens here will end.");
            show::confirm(yes, &what)?;
            client.delete(&client.in_estate(&format!("people/{}", segment(&name))).await?).await?;
            out.line(format!("{name} is no member any more."))
        }
        PeopleVerb::Shares => {
            let all: Vec<Share> = client.get(&client.in_estate("shares").await?, &[]).await?;
            let head = ["NUMBER", "WITH", "WHAT", "THEY MAY", "UNTIL", "BY"];
            out.list(&all, "Nothing is shared.", &head, |s| {
                let until = s.until.map_or_else(|| "no end".into(), |u| u.format("%Y-%m-%d %H:%M UTC").to_string());
                vec![s.id.to_string(), s.person.clone(), s.scope.to_string(), s.may.name().into(), until, s.by.clone()]
            })
        }
        PeopleVerb::Reshare { id, may, until } => {
            let path = client.in_estate(&format!("shares/{id}")).await?;
            let share: Share = client.put(&path, &ChangeShare { may, until }).await?;
            out.one(&share, |s| {
                let may = format!("{}{}", s.may.name(), ends(s.until));
                vec![("with", s.person.clone()), ("what", s.scope.to_string()), ("they may", may)]
            })
        }
        PeopleVerb::Unshare { id } => {
            show::confirm(yes, &format!("Share {id} will end at once."))?;
            client.delete(&client.in_estate(&format!("shares/{id}")).await?).await?;
            out.line(format!("Share {id} has ended."))
        }
        PeopleVerb::Leave => {
            show::confirm(yes, "You will have no access to this estate any more.")?;
            client.act(&client.in_estate("leave").await?).await?;
            out.line("You have left.")
        }
    }
}

async fn share(client: &Client, out: &Out, args: ShareArgs) -> Result<()> {
    let scope = scope(client, args.fleet, args.device).await?;
    let scope = scope.ok_or_else(|| anyhow!("say what with --fleet or --device"))?;
    let offer = Offer::Share { scope, may: args.may, until: args.until };
    let new = NewInvitation { for_whom: args.for_whom, offer, days: args.days };
    let written = client.post(&client.in_estate("invitations").await?, &new).await?;
    shown(client, out, &written)
}

//! Members, invitations and shares.

pub(crate) mod args;
mod invitations;
mod list;
mod reshare;
mod roles;
mod shares;

use crate::commands::sign_in;
use anyhow::{Result, anyhow};
use api::people::rights::Scope;
use api::people::{ChangeMember, EstateMember, NewInvitation, Offer, TakeInvitation, WrittenInvitation};
use chrono::{DateTime, Utc};

use crate::args::moment::Moment;
use crate::client::{Client, segment};
use crate::commands::Context;
use crate::commands::people::args::{LocalPeopleVerb, PeopleVerb, RemotePeopleVerb, ShareArgs};
use crate::show::{self, Out};

/// What an invitation offers, in words.
fn offered(offer: &Offer) -> String {
    match offer {
        Offer::Role(role) => format!("to be {role}"),
        Offer::Share { scope, may, until } => format!("{scope}, to {}{}", may.name(), ends(*until)),
    }
}

fn ends(until: Option<DateTime<Utc>>) -> String {
    until.map_or_else(String::new, |until| format!(", until {}", show::moment(until)))
}

/// A fleet or device given by name, as a scope.
pub(crate) async fn scope(client: &Client, fleet: Option<String>, device: Option<String>) -> Result<Option<Scope>> {
    Ok(match (fleet, device) {
        (Some(fleet), _) => Some(Scope::Fleet(fleet)),
        (None, Some(device)) => Some(Scope::Device(client.dev_eui(&device).await?)),
        (None, None) => None,
    })
}

pub(crate) fn shown(client: &Client, out: &Out, written: &WrittenInvitation) -> Result<()> {
    out.one(written, |written| {
        let until = show::moment(written.invitation.expires_at);
        vec![
            ("invitation", format!("{} for {}", written.invitation.id, written.invitation.for_whom)),
            ("offers", offered(&written.invitation.offer)),
            ("good until", until.to_string()),
            ("link", format!("{}{}", client.url(), written.path)),
            ("", "The link works once, for the first person who opens it. It is shown only now.".into()),
        ]
    })
}

/// Carries a verb out. Some need no service.
pub(crate) async fn run(context: &Context, verb: PeopleVerb) -> Result<()> {
    match verb {
        PeopleVerb::Local(verb) => local(context, verb).await,
        PeopleVerb::Remote(verb) => remote(&context.client()?, &context.out, verb, context.global.yes).await,
    }
}

async fn local(context: &Context, verb: LocalPeopleVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        LocalPeopleVerb::Take(args) if args.new_account.is_some() => sign_in::take_invitation(context, args).await,
        LocalPeopleVerb::Take(args) => {
            let client = context.client()?;
            let code = args.link.rsplit('#').next().unwrap_or_default().to_owned();
            client.act_with("/invitations/take", &TakeInvitation { code, account: None }).await?;
            out.line("The invitation was taken; see `heron estate list`.")
        }
    }
}

async fn remote(client: &Client, out: &Out, verb: RemotePeopleVerb, yes: bool) -> Result<()> {
    match verb {
        RemotePeopleVerb::List => list::run(client, out, yes).await,
        RemotePeopleVerb::Roles => roles::run(client, out, yes).await,
        RemotePeopleVerb::Invite { role, for_whom, days } => {
            let new = NewInvitation { for_whom, offer: Offer::Role(role), days };
            let written = client.post(&client.in_estate("invitations").await?, &new).await?;
            shown(client, out, &written)
        }
        RemotePeopleVerb::Share(args) => share(client, out, args).await,
        RemotePeopleVerb::Invitations => invitations::run(client, out).await,
        RemotePeopleVerb::Withdraw { id } => {
            client.delete(&client.in_estate(&format!("invitations/{id}")).await?).await?;
            out.line(format!("Invitation {id} was withdrawn."))
        }
        RemotePeopleVerb::Role { name, role } => {
            let path = client.in_estate(&format!("people/{}", segment(&name))).await?;
            let all: Vec<EstateMember> = client.all(&client.in_estate("people").await?, &[]).await?;
            if let Some(before) = all.iter().find(|member| member.name == name).filter(|member| member.role > role) {
                show::confirm(yes, &format!("{name} is {} and will be {role}: they may do less then.", before.role))?;
            }
            let member: EstateMember = client.patch(&path, &ChangeMember { role, was: None }).await?;
            out.one(&member, |m| vec![("name", m.name.clone()), ("role", m.role.to_string())])
        }
        RemotePeopleVerb::Remove { name } => {
            let what = format!("{name} will no longer be a member, and their tokens here will end.");
            show::confirm(yes, &what)?;
            client.delete(&client.in_estate(&format!("people/{}", segment(&name))).await?).await?;
            out.line(format!("{name} is no longer a member."))
        }
        RemotePeopleVerb::Shares => shares::run(client, out).await,
        RemotePeopleVerb::Reshare { id, may, until } => {
            reshare::run(client, out, id, may, until.map(Moment::until)).await
        }
        RemotePeopleVerb::Unshare { id } => {
            show::confirm(yes, &format!("Share {id} will end at once."))?;
            client.delete(&client.in_estate(&format!("shares/{id}")).await?).await?;
            out.line(format!("Share {id} has ended."))
        }
        RemotePeopleVerb::Leave => {
            show::confirm(yes, "You will no longer have access to this estate.")?;
            client.act(&client.in_estate("leave").await?).await?;
            out.line("You have left.")
        }
    }
}

async fn share(client: &Client, out: &Out, args: ShareArgs) -> Result<()> {
    let scope = scope(client, args.fleet, args.device).await?;
    let scope = scope.ok_or_else(|| anyhow!("say what with --fleet or --device"))?;
    let offer = Offer::Share { scope, may: args.may, until: args.until.map(Moment::until) };
    let new = NewInvitation { for_whom: args.for_whom, offer, days: args.days };
    let written = client.post(&client.in_estate("invitations").await?, &new).await?;
    shown(client, out, &written)
}

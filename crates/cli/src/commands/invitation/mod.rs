//! `heron invitation`.

pub(crate) mod args;
mod list;

use anyhow::Result;
use api::people::{NewInvitation, Offer, TakeInvitation, WrittenInvitation};
use chrono::{DateTime, Utc};

use crate::client::Client;
use crate::commands::invitation::args::{InvitationVerb, TakeArgs};
use crate::commands::{Context, sign_in};
use crate::show::{self, Out};

/// What an invitation offers, in words.
fn offered(offer: &Offer) -> String {
    match offer {
        Offer::Role(role) => format!("to be {role}"),
        Offer::Share { scope, may, until } => format!("{scope}, to {}{}", may.name(), ends(*until)),
    }
}

pub(super) fn ends(until: Option<DateTime<Utc>>) -> String {
    until.map_or_else(String::new, |until| format!(", until {}", show::moment(until)))
}

/// Writes an invitation, and shows its link.
pub(super) async fn add(client: &Client, out: &Out, new: &NewInvitation) -> Result<()> {
    let written = client.post(&client.in_estate("invitations").await?, new).await?;
    shown(client, out, &written)
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

pub(crate) async fn run(context: &Context, verb: InvitationVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        InvitationVerb::List(which) => list::run(&context.client()?, out, which).await,
        InvitationVerb::Add { role, for_whom, days } => {
            add(&context.client()?, out, &NewInvitation { for_whom, offer: Offer::Role(role), days }).await
        }
        InvitationVerb::Remove { id } => {
            let client = context.client()?;
            client.delete(&client.in_estate(&format!("invitations/{id}")).await?).await?;
            out.said(format!("Invitation {id} was withdrawn."))
        }
        InvitationVerb::Take(args) => take(context, args).await,
    }
}

/// Takes an invitation. With a new account no sign-in is needed.
async fn take(context: &Context, args: TakeArgs) -> Result<()> {
    if args.new_account.is_some() {
        return sign_in::take_invitation(context, args).await;
    }
    let client = context.client()?;
    let code = args.link.rsplit('#').next().unwrap_or_default().to_owned();
    client.act_with("/invitations/take", &TakeInvitation { code, account: None }).await?;
    context.out.said("The invitation was taken; see `heron estate list`.")
}

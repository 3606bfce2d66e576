//! `heron device session`.

use anyhow::Result;
use api::device::{DeviceDetail, SetCounters};

use super::{detail, show_detail};
use crate::client::Client;
use crate::commands::device::args::SessionVerb;
use crate::show::{self, Out};

/// Address and counters; nothing without a session.
pub(super) fn lines(d: &DeviceDetail) -> Vec<(&'static str, String)> {
    let Some(session) = &d.session else { return Vec::new() };
    let up = session.last_counter_up.map_or_else(|| "none yet".into(), |n| n.to_string());
    let begun = match d.personalized {
        true => "fixed".to_owned(),
        false => format!("joined {}", show::ago(Some(session.joined_at))),
    };
    vec![
        ("session", format!("DevAddr {}, {begun}", session.dev_addr)),
        ("counters", format!("last up {up}, next down {}", session.next_counter_down)),
    ]
}

pub(super) async fn run(client: &Client, out: &Out, verb: SessionVerb, yes: bool) -> Result<()> {
    match verb {
        SessionVerb::Show { device } => show(out, &detail(client, &device).await?),
        SessionVerb::Set { device, last_up, next_down } => {
            let wanted = SetCounters { last_counter_up: last_up, next_counter_down: next_down };
            let before = detail(client, &device).await?;
            if let Some(what) = set_back(&before, &wanted) {
                show::confirm(yes, &what)?;
            }
            let path = client.in_estate(&format!("devices/{}/counters", before.device.dev_eui)).await?;
            show_detail(out, &client.patch(&path, &wanted).await?)
        }
        SessionVerb::Remove { device, nonces } => {
            let eui = client.dev_eui(&device).await?;
            let also = if nonces { " Recorded joins of it can be played back afterwards." } else { "" };
            show::confirm(yes, &format!("The session of {device} ({eui}) will end: it has to join again.{also}"))?;
            client.delete(&client.in_estate(&format!("devices/{eui}/session?nonces={nonces}")).await?).await?;
            out.said(format!("The session of {device} has ended."))
        }
    }
}

fn show(out: &Out, detail: &DeviceDetail) -> Result<()> {
    match &detail.session {
        _ if out.json => out.json(&detail.session),
        Some(_) => out.one(detail, lines),
        None => out.line(format!(
            "{} has no session: it has not joined. `heron device why` says what is known of it.",
            detail.device.name
        )),
    }
}

/// What would happen if a counter was set back.
fn set_back(before: &DeviceDetail, wanted: &SetCounters) -> Option<String> {
    let session = before.session.as_ref()?;
    let name = &before.device.name;
    if let (Some(was), Some(is)) = (session.last_counter_up, wanted.last_counter_up)
        && is < was
    {
        return Some(format!(
            "The last counter of {name} goes from {was} back to {is}: frames that were recorded since could be played back."
        ));
    }
    let (was, is) = (session.next_counter_down, wanted.next_counter_down?);
    (is < was).then(|| {
        format!("The counter towards {name} goes from {was} back to {is}: the device does not hear frames below {was}.")
    })
}

//! `heron group send`.

use crate::commands::group::args::GroupSendArgs;
use anyhow::Result;
use api::device::outbox::{NewOutboxItem, OutboxItem};

use super::find;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: GroupSendArgs) -> Result<()> {
    let GroupSendArgs { group, port, payload, expires_in } = args;
    let eui = find(client, &group).await?.eui;
    let path = client.in_estate(&format!("devices/{eui}/outbox")).await?;
    let (port, payload) = (Some(port), Some(payload));
    let new = NewOutboxItem { port, payload, expires_in_s: expires_in, ..NewOutboxItem::default() };
    let item: OutboxItem = client.post(&path, &new).await?;
    out.one(&item, crate::commands::outbox::lines)
}

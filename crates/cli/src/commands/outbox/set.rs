//! `heron outbox set`.

use anyhow::Result;
use api::device::outbox::{ChangeOutboxItem, OutboxItem, OutboxPlace};

use super::path;
use crate::client::{Client, segment};
use crate::commands::outbox::args::MoveTo;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, target: String, id: String, to: MoveTo) -> Result<()> {
    let MoveTo { first, before, .. } = to;
    let place = match before {
        Some(other) => OutboxPlace::Before(other),
        None if first => OutboxPlace::First,
        None => OutboxPlace::Last,
    };
    let path = path(client, &target).await?;
    let moved: OutboxItem = client.patch(&format!("{path}/{}", segment(&id)), &ChangeOutboxItem { place }).await?;
    match moved.ahead {
        _ if out.json => out.json(&moved),
        Some(0) | None => out.line("It goes next."),
        Some(n) => out.line(format!("{n} go before it.")),
    }
}

//! `heron outbox add`.

use anyhow::Result;
use api::device::outbox::{OutboxItem, OutboxReadBack};

use super::{lines, new_item, path, read_back};
use crate::client::Client;
use crate::commands::outbox::args::OutboxAddArgs;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: OutboxAddArgs) -> Result<()> {
    let (path, check) = (path(client, &args.target).await?, args.check);
    let new = new_item(args)?;
    if check {
        let expected: OutboxReadBack = client.post(&format!("{path}/check"), &new).await?;
        return out.one(&expected, read_back);
    }
    let item: OutboxItem = client.post(&path, &new).await?;
    out.one(&item, lines)
}

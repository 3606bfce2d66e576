//! `heron invitation list`.

use crate::show;
use anyhow::Result;
use api::people::Invitation;

use super::offered;
use crate::args::ListArgs;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let all: Vec<Invitation> = client.all(&client.in_estate("invitations").await?, &which.query()).await?;
    out.list(&all, "No invitation waits.", &["NUMBER", "FOR", "OFFERS", "GOOD UNTIL", "BY"], |i| {
        let until = show::moment(i.expires_at);
        vec![i.id.to_string(), i.for_whom.clone(), offered(&i.offer), until, i.by.clone()]
    })
}

//! `heron group list`.

use anyhow::Result;
use api::device::group::Group;

use super::NONE;
use crate::args::ListArgs;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let groups: Vec<Group> = client.all(&client.in_estate("groups").await?, &which.query()).await?;
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

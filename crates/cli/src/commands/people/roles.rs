//! `heron people roles`.

use anyhow::Result;
use api::people::rights::{RightAbout, Role};

use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let table: Vec<RightAbout> = client.all("/roles", &[]).await?;
    let head = ["RIGHT", "VIEWER", "OPERATOR", "ENGINEER", "OWNER", "TOKENS", "ALLOWS TO"];
    out.list(&table, "", &head, |row| {
        let yes = |yes: bool| if yes { "yes" } else { "–" }.to_owned();
        let mut cells = vec![row.right.to_string()];
        cells.extend(Role::ALL.map(|role| yes(row.roles.contains(&role))));
        cells.extend([yes(row.for_tokens), row.about.clone()]);
        cells
    })
}

//! `heron share list`.

use crate::show;
use anyhow::Result;
use api::people::Share;

use crate::args::ListArgs;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, which: ListArgs) -> Result<()> {
    let all: Vec<Share> = client.all(&client.in_estate("shares").await?, &which.query()).await?;
    let head = ["NUMBER", "WITH", "WHAT", "THEY MAY", "UNTIL", "BY"];
    out.list(&all, "Nothing is shared.", &head, |s| {
        let until = s.until.map_or_else(|| "never".into(), show::moment);
        vec![s.id.to_string(), s.person.clone(), s.scope.to_string(), s.may.name().into(), until, s.by.clone()]
    })
}

//! `heron find`: one search over devices, gateways and strangers.

use anyhow::Result;
use api::Page;
use api::find::Found;

use crate::client::Client;
use crate::show::{self, Out};

pub(crate) async fn run(client: &Client, out: &Out, text: String) -> Result<()> {
    let found: Page<Found> = client.get(&client.in_estate("find").await?, &[("text", text)]).await?;
    let found = found.items;
    let none = "Nothing has that in its name, its EUI, its address or its tags.";
    out.list(&found, none, &["WHAT", "NAME", "EUI", "ABOUT", "LAST HEARD"], |f| {
        let name = f.name.clone().unwrap_or_else(|| "–".into());
        vec![f.kind.label().into(), name, f.eui.to_string(), f.about.clone(), show::ago(f.last_heard)]
    })
}

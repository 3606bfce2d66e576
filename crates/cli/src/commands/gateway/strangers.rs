//! `heron gateway strangers`.

use anyhow::Result;
use api::gateway::Stranger;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, claim: Option<String>) -> Result<()> {
    let claim: Vec<(&str, String)> = claim.map(|claim| ("claim", claim)).into_iter().collect();
    let strangers: Vec<Stranger> = client.all(&client.in_estate("strangers").await?, &claim).await?;
    let none = "No stranger has called since the service started. Of one elsewhere say what you know: `--claim EUI`.";
    let head = ["EUI", "ADDRESS", "BY", "FIRST HEARD", "LAST HEARD", "TURNED AWAY", "HEARD ON", "REGION", "WAS TOLD"];
    out.list(&strangers, none, &head, |s| {
        let mhz: Vec<String> = s.frequencies_mhz.iter().map(f64::to_string).collect();
        vec![
            s.eui.to_string(),
            s.address.clone(),
            s.protocol.label().into(),
            show::ago(Some(s.first_heard)),
            show::ago(Some(s.last_heard)),
            s.frames_turned_away.to_string(),
            if mhz.is_empty() { "nothing yet".into() } else { format!("{} MHz", mhz.join(", ")) },
            s.region.map_or("–", |region| region.name()).into(),
            s.told.clone().unwrap_or_else(|| "–".into()),
        ]
    })?;
    if !out.json && !strangers.is_empty() {
        out.line("Is one of them yours? `heron gateway adopt EUI --name NAME` registers it.")?;
    }
    Ok(())
}

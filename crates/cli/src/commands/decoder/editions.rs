//! `heron decoder editions`.

use anyhow::Result;
use api::model::edition::Edition;

use crate::client::Client;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, model: String) -> Result<()> {
    let path = client.in_estate(&format!("models/{model}/editions")).await?;
    let editions: Vec<Edition> = client.all(&path, &[]).await?;
    out.list(
        &editions,
        "It has not been saved since editions are kept.",
        &["EDITION", &format!("SAVED ({})", show::zone()), "BY", "CHANGED", "NOTE"],
        |e| {
            let flaw = if e.flaw.is_some() { " (not used: it has a flaw)" } else { "" };
            let note = format!("{}{flaw}", e.note);
            vec![e.number.to_string(), show::moment(e.saved_at), e.saved_by.clone(), e.changed.join(", "), note]
        },
    )
}

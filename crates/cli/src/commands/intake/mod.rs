//! `heron intake`.

use anyhow::Result;
use api::IngestStats;

use crate::client::Client;
use crate::show::{Out, table};

pub async fn run(client: &Client, out: &Out) -> Result<()> {
    let intake: IngestStats = client.get("/intake", &[]).await?;
    if out.json {
        return out.json(&intake);
    }
    out.line(format!(
        "{} datagrams and messages since the service started, {} frames taken in.",
        intake.datagrams, intake.frames
    ))?;
    if intake.waiting > 0 {
        let kib = intake.journal_bytes / 1024;
        out.line(format!("{} frames wait for the database; the journal keeps them, with {kib} KiB.", intake.waiting))?;
    }
    if intake.unwritten > 0 {
        out.line(format!(
            "{} frames could not be written to the journal: a kill would have lost them.",
            intake.unwritten
        ))?;
    }
    if intake.dropped.is_empty() {
        return out.line("Nothing was dropped.");
    }
    let rows =
        intake.dropped.iter().map(|d| vec![d.reason.clone(), d.count.to_string(), d.last_from.clone(), d.last.clone()]);
    out.line(table(&["DROPPED", "COUNT", "LAST FROM", "LAST"], rows))
}

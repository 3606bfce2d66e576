//! `heron ingest show`.

pub(crate) mod args;

use anyhow::Result;
use api::IngestStats;

use crate::client::Client;
use crate::show::{Out, table};

pub(crate) async fn run(client: &Client, out: &Out) -> Result<()> {
    let ingest: IngestStats = client.get("/ingest", &[]).await?;
    if out.json {
        return out.json(&ingest);
    }
    out.line(format!(
        "{} datagrams and messages since the service started, {} frames taken in.",
        ingest.datagrams, ingest.frames
    ))?;
    if ingest.waiting > 0 {
        let kib = ingest.journal_bytes / 1024;
        out.line(format!("{} frames wait for the database; the journal keeps them, with {kib} KiB.", ingest.waiting))?;
    }
    if ingest.unwritten > 0 {
        out.line(format!(
            "{} frames could not be written to the journal: a kill would have lost them.",
            ingest.unwritten
        ))?;
    }
    if ingest.dropped.is_empty() {
        return out.line("Nothing was dropped.");
    }
    let rows =
        ingest.dropped.iter().map(|d| vec![d.reason.clone(), d.count.to_string(), d.last_from.clone(), d.last.clone()]);
    out.line(table(&["DROPPED", "COUNT", "LAST FROM", "LAST"], rows))
}

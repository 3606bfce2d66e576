//! `heron device import` and `export`: many devices from a CSV file, and into one.

use std::fs;
use std::io::{IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, bail};
use api::device::import::{DeviceImportOutcome, ImportOptions, ImportProgress};
use api::gateway::import::{Fate, ImportOutcome};
use api::problem::Problem;
use domain::device::import::LARGEST;
use eventsource_stream::Eventsource as _;
use futures::StreamExt as _;
use indicatif::{ProgressBar, ProgressStyle};

use crate::client::Client;
use crate::commands::device::args::{DeviceImportArgs, DeviceListArgs};
use crate::save;
use crate::show::{self, Out};
use crate::terminal;

/// What is sent.
const CSV: &str = "text/csv";

fn read(file: &Path) -> Result<Vec<u8>> {
    let too_large = |bytes: u64| bytes > LARGEST as u64;
    let most = LARGEST >> 20;
    if file == Path::new("-") {
        let mut bytes = Vec::new();
        std::io::stdin().take(LARGEST as u64 + 1).read_to_end(&mut bytes).context("reading standard input")?;
        if too_large(bytes.len() as u64) {
            bail!("more than {most} MB came; split them into several files");
        }
        return Ok(bytes);
    }
    let about = fs::metadata(file).with_context(|| format!("reading {}", file.display()))?;
    if too_large(about.len()) {
        bail!("{} has {} MB; at most {most} are taken, so split it", file.display(), about.len() >> 20);
    }
    fs::read(file).with_context(|| format!("reading {}", file.display()))
}

pub(super) async fn run(client: &Client, out: &Out, args: DeviceImportArgs, yes: bool) -> Result<()> {
    let path = client.in_estate("devices/import").await?;
    let bytes = read(&args.file)?;
    let DeviceImportArgs { preview, skip_bad, fleet, model, profile, join_eui, .. } = args;
    let options = ImportOptions { preview: true, skip_bad, fleet, model, profile, join_eui };
    let expected: DeviceImportOutcome = client.upload(&path, &options, (CSV, bytes.clone())).await?;
    let (rows, bad) = (expected.outcome.rows.len(), expected.outcome.bad);
    let asks = !yes && std::io::stdin().is_terminal();
    if preview || asks || bad > 0 {
        show(out, &expected, preview)?;
    }
    if preview {
        return Ok(());
    }
    if bad > 0 && !skip_bad {
        bail!("nothing was registered: {bad} of {rows} rows cannot be; --skip-bad leaves them out");
    }
    if rows == bad {
        bail!("nothing was registered: the file has no row that can be");
    }
    if asks {
        show::confirm(false, &format!("{} devices will be registered.", rows - bad))?;
    }
    let options = ImportOptions { preview: false, ..options };
    let outcome = register(client, &path, &options, bytes).await?;
    if out.json {
        return out.json(&outcome);
    }
    out.line(format!("{} devices were registered.", outcome.outcome.registered))
}

/// Registers what is in a file, and shows how far it has come.
async fn register(client: &Client, path: &str, options: &ImportOptions, bytes: Vec<u8>) -> Result<DeviceImportOutcome> {
    let response = client.upload_told(path, options, (CSV, bytes)).await?;
    let mut events = response.bytes_stream().eventsource();
    let style = ProgressStyle::with_template("{bar:40} {pos} of {len} written down")?;
    let bar = if terminal::shows_progress() { ProgressBar::no_length() } else { ProgressBar::hidden() };
    let bar = bar.with_style(style);
    while let Some(event) = events.next().await {
        let event = event.context("the service's answer breaks off; what was registered, `heron device list` shows")?;
        match event.event.as_str() {
            "progress" => {
                let progress: ImportProgress = serde_json::from_str(&event.data)?;
                bar.set_length(progress.of as u64);
                bar.set_position(progress.done as u64);
            }
            "outcome" => {
                bar.finish_and_clear();
                return Ok(serde_json::from_str(&event.data)?);
            }
            "problem" => {
                bar.finish_and_clear();
                return Err(serde_json::from_str::<Problem>(&event.data)?.into());
            }
            _ => {}
        }
    }
    bail!("the service's answer breaks off; what was registered, `heron device list` shows")
}

/// What would become of a file: totals first, then the rows that cannot be registered. For programs all rows of a preview.
fn show(out: &Out, outcome: &DeviceImportOutcome, preview: bool) -> Result<()> {
    if out.json {
        return if preview { out.json(outcome) } else { Ok(()) };
    }
    totals(out, &outcome.outcome, "devices")?;
    for note in &outcome.notes {
        out.line(note)?;
    }
    Ok(())
}

pub(super) async fn export(client: &Client, which: DeviceListArgs, keys: bool, into: Option<PathBuf>) -> Result<()> {
    if let Some(file) = &into {
        // A sheet that is none would only be found when it is opened.
        if file.extension().is_none_or(|ending| !ending.eq_ignore_ascii_case("csv")) {
            bail!("{}: a name that ends with .csv is wanted", file.display());
        }
    }
    let mut query = which.query();
    query.push(("keys", keys.to_string()));
    let response = client.stream(&client.in_estate("devices/export").await?, &query, None).await?;
    save::whole(response, into.as_deref()).await
}

/// How many rows can be registered, and those that cannot, with the reason.
pub(crate) fn totals(out: &Out, outcome: &ImportOutcome, what: &str) -> Result<()> {
    let good = outcome.rows.len() - outcome.bad;
    out.line(match (good, outcome.bad) {
        (0, 0) => format!("The file has no {what}."),
        (good, 0) => format!("All {good} {what} can be registered."),
        (good, bad) => format!("{good} {what} can be registered, {bad} cannot:"),
    })?;
    let bad: Vec<_> = outcome.rows.iter().filter(|row| row.fate == Fate::Bad).collect();
    if bad.is_empty() {
        return Ok(());
    }
    out.list(&bad, "", &["LINE", "EUI", "NAME", "WHY"], |row| {
        let why = row.problem.as_ref().map(ToString::to_string).unwrap_or_default();
        vec![row.line.to_string(), row.eui.clone(), row.name.clone(), why.replace('\n', ";")]
    })
}

//! `heron gateway import`: many gateways from a CSV file.

use std::fs;
use std::io::{IsTerminal as _, Read as _};
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use api::gateway::import::{GatewayImport, ImportOutcome};

use crate::client::Client;
use crate::commands::device::import::totals;
use crate::commands::gateway::args::ImportArgs;
use crate::show::{self, Out};

fn read(file: &Path) -> Result<String> {
    if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).context("reading standard input")?;
        return Ok(text);
    }
    let bytes = fs::read(file).with_context(|| format!("reading {}", file.display()))?;
    String::from_utf8(bytes).with_context(|| format!("{} is not UTF-8 text", file.display()))
}

pub(super) async fn run(client: &Client, out: &Out, args: ImportArgs, yes: bool) -> Result<()> {
    let path = client.in_estate("gateways/import").await?;
    let preview = GatewayImport { csv: read(&args.file)?, skip_bad: args.skip_bad, preview: true };
    let expected: ImportOutcome = client.post(&path, &preview).await?;
    let good = expected.rows.len() - expected.bad;
    let asks = !yes && std::io::stdin().is_terminal();
    if args.preview || asks || expected.bad > 0 && !args.skip_bad {
        show(out, &expected)?;
    }
    if args.preview {
        return Ok(());
    }
    if expected.bad > 0 && !args.skip_bad {
        bail!(
            "nothing was registered: {} of {} rows cannot be; --skip-bad leaves them out",
            expected.bad,
            expected.rows.len()
        );
    }
    if good == 0 {
        bail!("nothing was registered: the file has no row that can be");
    }
    if asks {
        show::confirm(false, &format!("{good} gateways will be registered."))?;
    }
    let outcome: ImportOutcome = client.post(&path, &GatewayImport { preview: false, ..preview }).await?;
    if out.json {
        return out.json(&outcome);
    }
    if outcome.registered < good {
        bail!("{} gateways were registered; meanwhile something had changed", outcome.registered);
    }
    out.line(format!("{} gateways were registered.", outcome.registered))
}

fn show(out: &Out, outcome: &ImportOutcome) -> Result<()> {
    if out.json { out.json(outcome) } else { totals(out, outcome, "gateways") }
}

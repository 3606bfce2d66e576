//! Writing what the service streams: to a file that is whole or not there, or to standard output.

use std::io::Write as _;
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use futures::StreamExt as _;
use reqwest::Response;

use crate::terminal;

/// The format of a file of text, by the end of its name; CSV on standard output.
pub(crate) fn text_form(file: Option<&Path>) -> Result<&'static str> {
    let Some(file) = file else { return Ok("csv") };
    match file.extension().and_then(|ending| ending.to_str()) {
        Some("csv") => Ok("csv"),
        Some("jsonl" | "ndjson") => Ok("jsonl"),
        _ => bail!("{}: a name that ends with .csv or .jsonl is wanted", file.display()),
    }
}

/// Writes a stream to a file, or to standard output if none is given.
pub(crate) async fn whole(response: Response, file: Option<&Path>) -> Result<()> {
    match file {
        Some(file) => stream(response, file).await,
        None => to_stdout(response).await,
    }
}

/// Writes a stream to standard output.
async fn to_stdout(response: Response) -> Result<()> {
    let mut parts = response.bytes_stream();
    let mut to = std::io::stdout().lock();
    while let Some(part) = parts.next().await {
        to.write_all(&part.context("the export broke off; it is not whole")?)?;
    }
    Ok(to.flush()?)
}

/// Writes a stream to a file. Beside it first: a file of that name is whole, or as it was.
async fn stream(response: Response, path: &Path) -> Result<()> {
    let mut parts = response.bytes_stream();
    let beside = path.with_extension("part");
    let mut file = std::fs::File::create(&beside).with_context(|| format!("writing {}", beside.display()))?;
    let mut bytes = 0;
    while let Some(part) = parts.next().await {
        let part = part.context("the export broke off; nothing was written")?;
        bytes += part.len();
        file.write_all(&part)?;
    }
    file.sync_all()?;
    put_in_place(&beside, path, bytes)
}

/// Gives a file that is whole its name, and says so.
fn put_in_place(beside: &Path, path: &Path, bytes: usize) -> Result<()> {
    std::fs::rename(beside, path)?;
    terminal::remark(format!("{} was written, {bytes} bytes.", path.display()));
    Ok(())
}

/// Writes a file. Beside it first: a file of that name is whole, or as it was.
pub(crate) fn bytes(path: &Path, bytes: &[u8]) -> Result<()> {
    let beside = path.with_extension("part");
    let written = std::fs::File::create(&beside).and_then(|mut file| {
        file.write_all(bytes)?;
        file.sync_all()
    });
    written.with_context(|| format!("writing {}", beside.display()))?;
    put_in_place(&beside, path, bytes.len())
}

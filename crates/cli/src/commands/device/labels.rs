//! Labels: read from photos, and printed.

use std::fs;
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use api::device::label::LabelInPhoto;

use crate::client::Client;
use crate::commands::device::args::LabelsArgs;
use crate::save;
use crate::show::Out;

/// The code of the label in a photo; the service looks for it.
pub(super) async fn in_photo(client: &Client, photo: &Path) -> Result<String> {
    let bytes = fs::read(photo).with_context(|| format!("reading {}", photo.display()))?;
    let path = client.in_estate("labels/read").await?;
    let found: LabelInPhoto = client.upload(&path, &(), ("application/octet-stream", bytes)).await?;
    Ok(found.code)
}

pub(super) async fn print(client: &Client, out: &Out, args: LabelsArgs) -> Result<()> {
    let LabelsArgs { output: into, which } = args;
    let form = match into.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase).as_deref() {
        Some("pdf") => "pdf",
        Some("svg") => "svg",
        _ => bail!("{}: the file is to end with .pdf or .svg", into.display()),
    };
    let mut query = which.query();
    query.push(("form", form.into()));
    let response = client.stream(&client.in_estate("devices/labels").await?, &query, None).await?;
    save::whole(response, Some(&into)).await?;
    out.said(format!("{} is written. Print it at its own size, on sheets of 3 by 7 labels.", into.display()))
}

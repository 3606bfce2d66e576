//! `heron catalogue import`.

use std::fs;

use anyhow::{Context as _, Result, bail};
use api::model::catalogue::{CatalogueOutcome, GitCatalogue};
use domain::model::catalogue;

use super::{ARCHIVE, of_folder, pack, shown};
use crate::client::Client;
use crate::commands::catalogue::args::CatalogueImportArgs;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, args: CatalogueImportArgs) -> Result<()> {
    let CatalogueImportArgs { from, name, git, branch, preview, .. } = args;
    let outcome: CatalogueOutcome = match (from, git) {
        (Some(from), _) => {
            let own = from.canonicalize().ok();
            let own = own.as_ref().and_then(|path| path.file_name()).map(|name| name.to_string_lossy().into_owned());
            let bytes = if from.is_dir() {
                pack(&of_folder(&from)?)?
            } else {
                fs::read(&from).with_context(|| format!("reading {}", from.display()))?
            };
            if bytes.len() > catalogue::LARGEST {
                bail!(
                    "{} has {} MB packed; at most {} are taken",
                    from.display(),
                    bytes.len() >> 20,
                    catalogue::LARGEST >> 20
                );
            }
            let query = [("name", name.or(own).unwrap_or_default()), ("preview", preview.to_string())];
            client.upload(&client.in_estate("catalogue/files").await?, &query, (ARCHIVE, bytes)).await?
        }
        (None, Some(address)) => {
            let wanted = GitCatalogue { address, branch, preview };
            client.post(&client.in_estate("catalogue/git").await?, &wanted).await?
        }
        (None, None) => {
            let path = client.in_estate(&format!("catalogue/shipped?preview={preview}")).await?;
            client.post(&path, &()).await?
        }
    };
    shown(out, &outcome)
}

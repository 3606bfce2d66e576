//! `heron scenario import`.

use std::path::PathBuf;

use anyhow::Result;
use simulator::scenario::Scenario;

use super::{fetch_kits, register};
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, folder: PathBuf, kits: Option<PathBuf>) -> Result<()> {
    let scenario = Scenario::load(&folder)?;
    register(client, out, &scenario).await?;
    match kits {
        Some(kits) => fetch_kits(client, out, &scenario, &kits).await,
        None => Ok(()),
    }
}

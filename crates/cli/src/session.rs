//! The sign-in that is kept between commands, in a file that only its owner can read.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;

use anyhow::{Context as _, Result};
use serde::{Deserialize, Serialize};

use crate::args::Global;

/// What is kept of a sign-in.
#[derive(Serialize, Deserialize)]
pub(crate) struct Stored {
    pub url: String,
    pub token: String,
    /// What the service's certificate is checked against, PEM, if it is none that the machine trusts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
}

fn file(global: &Global) -> Result<PathBuf> {
    let folder = match &global.config {
        Some(folder) => folder.clone(),
        None => {
            let home = std::env::var_os("HOME").context("HOME is not set; say where with --config FOLDER")?;
            let base =
                std::env::var_os("XDG_CONFIG_HOME").map_or_else(|| PathBuf::from(home).join(".config"), PathBuf::from);
            base.join("keen-heron")
        }
    };
    Ok(folder.join("sign-in.json"))
}

/// The last sign-in, if there was one.
pub(crate) fn load(global: &Global) -> Result<Option<Stored>> {
    let file = file(global)?;
    match fs::read_to_string(&file) {
        Ok(text) => serde_json::from_str(&text).map(Some).with_context(|| format!("reading {}", file.display())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error).with_context(|| format!("reading {}", file.display())),
    }
}

/// Keeps a sign-in.
pub(crate) fn keep(global: &Global, stored: &Stored) -> Result<()> {
    let file = file(global)?;
    if let Some(folder) = file.parent() {
        fs::create_dir_all(folder)?;
    }
    // A file that is there already keeps its mode, so it is made again.
    let _ = fs::remove_file(&file);
    let mut out = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&file)?;
    out.write_all(serde_json::to_string(stored)?.as_bytes())?;
    Ok(())
}

/// Forgets the sign-in.
pub(crate) fn forget(global: &Global) -> Result<()> {
    Ok(fs::remove_file(file(global)?)?)
}

//! The sign-ins that are kept between commands, each under a name, in a file that only its owner can read.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;

use anyhow::{Context as _, Result};
use serde::{Deserialize, Serialize};

use crate::args::Global;
use crate::failure::NotFound;

/// What is kept of a sign-in.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct Stored {
    /// The service's address.
    pub url: String,
    /// The token that stands for the sign-in.
    pub token: String,
    /// What the service's certificate is checked against, PEM, if it is none that the machine trusts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
}

/// The sign-ins of this machine.
#[derive(Default, Serialize, Deserialize)]
pub(crate) struct SignIns {
    /// The name of the one that is used if no other is named.
    pub current: Option<String>,
    /// Each by its name.
    pub services: BTreeMap<String, Stored>,
}

impl SignIns {
    /// The name that is meant: the one given, or the current one.
    fn meant(&self, global: &Global) -> Option<String> {
        global.service.clone().or_else(|| self.current.clone())
    }
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
    Ok(folder.join("sign-ins.json"))
}

/// All sign-ins of this machine.
pub(crate) fn all(global: &Global) -> Result<SignIns> {
    let file = file(global)?;
    match fs::read_to_string(&file) {
        Ok(text) => serde_json::from_str(&text).with_context(|| format!("reading {}", file.display())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(SignIns::default()),
        Err(error) => Err(error).with_context(|| format!("reading {}", file.display())),
    }
}

/// The sign-in that is meant, if there is one.
///
/// # Errors
/// If `--service` names one that there is not, or the file cannot be read.
pub(crate) fn load(global: &Global) -> Result<Option<Stored>> {
    let all = all(global)?;
    let Some(name) = all.meant(global) else { return Ok(None) };
    match (all.services.get(&name), &global.service) {
        (Some(stored), _) => Ok(Some(stored.clone())),
        (None, None) => Ok(None),
        // An address and a token of their own need no sign-in.
        (None, Some(_)) if global.url.is_some() && global.token.is_some() => Ok(None),
        (None, Some(_)) => Err(unknown(&name, &all).into()),
    }
}

fn unknown(name: &str, all: &SignIns) -> NotFound {
    let names: Vec<&str> = all.services.keys().map(String::as_str).collect();
    NotFound(match names.as_slice() {
        [] => format!("there is no sign-in named {name:?}: `heron sign-in URL --service {name}` makes one"),
        names => format!("there is no sign-in named {name:?}; there are {}", names.join(", ")),
    })
}

/// Writes all of them: beside the file first, so that it is always whole.
fn write(global: &Global, all: &SignIns) -> Result<()> {
    let file = file(global)?;
    if let Some(folder) = file.parent() {
        fs::create_dir_all(folder).with_context(|| format!("making {}", folder.display()))?;
    }
    let beside = file.with_extension(format!("{}.part", std::process::id()));
    let writing = || format!("writing {}", beside.display());
    let mut out =
        fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside).with_context(writing)?;
    out.write_all(serde_json::to_string_pretty(all)?.as_bytes()).with_context(writing)?;
    fs::rename(&beside, &file).with_context(|| format!("writing {}", file.display()))
}

/// The name of a sign-in for which none is given: host and port of its address.
fn name_of(url: &str) -> String {
    url.split_once("://").map_or(url, |(_, rest)| rest).trim_end_matches('/').to_owned()
}

/// Keeps a sign-in, which is the current one from now on; its name.
pub(crate) fn keep(global: &Global, stored: Stored) -> Result<String> {
    let mut all = all(global)?;
    let name = global.service.clone().unwrap_or_else(|| name_of(&stored.url));
    all.services.insert(name.clone(), stored);
    all.current = Some(name.clone());
    write(global, &all)?;
    Ok(name)
}

/// Makes another sign-in the current one.
///
/// # Errors
/// If there is none of that name.
pub(crate) fn switch(global: &Global, name: &str) -> Result<()> {
    let mut all = all(global)?;
    if !all.services.contains_key(name) {
        return Err(unknown(name, &all).into());
    }
    all.current = Some(name.to_owned());
    write(global, &all)
}

/// Forgets the sign-in that is meant.
pub(crate) fn forget(global: &Global) -> Result<()> {
    let mut all = all(global)?;
    if let Some(name) = all.meant(global) {
        all.services.remove(&name);
        all.current = all.current.filter(|current| *current != name);
    }
    write(global, &all)
}

#[cfg(test)]
mod tests {
    use clap::Parser as _;

    use super::*;
    use crate::commands::Cli;

    fn global(folder: &std::path::Path, service: Option<&str>) -> Global {
        let folder = folder.to_str().unwrap();
        let line = ["heron", "watch", "--config", folder].into_iter();
        Cli::parse_from(line.chain(service.into_iter().flat_map(|name| ["--service", name]))).global
    }

    #[test]
    fn several_services_are_kept_and_the_last_one_is_used() {
        let folder = std::env::temp_dir().join(format!("heron-sign-ins-{}", std::process::id()));
        let of = |service| global(&folder, service);
        let stored = |url: &str| Stored { url: url.into(), token: "t".into(), trust: None };
        assert!(load(&of(None)).unwrap().is_none());
        assert_eq!(keep(&of(None), stored("http://127.0.0.1:8680")).unwrap(), "127.0.0.1:8680");
        keep(&of(Some("harbour")), stored("https://harbour.example")).unwrap();
        let url = |service| load(&of(service)).unwrap().unwrap().url;
        assert_eq!(url(None), "https://harbour.example");
        assert_eq!(url(Some("127.0.0.1:8680")), "http://127.0.0.1:8680");
        let why = load(&of(Some("inland"))).err().unwrap().to_string();
        assert!(why.contains("harbour") && why.contains("inland"), "{why}");
        switch(&of(None), "127.0.0.1:8680").unwrap();
        assert!(switch(&of(None), "inland").is_err());
        forget(&of(None)).unwrap();
        assert!(load(&of(None)).unwrap().is_none(), "another service is not used in its place");
        assert_eq!(url(Some("harbour")), "https://harbour.example");
        std::fs::remove_dir_all(folder).unwrap();
    }
}

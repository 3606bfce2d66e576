//! Secrets on the command line: given, read from standard input, taken from the environment, or asked for.

use std::io::{BufRead as _, IsTerminal as _};

use anyhow::{Context as _, Result, bail};

/// A line of standard input, without its end.
pub(crate) fn line() -> Result<String> {
    let mut line = String::new();
    // Locked as long as one line: the next secret is the next line.
    std::io::stdin().lock().read_line(&mut line).context("reading standard input")?;
    Ok(line.trim_end_matches(['\r', '\n']).to_owned())
}

/// Where one secret may come from.
pub(crate) struct Secret<'a> {
    /// What it is called.
    pub name: &'a str,
    /// The option that gives it, without `-stdin`.
    pub option: &'a str,
    /// The environment variable that gives it.
    pub variable: &'a str,
}

/// AppKey.
pub(crate) const APP_KEY: Secret<'_> = Secret { name: "AppKey", option: "--app-key", variable: "HERON_APP_KEY" };
/// NwkKey.
pub(crate) const NWK_KEY: Secret<'_> = Secret { name: "NwkKey", option: "--nwk-key", variable: "HERON_NWK_KEY" };

impl Secret<'_> {
    /// The secret: as it was given, or a line of standard input if that was asked for, or that of the environment; else
    /// it is asked for, so that it stays out of the shell's history.
    pub(crate) fn read(&self, given: Option<String>, stdin: bool) -> Result<String> {
        if let Some(given) = given {
            return Ok(given);
        }
        if stdin {
            return line();
        }
        match std::env::var(self.variable) {
            Ok(value) if !value.is_empty() => return Ok(value),
            _ => {}
        }
        let Self { name, option, variable } = self;
        if !std::io::stdin().is_terminal() {
            bail!(
                "{name} is needed, and there is no terminal to ask for it: give it with {option}-stdin, {option} or {variable}"
            );
        }
        rpassword::prompt_password(format!("{name} (32 hex digits): ")).context(format!("reading the {name}"))
    }
}

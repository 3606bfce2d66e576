//! `heron manual` and `heron completions`: what is made from the command line's own description.

pub(crate) mod args;

use std::fs;
use std::io;

use anyhow::{Context as _, Result, bail};
use clap::ValueEnum as _;
use clap_complete::env::Shells;
use clap_mangen::Man;

use crate::commands::Shell;
use crate::commands::manual::args::ManualArgs;
use crate::examples;
use crate::show::Out;

/// The variable with which a shell asks for completions.
const ASKED: &str = "COMPLETE";

pub(crate) fn run(out: &Out, args: &ManualArgs) -> Result<()> {
    if args.examples {
        return match out.json {
            true => out.json(&examples::all().collect::<Vec<_>>()),
            false => examples::all().try_for_each(|line| out.line(line)),
        };
    }
    match &args.output {
        None => {
            let mut page = Vec::new();
            Man::new(examples::command()).render(&mut page)?;
            out.line(String::from_utf8_lossy(&page).trim_end())
        }
        Some(folder) => {
            let writing = || format!("writing to {}", folder.display());
            fs::create_dir_all(folder).with_context(writing)?;
            clap_mangen::generate_to(examples::command(), folder).with_context(writing)?;
            out.said(format!(
                "The manual pages were written to {}; `man heron` begins with the first.",
                folder.display()
            ))
        }
    }
}

pub(crate) fn completions(out: &Out, shell: Shell) -> Result<()> {
    let shells = Shells::builtins();
    let name = shell.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
    let Some(completer) = shells.completer(&name) else { bail!("there is no completion for {name}") };
    // Into memory first, so that a closed pipe ends quietly as everywhere.
    let mut script: Vec<u8> = Vec::new();
    let written: io::Result<()> = completer.write_registration(ASKED, "heron", "heron", "heron", &mut script);
    written?;
    out.line(String::from_utf8_lossy(&script).trim_end())
}

//! Options that several commands share.

pub(crate) mod moment;
pub(crate) mod radio;
pub(crate) mod secret;

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use crate::complete;

/// The heading under which help lists them, below a command's own options.
const HEADING: &str = "Options of all commands";

/// Options of all commands.
#[derive(Args, Clone)]
pub(crate) struct Global {
    /// Print JSON for programs instead of tables for people.
    #[arg(long, global = true, help_heading = HEADING)]
    pub json: bool,
    /// Show times in UTC instead of your own zone.
    #[arg(long, global = true, help_heading = HEADING)]
    pub utc: bool,
    /// Show all columns of a table, however wide the terminal is.
    #[arg(long, global = true, help_heading = HEADING)]
    pub wide: bool,
    /// Use colours: auto (on a terminal, unless NO_COLOR is set), always or never.
    #[arg(long, global = true, help_heading = HEADING, value_name = "WHEN", default_value = "auto", hide_possible_values = true)]
    pub color: Color,
    /// Do not page output that is longer than the terminal.
    #[arg(long, global = true, help_heading = HEADING)]
    pub no_pager: bool,
    /// Print results and errors only: no progress, no remarks.
    #[arg(long, short, global = true, help_heading = HEADING, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Print each request to the service, with its answer's status and duration, on standard error.
    #[arg(long, short, global = true, help_heading = HEADING)]
    pub verbose: bool,
    /// Do destructive steps without asking.
    #[arg(long, global = true, help_heading = HEADING)]
    pub yes: bool,
    /// A service by the name it was signed in to with; the one of the last `heron sign-in` or `heron service use` if not given.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_SERVICE", value_name = "NAME", add = complete::services())]
    pub service: Option<String>,
    /// The service's address, instead of that of the sign-in.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_URL", value_name = "URL")]
    pub url: Option<String>,
    /// A token to use instead of the sign-in.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_TOKEN", hide_env_values = true)]
    pub token: Option<String>,
    /// The estate; the only one if there is only one.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_ESTATE", add = complete::estates())]
    pub estate: Option<String>,
    /// A certificate to check the service's own one against, PEM; that of the sign-in if not given.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_TRUST", value_name = "FILE")]
    pub trust: Option<PathBuf>,
    /// Folder for sign-ins; `keen-heron` in the folder for settings if not given.
    #[arg(long, global = true, help_heading = HEADING, env = "HERON_CONFIG", value_name = "FOLDER")]
    pub config: Option<PathBuf>,
}

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

/// A value, or the word that takes it away.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct OrNone<T>(pub Option<T>);

/// A duration, or `none`.
pub(crate) fn seconds_or_none(text: &str) -> Result<OrNone<f64>, String> {
    if text.trim() == "none" { Ok(OrNone(None)) } else { seconds(text).map(|s| OrNone(Some(s))) }
}

/// A whole number, or `none`.
pub(crate) fn number_or_none(text: &str) -> Result<OrNone<u32>, String> {
    match text.trim() {
        "none" => Ok(OrNone(None)),
        number => number.parse().map(|n| OrNone(Some(n))).map_err(|_| "a whole number or none is wanted".into()),
    }
}

/// Days, or `forever`.
pub(crate) fn days_or_forever(text: &str) -> Result<OrNone<u32>, String> {
    match text.trim() {
        "forever" => Ok(OrNone(None)),
        days => days.parse().map(|n| OrNone(Some(n))).map_err(|_| "a number of days or forever is wanted".into()),
    }
}

/// A duration in seconds, or with a unit.
pub(crate) fn seconds(text: &str) -> Result<f64, String> {
    let units = [("ms", 0.001), ("min", 60.0), ("s", 1.0), ("h", 3600.0), ("d", 86_400.0)];
    let text = text.trim();
    let unit = units.iter().find_map(|(unit, s)| text.strip_suffix(unit).map(|number| (number, *s)));
    let (number, unit) = unit.unwrap_or((text, 1.0));
    match number.trim().parse::<f64>() {
        Ok(value) if value.is_finite() && value > 0.0 => Ok(value * unit),
        _ => Err("a time above 0 is needed: seconds, or with one of the units ms, s, min, h, d".into()),
    }
}

/// Which entries of a list, and in which order.
#[derive(Args)]
pub(crate) struct ListArgs {
    /// Only those with this in one of their texts: name, EUI, state, description.
    #[arg(long, value_name = "TEXT")]
    pub find: Option<String>,
    /// A field to sort by, as `--json` names it; with a dash in front the other way round.
    #[arg(long, value_name = "FIELD", allow_hyphen_values = true)]
    pub sort: Option<String>,
}

impl ListArgs {
    /// As the service wants it.
    pub(crate) fn query(self) -> Vec<(&'static str, String)> {
        let all = [("find", self.find), ("sort", self.sort)];
        all.into_iter().filter_map(|(name, value)| Some((name, value?))).collect()
    }
}

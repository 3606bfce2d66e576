//! Options that several commands share.

pub(crate) mod moment;
pub(crate) mod radio;
pub(crate) mod secret;

use std::path::PathBuf;

use clap::Args;

#[derive(Args, Clone)]
pub(crate) struct Global {
    /// Print JSON for programs instead of tables for people.
    #[arg(long, global = true)]
    pub json: bool,
    /// Show times in UTC instead of your own zone.
    #[arg(long, global = true)]
    pub utc: bool,
    /// Show all columns of a table, however wide the terminal is.
    #[arg(long, global = true)]
    pub wide: bool,
    /// Do destructive steps without asking.
    #[arg(long, global = true)]
    pub yes: bool,
    /// The service's address; that of the last sign-in if not given.
    #[arg(long, global = true, env = "HERON_URL", value_name = "URL")]
    pub url: Option<String>,
    /// A token to use instead of the last sign-in.
    #[arg(long, global = true, env = "HERON_TOKEN", hide_env_values = true)]
    pub token: Option<String>,
    /// The estate; the only one if there is only one.
    #[arg(long, global = true, env = "HERON_ESTATE")]
    pub estate: Option<String>,
    /// A certificate to check the service's own one against, PEM; that of the last sign-in if not given.
    #[arg(long, global = true, env = "HERON_TRUST", value_name = "FILE")]
    pub trust: Option<PathBuf>,
    /// Folder for the sign-in.
    #[arg(long, global = true, env = "HERON_CONFIG", value_name = "FOLDER")]
    pub config: Option<PathBuf>,
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

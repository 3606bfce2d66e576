//! Writing results: tables for people, JSON for programs.

use std::io::IsTerminal as _;
use std::sync::atomic::{AtomicBool, Ordering};

use anyhow::{Result, bail};
use api::BandUse;
use chrono::{DateTime, Local, Utc};
use serde::Serialize;

use crate::terminal;

/// A command did its work, and what it found needs attention: exit code 1, with nothing more to write.
#[derive(Debug, thiserror::Error)]
#[error("something needs attention")]
pub(crate) struct NeedsAttention;

/// How results are written.
pub(crate) struct Out {
    pub json: bool,
}

impl Out {
    /// A line. Unlike `println!` it can fail, as it does when the reader has left.
    pub(crate) fn line(&self, text: impl std::fmt::Display) -> Result<()> {
        Ok(terminal::print(text)?)
    }

    /// Ends what is printed for people: names the zone, if times were shown and it has not been named.
    pub(crate) fn name_zone(&self) -> Result<()> {
        match !self.json && TIMES_SHOWN.load(Ordering::Relaxed) && !ZONE_NAMED.load(Ordering::Relaxed) {
            true => self.line(format!("Times are {}.", zone())),
            false => Ok(()),
        }
    }

    /// What was done, in a sentence; for programs an object that has it.
    pub(crate) fn said(&self, text: impl std::fmt::Display) -> Result<()> {
        if self.json { self.json(&serde_json::json!({ "done": text.to_string() })) } else { self.line(text) }
    }

    pub(crate) fn json<T: Serialize + ?Sized>(&self, value: &T) -> Result<()> {
        self.line(serde_json::to_string_pretty(value)?)
    }

    /// One line of JSON, for streams.
    pub(crate) fn json_line(&self, value: &impl Serialize) -> Result<()> {
        self.line(serde_json::to_string(value)?)
    }

    /// A list: JSON array or table, or a hint where there is nothing.
    pub(crate) fn list<T: Serialize>(
        &self,
        items: &[T],
        empty: &str,
        head: &[&str],
        row: impl Fn(&T) -> Vec<String>,
    ) -> Result<()> {
        if self.json {
            return self.json(items);
        }
        if items.is_empty() {
            return self.line(empty);
        }
        self.line(table(head, items.iter().map(row)))
    }

    /// One thing: JSON object or lines of name and value.
    pub(crate) fn one<T: Serialize>(
        &self,
        item: &T,
        lines: impl FnOnce(&T) -> Vec<(&'static str, String)>,
    ) -> Result<()> {
        if self.json {
            return self.json(item);
        }
        for (name, value) in lines(item) {
            self.line(format!("{name:<16}{value}").trim_end())?;
        }
        Ok(())
    }
}

/// A table without frames, as wide as the terminal at most; piped, each row stays one whole line.
pub(crate) fn table(head: &[&str], rows: impl Iterator<Item = Vec<String>>) -> String {
    crate::table::table(head, &rows.collect::<Vec<_>>(), terminal::width())
}

/// Hex digits in pairs.
pub(crate) fn pairs(hex: &str) -> String {
    hex.as_bytes().chunks(2).map(String::from_utf8_lossy).collect::<Vec<_>>().join(" ")
}

/// How long ago, in the largest fitting unit.
pub(crate) fn ago(time: Option<DateTime<Utc>>) -> String {
    let Some(time) = time else { return "never".into() };
    format!("{} ago", api::elapsed((Utc::now() - time).num_seconds()))
}

/// Whether times are shown in UTC instead of the reader's own zone.
static IN_UTC: AtomicBool = AtomicBool::new(false);

/// Shows times in UTC from now on.
pub(crate) fn use_utc() {
    IN_UTC.store(true, Ordering::Relaxed);
}

/// Whether times are shown in UTC.
pub(crate) fn in_utc() -> bool {
    IN_UTC.load(Ordering::Relaxed)
}

/// Whether a time of the clock was shown, and whether its zone was named.
static TIMES_SHOWN: AtomicBool = AtomicBool::new(false);
static ZONE_NAMED: AtomicBool = AtomicBool::new(false);

fn formatted(time: DateTime<Utc>, format: &str) -> String {
    match IN_UTC.load(Ordering::Relaxed) {
        true => time.format(format).to_string(),
        false => time.with_timezone(&Local).format(format).to_string(),
    }
}

/// A date and time: 2026-05-04 09:12:33.
pub(crate) fn moment(time: DateTime<Utc>) -> String {
    TIMES_SHOWN.store(true, Ordering::Relaxed);
    formatted(time, "%Y-%m-%d %H:%M:%S")
}

/// A date: 2026-05-04.
pub(crate) fn day(time: DateTime<Utc>) -> String {
    formatted(time, "%Y-%m-%d")
}

/// A date and time with milliseconds, for frames that follow each other closely.
pub(crate) fn clock(time: DateTime<Utc>) -> String {
    TIMES_SHOWN.store(true, Ordering::Relaxed);
    formatted(time, "%Y-%m-%d %H:%M:%S%.3f")
}

/// The zone in which times are shown, to be named once: UTC, or the difference to it.
pub(crate) fn zone() -> String {
    ZONE_NAMED.store(true, Ordering::Relaxed);
    match IN_UTC.load(Ordering::Relaxed) {
        true => "UTC".into(),
        false => format!("UTC{}", Local::now().format("%:z")),
    }
}

/// An account of airtime on one line.
pub(crate) fn airtime(used: &[BandUse]) -> String {
    if used.is_empty() {
        return "none in the last hour".into();
    }
    let band = |b: &BandUse| {
        format!(
            "{} ({:.1}–{:.1} MHz): {:.1} of {:.0} s, {:.2} % of the hour's allowance",
            b.sub_band,
            b.from_mhz,
            b.to_mhz,
            b.airtime_ms / 1000.0,
            b.allowance_ms / 1000.0,
            b.used_percent
        )
    };
    used.iter().map(band).collect::<Vec<_>>().join("; ")
}

/// Asks before something is lost.
pub(crate) fn confirm(yes: bool, what: &str) -> Result<()> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() {
        bail!("{what} Say --yes to do it without being asked.");
    }
    terminal::release()?;
    eprint!("{what} Go on? [y/N] ");
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    if matches!(answer.trim(), "y" | "Y" | "yes") { Ok(()) } else { bail!("nothing was changed") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;

    #[test]
    fn ages_are_told_in_the_largest_fitting_unit() {
        let past = |s| ago(Some(Utc::now() - TimeDelta::seconds(s)));
        assert_eq!(ago(None), "never");
        assert_eq!(past(-5), "0 s ago", "clocks differ");
        assert_eq!((past(119).as_str(), past(120).as_str()), ("119 s ago", "2 min ago"));
        assert_eq!((past(7199).as_str(), past(7200).as_str()), ("119 min ago", "2 h ago"));
        assert_eq!(past(200_000), "2 days ago");
    }

    #[test]
    fn a_table_has_neither_frames_nor_trailing_blanks() {
        let rows = [["chapel-rise", "listening"], ["x", ""]].map(|row| row.map(str::to_owned).to_vec());
        let text = table(&["NAME", "STATE"], rows.into_iter());
        assert_eq!(text, "NAME         STATE\nchapel-rise  listening\nx");
    }

    #[test]
    fn destructive_steps_want_a_yes() {
        assert!(confirm(true, "It will be gone.").is_ok());
    }
}

//! The terminal: its width and colours, and a pager for output that is longer than it.

use std::io::{IsTerminal as _, Write as _};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use console::{Style, Term};
use tokio::signal::unix::{SignalKind, signal};

use crate::args::{Color, Global};

/// Output that is held back at most; with more, all of it is printed as it comes.
const MOST_HELD: usize = 4 << 20;
/// The pager where none is named: it ends at once if one screen is enough, keeps colours, and leaves the text on screen.
const PAGER: &str = "less -FRX";

static WIDE: AtomicBool = AtomicBool::new(false);
static QUIET: AtomicBool = AtomicBool::new(false);
static VERBOSE: AtomicBool = AtomicBool::new(false);
/// Output that is collected, and shown at the end, by a pager if it is long. None while output is printed as it comes.
static HELD: Mutex<Option<String>> = Mutex::new(None);

/// Sets the terminal up as the options say.
pub(crate) fn set_up(global: &Global) {
    WIDE.store(global.wide, Ordering::Relaxed);
    QUIET.store(global.quiet, Ordering::Relaxed);
    VERBOSE.store(global.verbose, Ordering::Relaxed);
    let set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
    console::set_colors_enabled(match global.color {
        Color::Always => true,
        Color::Never => false,
        Color::Auto => std::io::stdout().is_terminal() && !set("NO_COLOR") && !dumb,
    });
}

/// How wide a table may be; without a limit if the terminal tells no width.
pub(crate) fn width() -> Option<usize> {
    let (_, columns) = Term::stdout().size_checked()?;
    Some(usize::from(columns)).filter(|columns| *columns > 0 && !WIDE.load(Ordering::Relaxed))
}

/// Whether progress is shown: there is somebody who sees it, and who wants it.
pub(crate) fn shows_progress() -> bool {
    !QUIET.load(Ordering::Relaxed) && std::io::stderr().is_terminal()
}

/// A remark beside the results, on standard error; none with `--quiet`.
pub(crate) fn remark(text: impl std::fmt::Display) {
    if !QUIET.load(Ordering::Relaxed) {
        eprintln!("{text}");
    }
}

/// Whether requests are told.
pub(crate) fn is_verbose() -> bool {
    VERBOSE.load(Ordering::Relaxed)
}

/// Holds output back for a pager from now on, if there is a terminal and the pager is wanted.
pub(crate) fn hold(global: &Global) {
    if std::io::stdout().is_terminal() && !global.no_pager {
        *HELD.lock().unwrap_or_else(PoisonError::into_inner) = Some(String::new());
    }
}

/// Prints a line, or holds it back.
///
/// # Errors
/// If standard output cannot be written, as when its reader has left.
pub(crate) fn print(text: impl std::fmt::Display) -> std::io::Result<()> {
    let mut held = HELD.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(buffer) = held.as_mut().filter(|buffer| buffer.len() < MOST_HELD) {
        buffer.push_str(&format!("{text}\n"));
        return Ok(());
    }
    let before = held.take().unwrap_or_default();
    writeln!(std::io::stdout(), "{before}{text}")
}

/// Prints what is held back, and holds nothing any more: a question follows, or all that comes.
///
/// # Errors
/// If standard output cannot be written.
pub(crate) fn release() -> std::io::Result<()> {
    let before = HELD.lock().unwrap_or_else(PoisonError::into_inner).take().unwrap_or_default();
    write!(std::io::stdout(), "{before}")?;
    std::io::stdout().flush()
}

/// Prints what is held back, by a pager if it is longer than the terminal.
///
/// # Errors
/// If standard output cannot be written.
pub(crate) fn end() -> std::io::Result<()> {
    let held = HELD.lock().unwrap_or_else(PoisonError::into_inner).take().unwrap_or_default();
    let (rows, _) = Term::stdout().size();
    if held.lines().count() < usize::from(rows) || !page(&held) {
        write!(std::io::stdout(), "{held}")?;
    }
    std::io::stdout().flush()
}

/// Shows text with the pager; false if there is no pager.
fn page(text: &str) -> bool {
    let pager = ["HERON_PAGER", "PAGER"].into_iter().find_map(|name| std::env::var(name).ok());
    let pager = pager.unwrap_or_else(|| PAGER.to_owned());
    let program = pager.split_whitespace().next().unwrap_or_default();
    if program.is_empty() || program == "cat" || !is_installed(program) {
        return false;
    }
    let started = Command::new("sh").arg("-c").arg(&pager).stdin(Stdio::piped()).spawn();
    let Ok(mut child) = started else { return false };
    if let Some(mut into) = child.stdin.take() {
        // Whoever leaves the pager early has seen enough.
        let _ = into.write_all(text.as_bytes());
    }
    let _ = child.wait();
    true
}

fn is_installed(program: &str) -> bool {
    if program.contains('/') {
        return std::path::Path::new(program).exists();
    }
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| folder.join(program).exists())
}

/// The colour of a state's word. Words say the same: colour only helps to find them.
pub(crate) fn of_state(word: &str) -> Style {
    match word {
        "listening" | "active" | "running" => Style::new().green(),
        "lost" | "refused" | "failed" | "disabled" | "expired" | "revoked" => Style::new().red(),
        "quiet" | "silent" | "never heard" | "never joined" | "cancelled" => Style::new().yellow(),
        _ => Style::new(),
    }
}

/// How the head of a table looks.
pub(crate) fn head() -> Style {
    Style::new().bold()
}

/// A sign for something that needs attention.
pub(crate) fn sign(sign: &str) -> String {
    let style = match sign.trim() {
        "!!" | "x" => Style::new().red().bold(),
        "!" => Style::new().yellow().bold(),
        _ => Style::new(),
    };
    style.apply_to(sign).to_string()
}

/// Waits until the program is to end: by Ctrl-C or SIGTERM.
///
/// # Errors
/// The signal cannot be watched for.
pub(crate) fn until_the_end() -> anyhow::Result<impl Future<Output = ()>> {
    let mut terminate = signal(SignalKind::terminate())?;
    Ok(async move {
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        }
    })
}

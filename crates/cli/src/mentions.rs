//! A test: wherever a text of ours says what to type, there is such a command, with such options.

use std::fs;
use std::path::{Path, PathBuf};

use clap::Command;

use crate::examples;

/// The folders with texts: documents, code with messages, the console.
const WHERE: [&str; 4] = ["docs", "crates", "console/src", "scripts"];
/// Documents beside them. The changelog tells what was, and is none.
const ALSO: [&str; 3] = ["README.md", "ARCHITECTURE.md", "CONTRIBUTING.md"];

fn top() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Every file with text below a folder.
fn files(folder: &Path, into: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if path.is_dir() {
            if name != "generated" && name != "target" {
                files(&path, into);
            }
        } else if ["md", "rs", "svelte", "ts"].iter().any(|ending| name.ends_with(&format!(".{ending}"))) {
            into.push(path);
        }
    }
}

/// What stands between backticks and begins with `heron`.
fn mentions(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for (at, _) in text.match_indices("`heron ") {
        let inside = &text[at + 1..];
        if let Some(end) = inside.find('`').filter(|end| *end < 300) {
            // A text of a program goes on in its next line after a backslash.
            found.push(inside[..end].replace('\\', " ").split_whitespace().collect::<Vec<_>>().join(" "));
        }
    }
    found
}

/// What is wrong with a command as it is written somewhere.
fn wrong(command: &Command, line: &str) -> Option<String> {
    let mut at = command;
    let mut words = line.split_whitespace().skip(1).peekable();
    while let Some(next) = words.peek().and_then(|word| at.find_subcommand(word)) {
        at = next;
        words.next();
    }
    let is_word = |word: &str| word.chars().all(|c| c.is_ascii_lowercase() || c == '-') && !word.starts_with('-');
    if let Some(word) = words.peek().filter(|word| at.has_subcommands() && is_word(word)) {
        return Some(format!("{} has no {word}", at.get_name()));
    }
    let options = words.filter_map(|word| word.strip_prefix("--")).map(|option| option.split('=').next().unwrap());
    let known = |option: &str| {
        let all = at.get_arguments().chain(command.get_arguments());
        option == "help" || option.is_empty() || all.into_iter().any(|arg| arg.get_long() == Some(option))
    };
    let options = options.map(|option| option.trim_matches(|c: char| !c.is_alphanumeric()));
    options.filter(|option| !known(option)).map(|option| format!("{} has no --{option}", at.get_name())).next()
}

#[test]
fn every_command_that_a_text_mentions_is_there() {
    let command = examples::command();
    let mut all = Vec::new();
    WHERE.iter().for_each(|folder| files(&top().join(folder), &mut all));
    all.extend(ALSO.map(|file| top().join(file)));
    let mut count = 0;
    let mut bad = Vec::new();
    for file in all {
        for line in mentions(&fs::read_to_string(&file).unwrap()) {
            count += 1;
            bad.extend(wrong(&command, &line).map(|why| format!("{}: `{line}`: {why}", file.display())));
        }
    }
    assert!(count > 150, "{count} were found");
    assert!(bad.is_empty(), "{}", bad.join("\n"));
}

#[test]
fn a_command_that_is_not_there_is_found() {
    let command = examples::command();
    for (line, why) in [
        ("heron gateway melt X", "gateway has no melt"),
        ("heron device show X --fast", "show has no --fast"),
        ("heron sing", "heron has no sing"),
    ] {
        assert_eq!(wrong(&command, line).as_deref(), Some(why));
    }
    for fine in
        ["heron device", "heron device show tide-01 --json", "heron NOUN VERB", "heron gateway set EUI --name=x"]
    {
        assert_eq!(wrong(&command, fine), None, "{fine}");
    }
    let text = "see 'heron device \\\n   list', or 'x'".replace('\'', "`");
    assert_eq!(mentions(&text), ["heron device list"]);
}

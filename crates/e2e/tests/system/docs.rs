//! The README and the pages in docs/: each command in them is run on the demo, in order, and what they show it print is
//! what it prints.

use std::fs;
use std::path::Path;

use crate::demo::Demo;

/// The pages, in the order in which they can be followed: the guide begins before anything is registered.
const PAGES: [&str; 10] = [
    "docs/guide.md",
    "docs/devices.md",
    "docs/catalogue.md",
    "docs/decoders.md",
    "docs/gateways.md",
    "docs/readings.md",
    "docs/coverage.md",
    "docs/client.md",
    "README.md",
    "docs/people.md",
];
/// Lines that a test of their own stands for: they begin what does not end, or need what only a whole machine has.
const NOT_RUN: [&str; 7] = [
    "scripts/",
    "herond serve",
    "herond broker-files",
    "mosquitto ",
    "heron agent",
    "cargo ",
    "heron account password",
];

/// A command of a page.
#[derive(Debug)]
struct Step {
    /// The page and the line of it.
    place: String,
    command: String,
    /// What it is shown to print; nothing if it is not shown.
    shows: Vec<String>,
}

/// The commands of a page: lines of its `sh` blocks, and lines with `$` in front, with what stands below.
fn steps(page: &str, text: &str) -> Vec<Step> {
    let mut steps: Vec<Step> = Vec::new();
    let mut block = None;
    let mut begun: Option<String> = None;
    for (n, line) in text.lines().enumerate() {
        let place = format!("{page}:{}", n + 1);
        if let Some(kind) = line.strip_prefix("```") {
            block = if block.is_some() { None } else { Some(kind.to_owned()) };
            continue;
        }
        let Some(kind) = block.as_deref() else { continue };
        let whole = match begun.take() {
            Some(before) => format!("{before} {}", line.trim()),
            None if kind == "sh" => line.to_owned(),
            None if kind.is_empty() && line.starts_with("$ ") => line[2..].to_owned(),
            None => {
                // Below a command stands what it prints.
                if let Some(step) = steps.last_mut().filter(|_| kind.is_empty()) {
                    step.shows.push(line.to_owned());
                }
                continue;
            }
        };
        match whole.strip_suffix('\\') {
            Some(part) => begun = Some(part.trim_end().to_owned()),
            None => steps.push(Step { place, command: whole, shows: Vec::new() }),
        }
    }
    steps.retain(|step| !step.command.trim().is_empty());
    steps
}

/// Whether a line is as it is shown; `…` stands for anything.
fn is_like(shown: &str, line: &str) -> bool {
    let parts: Vec<&str> = shown.split('…').map(str::trim_end).collect();
    match parts.as_slice() {
        [all] => *all == line.trim_end(),
        [first, middle @ .., last] => {
            let mut rest = line.strip_prefix(first);
            for part in middle {
                rest = rest.and_then(|rest| rest.split_once(part)).map(|(_, behind)| behind);
            }
            rest.is_some_and(|rest| rest.trim_end().ends_with(last))
        }
        [] => true,
    }
}

/// Compares what is shown with what is printed: a line that is only `…` stands for any lines.
fn differs(shows: &[String], printed: &str) -> Option<String> {
    let mut lines = printed.lines();
    let mut skips = false;
    for shown in shows {
        if shown.trim() == "…" {
            skips = true;
            continue;
        }
        let found = if skips {
            lines.any(|line| is_like(shown, line))
        } else {
            lines.next().is_some_and(|line| is_like(shown, line))
        };
        if !found {
            return Some(format!("{shown:?} is shown, and this is printed:\n{printed}"));
        }
        skips = false;
    }
    None
}

/// Runs a step; what is wrong with it.
async fn run(demo: &Demo, step: &Step) -> Option<String> {
    let Step { place, command, shows } = step;
    let mut line = demo.made_real(command).await;
    let mut input = String::new();
    if line.starts_with("heron sign-in") {
        line = line.replacen("sign-in", "sign-in --password-stdin", 1);
        input = format!("{}\n", demo.service.password);
    } else if let Some(rest) = line.strip_prefix("heron ") {
        line = format!("heron --yes {rest}");
    }
    let out = demo.shell(&line, &input);
    if command.starts_with("heron device add") && command.contains("--name tide-01 --fleet") {
        demo.until_readings_come().await;
    }
    match out.status.success() {
        true => differs(shows, &String::from_utf8_lossy(&out.stdout)).map(|why| format!("{place}: {command}: {why}")),
        false => Some(format!("{place}: {command}: {}", String::from_utf8_lossy(&out.stderr))),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_in_the_documents_works() {
    let top = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    let mut demo = Demo::unregistered().await;
    let mut wrong = Vec::new();
    let mut count = 0;
    for page in PAGES {
        for step in steps(page, &fs::read_to_string(top.join(page)).unwrap()) {
            if NOT_RUN.iter().any(|left_out| step.command.starts_with(left_out)) {
                continue;
            }
            if step.command.starts_with("herond rotate-master-key") {
                assert!(demo.service.stop());
            }
            count += 1;
            let found = run(&demo, &step).await;
            // Told at once: what comes later may not get as far because of it.
            found.iter().for_each(|what| eprintln!("{what}"));
            wrong.extend(found);
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(count > 60, "{count} commands were found");
}

#[test]
fn no_page_with_commands_is_left_out() {
    let top = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
    for entry in fs::read_dir(top.join("docs")).unwrap() {
        let path = entry.unwrap().path();
        let name = format!("docs/{}", path.file_name().unwrap().to_string_lossy());
        if !name.ends_with(".md") || PAGES.contains(&name.as_str()) {
            continue;
        }
        let text = fs::read_to_string(&path).unwrap();
        let run = steps(&name, &text).into_iter().find(|s| !NOT_RUN.iter().any(|left| s.command.starts_with(left)));
        let run = run.filter(|step| !step.command.starts_with("herond restored"));
        assert!(run.is_none(), "{run:?} is run by no test");
    }
}

#[test]
fn what_is_shown_is_compared() {
    let shows = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
    assert_eq!(differs(&shows(&["A  B", "…", "x … z"]), "A  B\n1\n2\nx y z\n"), None);
    assert!(differs(&shows(&["A  B", "x"]), "A  B\n1\nx\n").is_some());
    assert!(differs(&shows(&["x … z"]), "x y\n").is_some());
    let text = "```sh\nheron a \\\n   b    # why\n```\ntext\n```\n$ heron c\nout\n…\n```\n```json\n{}\n```\n";
    let steps = steps("page", text);
    let told: Vec<_> = steps.iter().map(|step| (step.command.as_str(), step.shows.len())).collect();
    assert_eq!(told, [("heron a b    # why", 0), ("heron c", 2)]);
}

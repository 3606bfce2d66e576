//! The programs in the documents that check signatures.

use std::io::Write as _;
use std::process::{Command, Stdio};

use chrono::Utc;
use domain::outlet::signature::signature;

const SECRET: &str = "a secret of the harbour";

/// The example in a language.
fn example(language: &str) -> String {
    let page = include_str!("../../../../../docs/outlets.md");
    let (_, page) = page.split_once("## Checking the signature").expect("the part about signatures");
    let begin = format!("```{language}\n");
    let (_, rest) = page.split_once(&begin).expect("an example");
    rest.split_once("```").expect("its end").0.to_owned()
}

/// Runs a program, which says `True` or `true` if it believes the signature.
fn believes(program: &[&str], text: &str, (time, signature, body): (&str, &str, &str)) -> bool {
    let file = tempfile::NamedTempFile::new().unwrap();
    file.as_file().write_all(body.as_bytes()).unwrap();
    let mut run = Command::new(program[0]);
    run.args(&program[1..])
        .env("SECRET", SECRET)
        .env("TIME", time)
        .env("SIGNATURE", signature)
        .env("FILE", file.path());
    let mut run = run.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    run.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let out = run.wait_with_output().unwrap();
    assert!(out.status.success(), "{program:?}");
    match String::from_utf8(out.stdout).unwrap().trim() {
        "True" | "true" => true,
        "False" | "false" => false,
        other => panic!("{program:?} says {other:?}"),
    }
}

fn check(program: &[&str], text: &str, ages: bool) {
    let body = "{\"id\":\"01K\",\"name\":\"Ærø\"}";
    let now = Utc::now().timestamp();
    let sign = |time: i64| (time.to_string(), signature(SECRET, time, body.as_bytes()));
    let (time, good) = sign(now);
    assert!(believes(program, text, (&time, &good, body)));
    assert!(!believes(program, text, (&time, &good, "{\"id\":\"01L\"}")), "another body");
    assert!(!believes(program, text, (&(now - 1).to_string(), &good, body)), "another time");
    assert!(!believes(program, text, (&time, &"0".repeat(64), body)), "another signature");
    if ages {
        let (time, old) = sign(now - 3_600);
        assert!(!believes(program, text, (&time, &old, body)), "an old request");
    }
}

#[test]
fn the_python_in_the_documents_checks_signatures() {
    let call = "import os\nheaders = {'Keen-Heron-Time': os.environ['TIME'], 'Keen-Heron-Signature': os.environ['SIGNATURE']}\n\
                print(is_ours(os.environ['SECRET'], headers, open(os.environ['FILE'], 'rb').read()))\n";
    check(&["python3", "-"], &format!("{}\n{call}", example("python")), true);
}

#[test]
fn the_javascript_in_the_documents_checks_signatures() {
    let call = "const { SECRET, TIME, SIGNATURE, FILE } = process.env;\n\
                const headers = { 'keen-heron-time': TIME, 'keen-heron-signature': SIGNATURE };\n\
                console.log(isOurs(SECRET, headers, require('node:fs').readFileSync(FILE)));\n";
    check(&["node", "--input-type=commonjs", "-"], &format!("{}\n{call}", example("javascript")), true);
}

#[test]
fn the_shell_in_the_documents_checks_signatures() {
    let call = "if is_ours \"$SECRET\" \"$TIME\" \"$SIGNATURE\" \"$FILE\"; then echo true; else echo false; fi\n";
    check(&["sh", "-s"], &format!("{}\n{call}", example("shell")), false);
}

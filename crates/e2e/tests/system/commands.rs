//! Every command of the client, run as its help shows it, in a shell, on the demo.

use api::model::edition::Edition;
use serde_json::{Value, json};

use crate::demo::Demo;

/// Those that are not run, as they have no end, want a second service, an app for codes or an hour of their own.
const NOT_RUN: [&str; 13] = [
    "heron device move",
    "heron account remove",
    "heron estate remove",
    "heron sign-in https://harbour.example",
    "heron account two-step",
    "heron invitation take http://127.0.0.1:8680/invitation#CODE --new",
    "heron people leave",
    "heron traffic follow",
    "heron bench",
    "heron agent",
    "heron scenario run",
    "heron catalogue import catalogue",
    "heron gateway credential replace",
];
/// Those that may end with 1 because of what they find.
const MAY_REFUSE: [(&str, &str); 6] = [
    ("heron outlet test", ""),
    ("heron watch", ""),
    ("heron decoder job remove", "ended"),
    ("heron scenario import", "no broker"),
    ("heron link check", "weaker than the forecast"),
    ("heron survey changes", "for the worse"),
];

impl Demo {
    /// The link of an invitation, made for somebody who takes it.
    async fn link(&self, offer: Value) -> String {
        let new = json!({ "for_whom": "somebody", "offer": offer });
        let written: Value = self.service.post("invitations", new).await;
        format!("{}{}", self.service.http, written["path"].as_str().unwrap())
    }

    /// Runs an example, with `also` at its end; what it printed.
    ///
    /// # Errors
    /// If it ends as it should not: what was said.
    async fn run(&self, example: &str, also: &str) -> Result<String, String> {
        let mut line = self.made_real(example).await;
        let mut options = format!("{also} --yes");
        let mut input = String::new();
        let password = &self.service.password;
        match () {
            () if line.starts_with("heron sign-in") => {
                options.push_str(" --password-stdin");
                input = format!("{password}\n");
            }
            // It is somebody else's account: these end the sign-ins of the one who tests.
            () if line.starts_with("heron account sign-in remove") => options.push_str(" --config elsewhere"),
            () if line.starts_with("heron account password") => {
                options.push_str(" --stdin --config elsewhere");
                input = "a long password of marit\nanother long password of marit\n".into();
            }
            () if line.starts_with("heron outlet add") && line.contains("--password-stdin") => {
                input = "quay and tide\n".into();
            }
            () if line.starts_with("heron invitation take") => {
                let link = self.link(json!({ "role": "viewer" })).await;
                line = format!("heron invitation take '{link}' --new-account marit");
                options.push_str(" --password-stdin --config elsewhere");
                input = "a long password of marit\n".into();
            }
            () => {}
        }
        line = match line.split_once(" > ") {
            Some((command, file)) => format!("{command} {options} > {file}"),
            None => format!("{line} {options}"),
        };
        let out = self.shell(&line, &input);
        let (said, complained) = (String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
        let refusal = MAY_REFUSE.iter().find(|(start, _)| line.starts_with(start));
        let expected = out.status.success()
            || refusal.is_some_and(|(_, why)| out.status.code() == Some(1) && complained.contains(why));
        if !expected {
            return Err(format!("{line}\n{said}{complained}"));
        }
        self.after(example).await;
        Ok(said.into_owned())
    }

    /// What somebody else does after a command, so that those that follow find something.
    async fn after(&self, example: &str) {
        if example.starts_with("heron share add") {
            let link =
                self.link(json!({ "share": { "scope": { "fleet": "grazing" }, "may": "read", "until": null } })).await;
            let take = format!("heron invitation take '{link}' --new-account ylva --password-stdin --config at-ylvas");
            let out = self.shell(&take, "a long password of ylva\n");
            assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        }
        if example.starts_with("heron model set") {
            let all: Vec<Edition> = self.service.list("models/tide-board/editions").await;
            assert_eq!(all.len(), 2, "each change is an edition");
        }
    }

    /// The examples that are run.
    fn examples(&self) -> Vec<String> {
        let all: Vec<String> = self.service.heron_json(&["manual", "--examples"]);
        assert!(all.len() > 150);
        for left_out in NOT_RUN {
            assert!(all.iter().any(|line| line.starts_with(left_out)), "{left_out} is no example any more");
        }
        let is_run = |line: &String| !NOT_RUN.iter().any(|left_out| line.starts_with(left_out));
        all.into_iter().filter(is_run).collect()
    }
}

/// Runs all examples, and has what each printed looked at; all that is wrong.
async fn all(also: &str, look: impl Fn(&str, &str) -> Result<(), String>) -> Vec<String> {
    let demo = Demo::set_up().await;
    let mut wrong = Vec::new();
    for example in demo.examples() {
        let done = demo.run(&example, also).await;
        wrong.extend(done.and_then(|said| look(&example, &said)).err());
    }
    wrong
}

#[tokio::test(flavor = "multi_thread")]
async fn every_example_in_the_help_works() {
    let wrong = all("", |example, said| {
        let is_silent = [" > ", "--output", " -o ", "job remove"].iter().any(|part| example.contains(part));
        if is_silent || !said.trim().is_empty() { Ok(()) } else { Err(format!("{example} says nothing")) }
    });
    let wrong = wrong.await;
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_command_that_prints_has_json() {
    let wrong = all("--json", |example, said| {
        // A stream is a value a line; what goes to a file prints nothing.
        let values: Result<Vec<Value>, _> = serde_json::Deserializer::from_str(said).into_iter().collect();
        values.map(drop).map_err(|why| format!("{example} --json: {why}: {said}"))
    });
    let wrong = wrong.await;
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

//! What is shown to those who connect another system works as it is.

use std::process::{Child, Command, Stdio};

use api::outlet::{Connecting, Outlet, SnippetLanguage};
use e2e::mariadb::free_port;
use e2e::mosquitto::Mosquitto;
use e2e::service::Service;
use serde_json::{Value, json};

use super::bench;

/// A program that runs until it is dropped, and what it has printed.
struct Running {
    process: Child,
    said: tempfile::NamedTempFile,
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg("--").arg(format!("-{}", self.process.id())).status();
        let _ = self.process.wait();
    }
}

impl Running {
    fn begin(snippet: &api::outlet::Snippet, environment: &[(&str, &str)]) -> Self {
        let said = tempfile::NamedTempFile::new().unwrap();
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "KILL", "setsid"]);
        match snippet.language {
            SnippetLanguage::Shell => command.args(["sh", "-c", &snippet.text]),
            SnippetLanguage::Python => command.args(["python3", "-c", &snippet.text]),
            SnippetLanguage::Javascript => command.args(["node", "--input-type=module", "-e", &snippet.text]),
        };
        command.envs(environment.iter().copied()).stdin(Stdio::null());
        let output = said.reopen().unwrap();
        let process = command.stdout(output.try_clone().unwrap()).stderr(output).spawn().unwrap();
        Self { process, said }
    }

    fn said(&self) -> String {
        std::fs::read_to_string(self.said.path()).unwrap()
    }

    async fn says(&self, what: &str) {
        e2e::wait::until_or_tell(
            || format!("{what}: {}", self.said()),
            async || self.said().contains(what).then_some(()),
        )
        .await;
    }
}

fn named<'a>(connecting: &'a Connecting, title: &str) -> &'a api::outlet::Snippet {
    connecting
        .snippets
        .iter()
        .find(|snippet| snippet.title == title)
        .unwrap_or_else(|| panic!("{title}: {connecting:?}"))
}

async fn to_messages(service: &Service, more: &str) -> Connecting {
    service.get(&format!("messages/connect?address={}{more}", service.http)).await
}

#[tokio::test]
async fn programs_that_fetch_messages_work_with_the_narrowest_token() {
    let mut bench = bench().await;
    let scope = json!({ "fleet": "bench" });
    let (token, _) = bench
        .service
        .token_of(bench.service.token(), json!({ "name": "panel", "rights": ["view"], "scope": scope }))
        .await;
    let connecting = to_messages(&bench.service, "&fleet=bench&type=uplink").await;
    assert!(connecting.needs_token && connecting.sample.is_none());
    let environment = [("HERON_TOKEN", token.as_str())];
    let running: Vec<Running> =
        connecting.snippets.iter().map(|snippet| Running::begin(snippet, &environment)).collect();
    assert_eq!(running.len(), 4);
    // Until all of them listen, each uplink may be missed by one.
    for level in 1..=200u8 {
        bench.uplink(&[level], false).await;
        if running.iter().all(|one| one.said().contains("probe-1") && one.said().contains("level")) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    for one in &running {
        one.says("probe-1").await;
    }
    let sample = to_messages(&bench.service, "&fleet=bench").await.sample.unwrap();
    assert!(serde_json::from_str::<Value>(&sample).unwrap()["device"]["name"] == "probe-1");
    let (status, problem) =
        bench.service.call(reqwest::Method::GET, "/estates/tarnsey/messages/connect?address=http://x'$(y)", None).await;
    assert!(status == 422 && problem.to_string().contains("address"), "{problem}");
}

#[tokio::test]
async fn the_other_side_of_a_webhook_takes_what_is_signed_and_nothing_else() {
    let mut bench = bench().await;
    let secret = "a secret of the harbour";
    for (title, slug) in [("Take messages in Python", "python"), ("Take messages in JavaScript", "javascript")] {
        let port = free_port();
        let to = json!({ "webhook": { "url": format!("http://127.0.0.1:{port}/in") } });
        let new = json!({ "slug": slug, "types": ["uplink"], "to": to, "secrets": { "signing": secret } });
        let _: Outlet = bench.service.post("outlets", new).await;
        let connecting: Connecting = bench.service.get(&format!("outlets/{slug}/connect")).await;
        assert!(connecting.settings.iter().any(|one| one.name == "signature"), "{connecting:?}");
        let port_text = port.to_string();
        let running = Running::begin(named(&connecting, title), &[("PORT", &port_text), ("SIGNING_SECRET", secret)]);
        e2e::wait::until("the program", async || tokio::net::TcpStream::connect(("127.0.0.1", port)).await.ok()).await;
        let forged = reqwest::Client::new()
            .post(format!("http://127.0.0.1:{port}/in"))
            .header("Keen-Heron-Time", chrono::Utc::now().timestamp().to_string())
            .header("Keen-Heron-Signature", "00")
            .body("{}");
        assert_eq!(forged.send().await.unwrap().status(), 401);
        bench.uplink(&[24], false).await;
        let _: Outlet = bench.service.post(&format!("outlets/{slug}/resume"), json!({})).await;
        running.says("\"name\":").await;
    }
}

#[tokio::test]
async fn lines_for_a_broker_hear_messages_and_send_commands() {
    let (mut bench, broker) = (bench().await, Mosquitto::open().await);
    let commands = json!({ "topic": "in/{device}/command", "answers": "out/{device}/answer" });
    let mqtt = json!({ "url": broker.url(), "topic": "quay/{fleet}/{device}", "commands": commands });
    let _: Outlet =
        bench.service.post("outlets", json!({ "slug": "panel", "types": ["uplink"], "to": { "mqtt": mqtt } })).await;
    let connecting: Connecting = bench.service.get("outlets/panel/connect").await;
    let listening = Running::begin(named(&connecting, "Listen"), &[]);
    let answers = Running::begin(named(&connecting, "Hear the answers"), &[]);
    let mut send = named(&connecting, "Send a command").clone();
    assert!(send.text.contains("in/DEVICE/command"), "{}", send.text);
    send.text = send.text.replace("DEVICE", "probe-1");
    e2e::wait::until_or_tell(
        || format!("an answer: {}", answers.said()),
        async || {
            assert!(Command::new("sh").args(["-c", &send.text]).status().unwrap().success());
            tokio::time::sleep(std::time::Duration::from_millis(200)).await;
            answers.said().contains("\"taken\":true").then_some(())
        },
    )
    .await;
    for level in 1..=50 {
        bench.uplink(&[level], false).await;
        if listening.said().contains("quay/bench/probe-1") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    listening.says("quay/bench/probe-1").await;
    // What needs packages of their own is at least read by their languages.
    for snippet in &connecting.snippets {
        let mut check = match snippet.language {
            SnippetLanguage::Python => Command::new("python3"),
            SnippetLanguage::Javascript => Command::new("node"),
            SnippetLanguage::Shell => continue,
        };
        let ending = if snippet.language == SnippetLanguage::Python { ".py" } else { ".mjs" };
        let file = tempfile::Builder::new().suffix(ending).tempfile().unwrap();
        std::fs::write(file.path(), &snippet.text).unwrap();
        let options: &[&str] = if ending == ".py" { &["-m", "py_compile"] } else { &["--check"] };
        assert!(check.args(options).arg(file.path()).status().unwrap().success(), "{}", snippet.text);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_prints_the_same() {
    let bench = bench().await;
    bench.service.sign_heron_in();
    let said = bench.service.heron_says(&["connect", "--fleet", "bench"]);
    assert!(said.contains(&bench.service.http) && said.contains("heron token add") && said.contains("curl"), "{said}");
    let program = bench.service.heron_says(&["connect", "--only", "python"]);
    assert!(program.starts_with("import json"), "{program}");
}

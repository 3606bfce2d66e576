//! Every command of the client, run as its help shows it, in a shell, on the demo.

use std::fs;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use api::gateway::Protocol;
use api::message::Message;
use api::model::edition::Edition;
use api::reading::chart::DeviceReading;
use p256::ecdsa::signature::hazmat::PrehashSigner as _;
use p256::pkcs8::EncodePublicKey as _;
use serde_json::{Value, json};
use sha2::Digest as _;
use simulator::scenario::Scenario;
use simulator::world::World;
use tempfile::TempDir;

use e2e::programs::program;
use e2e::service::Service;
use e2e::wait::until;

/// What an example shows in place of an id that only a list can tell.
const ID: &str = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C";
/// What examples call the service's address.
const ADDRESS: &str = "127.0.0.1:8680";
/// Those that are not run, as they have no end, want a second service, an app for codes or an hour of their own.
const NOT_RUN: [&str; 10] = [
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
const MAY_REFUSE: [(&str, &str); 2] = [("heron watch", ""), ("heron decoder job remove", "ended")];

const DECODER: &str = "\
function decodeUplink(input) { return { data: { level: input.bytes[0] } }; }
function encodeDownlink(input) { return { fPort: 10, bytes: [input.data.gate.opening] }; }";

/// The demo, with files of a person who works with it.
struct Demo {
    service: Service,
    desk: TempDir,
    _world: World,
}

impl Demo {
    async fn set_up() -> Self {
        let service = Service::first_start().await;
        service.sign_heron_in();
        let top = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
        let desk = TempDir::new().unwrap();
        let write = |name: &str, bytes: &[u8]| fs::write(desk.path().join(name), bytes).unwrap();
        for folder in ["demo", "catalogue"] {
            std::os::unix::fs::symlink(top.join(folder), desk.path().join(folder)).unwrap();
        }
        fs::create_dir_all(desk.path().join(".local/share/bash-completion/completions")).unwrap();
        std::os::unix::fs::symlink(program("heron"), desk.path().join("heron")).unwrap();
        write("tide-board.js", DECODER.as_bytes());
        write("gateways.csv", b"eui,name\n02a1f00000000071,north-quay\n");
        write("devices.csv", b"dev_eui,join_eui,app_key,name\n02b0030000000071,02aa000000000003,generate,collar-71\n");
        let firmware = [7; 1000];
        let key = p256::ecdsa::SigningKey::from_slice(&[9; 32]).unwrap();
        let signature: p256::ecdsa::Signature = key.sign_prehash(&sha2::Sha512::digest(firmware)).unwrap();
        write("station-2.bin", &firmware);
        write("station-2.sig", signature.to_der().as_bytes());
        write("maker.pem", key.verifying_key().to_public_key_pem(Default::default()).unwrap().as_bytes());
        service.heron_says(&["catalogue", "import", "--shipped"]);
        service.heron_says(&["scenario", "import", top.join("demo/tarnsey").to_str().unwrap()]);

        let mut scenario = Scenario::load(&top.join("demo/tarnsey")).unwrap();
        scenario.gateways.retain(|gateway| gateway.protocol == Protocol::Udp);
        scenario.devices.iter_mut().for_each(|device| device.interval_s = 2.0);
        let mut stranger = scenario.devices[0].clone();
        (stranger.name, stranger.dev_eui) = ("tide-42".into(), "02b0010000000042".into());
        scenario.devices.push(stranger);
        let world = World::start(&scenario, service.udp, &Default::default()).await.unwrap();
        let demo = Self { service, desk, _world: world };
        demo.wait_for_traffic().await;
        demo
    }

    /// Waits until there is something to see.
    async fn wait_for_traffic(&self) {
        until("readings of tide-01", async || {
            Some(self.service.list::<DeviceReading>("devices/tide-01/readings").await).filter(|all| !all.is_empty())
        })
        .await;
        for (list, eui) in [("strangers", "02c7e000000000ff"), ("devices/strangers", "02b0010000000042")] {
            until("a stranger", async || {
                let all: Vec<Value> = self.service.list(list).await;
                all.iter().any(|one| one["eui"] == eui || one["dev_eui"] == eui).then_some(())
            })
            .await;
        }
    }

    /// Runs a line as a shell would.
    fn shell(&self, line: &str, input: &str) -> Output {
        use std::io::Write as _;
        let mut shell = Command::new("sh");
        shell.args(["-c", line]).current_dir(self.desk.path());
        shell.env("PATH", format!("{}:/usr/bin:/bin", self.desk.path().display())).env("HOME", self.desk.path());
        shell.env("HERON_CONFIG", self.service.client_folder()).env_remove("HERON_TOKEN");
        shell.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut shell = shell.spawn().unwrap();
        // What reads nothing closes it.
        let _ = shell.stdin.take().unwrap().write_all(input.as_bytes());
        shell.wait_with_output().unwrap()
    }

    /// An id for the place in an example where it shows one.
    async fn id(&self, line: &str) -> String {
        let first = async |list: &str| {
            let all: Vec<Value> = self.service.list(list).await;
            let id = all.first().unwrap_or_else(|| panic!("{line}: nothing in {list}"))["id"].clone();
            id.as_str().unwrap().to_owned()
        };
        match line.split_whitespace().nth(1).unwrap() {
            "outbox" => first("devices/tide-21/outbox").await,
            "decoder" => first("jobs").await,
            "rehearse" => self.service.list::<Message>("traffic?type=uplink&device=tide-01").await[0].id.clone(),
            "gateway" if line.contains(" firmware ") => first("gateway-firmware").await,
            "gateway" => first("gateways/north-weir/credentials").await,
            other => panic!("no id of {other} is known"),
        }
    }

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
        let mut line = example.replace(ADDRESS, self.service.http.trim_start_matches("http://"));
        if line.contains(ID) {
            line = line.replace(ID, &self.id(&line).await);
        }
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
            let link = self.link(json!({ "share": { "scope": { "fleet": "grazing" }, "may": "read", "until": null } })).await;
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
        let is_silent = [" > ", "--output", " -o "].iter().any(|into| example.contains(into));
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

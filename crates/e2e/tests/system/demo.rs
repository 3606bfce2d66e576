//! The demo with a person at a shell: its world, and a folder with the files that examples and documents use.

use std::fs;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Output, Stdio};

use api::gateway::Protocol;
use api::message::Message;
use api::reading::chart::DeviceReading;
use p256::ecdsa::signature::hazmat::PrehashSigner as _;
use p256::pkcs8::EncodePublicKey as _;
use serde_json::Value;
use sha2::Digest as _;
use simulator::scenario::Scenario;
use simulator::world::World;
use tempfile::TempDir;

use e2e::programs::program;
use e2e::service::Service;
use e2e::wait::until;

/// What examples and documents show in place of an id that only a list can tell.
pub(crate) const ID: &str = "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C";
/// What they call the service's address.
pub(crate) const ADDRESS: &str = "127.0.0.1:8680";

const DECODER: &str = "\
function decodeUplink(input) { return { data: { level: input.bytes[0] } }; }
function encodeDownlink(input) { return { fPort: 10, bytes: [input.data.gate.opening] }; }";

/// The demo, with files of a person who works with it.
pub(crate) struct Demo {
    pub service: Service,
    pub desk: TempDir,
    scenario: Scenario,
    world: World,
}

impl Demo {
    /// Before anything is registered: the demo's gateways call, its devices ask to join.
    pub(crate) async fn unregistered() -> Self {
        let service = Service::first_start().await;
        service.sign_heron_in();
        let top = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."));
        let mut scenario = Scenario::load(&top.join("demo/tarnsey")).unwrap();
        scenario.gateways.retain(|gateway| gateway.protocol == Protocol::Udp);
        // Those that something is told of; all of them sending so often would hear little of one another.
        scenario.devices.truncate(11);
        for device in &mut scenario.devices {
            device.interval_s = if device.confirmed || device.data_rate == 0 { 8.0 } else { 2.0 };
        }
        // The guide has only the gateway on the hill at first, which hears the gauge behind the ridge as chance has it.
        (scenario.devices[0].latitude_deg, scenario.devices[0].longitude_deg) = (54.7130, 3.8860);
        let mut stranger = scenario.devices[0].clone();
        (stranger.name, stranger.dev_eui) = ("tide-42".into(), "02b0010000000042".into());
        scenario.devices.push(stranger);
        let world = World::start(&scenario, service.udp, &Default::default()).await.unwrap();
        let demo = Self { service, desk: TempDir::new().unwrap(), scenario, world };
        demo.lay_out(top);
        demo.until_listed("strangers", "02a1f00000000001").await;
        demo
    }

    /// As `scripts/demo` leaves it.
    pub(crate) async fn set_up() -> Self {
        let mut demo = Self::unregistered().await;
        demo.service.heron_says(&["catalogue", "import", "--shipped"]);
        let scenario = demo.desk.path().join("demo/tarnsey");
        demo.service.heron_says(&["scenario", "import", scenario.to_str().unwrap()]);
        // Switched on again, its devices ask at once.
        demo.world = World::start(&demo.scenario, demo.service.udp, &Default::default()).await.unwrap();
        demo.until_readings_come().await;
        demo.until_listed("strangers", "02c7e000000000ff").await;
        demo.until_listed("devices/strangers", "02b0010000000042").await;
        demo
    }

    /// The files on the desk.
    fn lay_out(&self, top: &Path) {
        let desk = self.desk.path();
        let write = |name: &str, bytes: &[u8]| fs::write(desk.join(name), bytes).unwrap();
        for folder in ["demo", "catalogue"] {
            std::os::unix::fs::symlink(top.join(folder), desk.join(folder)).unwrap();
        }
        for name in ["heron", "herond"] {
            std::os::unix::fs::symlink(program(name), desk.join(name)).unwrap();
        }
        fs::create_dir_all(desk.join(".local/share/bash-completion/completions")).unwrap();
        write("tide-board.js", DECODER.as_bytes());
        let packed = desk.join("catalogue.tar.gz");
        let tar = Command::new("tar").arg("-czf").arg(&packed).arg("-C").arg(top).arg("catalogue").status();
        assert!(tar.unwrap().success());
        write("draft.js", &fs::read(top.join("catalogue/models/brinemark-tg2/decoder.js")).unwrap());
        write("gateways.csv", b"eui,name\n02a1f00000000071,north-pier\n");
        write("devices.csv", b"dev_eui,join_eui,app_key,name\n02b0030000000071,02aa000000000003,generate,collar-71\n");
        let personal = self.scenario.devices.iter().find(|device| device.name == "tide-08").unwrap();
        let personal = personal.personal.as_ref().unwrap();
        write("tide-08.keys", format!("{}\n{}\n", personal.nwk_s_key.as_str(), personal.app_s_key.as_str()).as_bytes());
        write("key.txt", format!("{}\n", self.app_key("tide-01")).as_bytes());
        let firmware = [7; 1000];
        let key = p256::ecdsa::SigningKey::from_slice(&[9; 32]).unwrap();
        let signature: p256::ecdsa::Signature = key.sign_prehash(&sha2::Sha512::digest(firmware)).unwrap();
        write("station-2.bin", &firmware);
        write("station-2.sig", signature.to_der().as_bytes());
        write("maker.pem", key.verifying_key().to_public_key_pem(Default::default()).unwrap().as_bytes());
    }

    /// The AppKey that a device of the demo has.
    pub(crate) fn app_key(&self, device: &str) -> String {
        self.scenario.devices.iter().find(|one| one.name == device).unwrap().app_key.clone()
    }

    pub(crate) async fn until_readings_come(&self) {
        until("readings of tide-01", async || {
            Some(self.service.list::<DeviceReading>("devices/tide-01/readings").await).filter(|all| !all.is_empty())
        })
        .await;
    }

    /// Waits until a list has an EUI.
    pub(crate) async fn until_listed(&self, list: &str, eui: &str) {
        until("a stranger", async || {
            let all: Vec<Value> = self.service.list(list).await;
            all.iter().any(|one| one["eui"] == eui || one["dev_eui"] == eui).then_some(())
        })
        .await;
    }

    /// Runs a line as a shell would, with text on its standard input.
    pub(crate) fn shell(&self, line: &str, input: &str) -> Output {
        let desk = self.desk.path();
        let mut shell = Command::new("sh");
        shell.args(["-c", line]).current_dir(desk);
        shell.env("PATH", format!("{}:/usr/bin:/bin", desk.display())).env("HOME", desk);
        shell.env("HERON_CONFIG", self.service.client_folder()).env_remove("HERON_TOKEN");
        shell.env("HERON_APP_KEY", self.app_key("tide-01")).env("HERON_NWK_KEY", self.app_key("tide-01"));
        shell.env("HEROND_DATABASE", self.service.database()).env("HEROND_DATA", self.service.data());
        shell.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut shell = shell.spawn().unwrap();
        // What reads nothing closes it.
        let _ = shell.stdin.take().unwrap().write_all(input.as_bytes());
        shell.wait_with_output().unwrap()
    }

    /// A line with the service's own address and an id that there is.
    pub(crate) async fn made_real(&self, line: &str) -> String {
        let line = line.replace(ADDRESS, self.service.http.trim_start_matches("http://"));
        if line.contains(ID) { line.replace(ID, &self.id(&line).await) } else { line }
    }

    /// An id for the place where a line shows one.
    async fn id(&self, line: &str) -> String {
        let first = async |list: &str| {
            let all: Vec<Value> = self.service.list(list).await;
            let id = all.first().unwrap_or_else(|| panic!("{line}: nothing in {list}"))["id"].clone();
            id.as_str().unwrap().to_owned()
        };
        let word = |n: usize| line.split_whitespace().nth(n).unwrap();
        match word(1) {
            "outbox" => first(&format!("devices/{}/outbox", word(3))).await,
            "round" => first("rounds").await,
            "forecast" => first("forecasts").await,
            "decoder" if word(2) == "try" => self.uplink().await,
            "decoder" => first("jobs").await,
            "rehearse" => self.uplink().await,
            "outlet" => self.dead_letter(word(4)).await,
            "gateway" if word(2) == "firmware" => first("gateway-firmware").await,
            "gateway" => first("gateways/north-weir/credentials").await,
            other => panic!("no id of {other} is known"),
        }
    }

    /// A dead letter of an outlet: that of its last message, as if it had been refused.
    async fn dead_letter(&self, outlet: &str) -> String {
        self.service.query(
            "INSERT IGNORE INTO dead_letters (outlet_id, told, message_id, given_up_at, about, body)
             SELECT o.id, m.told, m.id, NOW(), '{\"tries\":3,\"why\":\"it answers 422 Unprocessable Entity\",\"request\":
             {\"line\":\"POST https://harbour.example/keen-heron\",\"headers\":{},\"body\":\"\"},\"answer\":null}', m.body
             FROM outlets o JOIN messages m ON m.estate_id = o.estate_id AND m.told IS NOT NULL
             ORDER BY o.slug = 'harbour-office' DESC, m.told DESC LIMIT 1",
        );
        let letters: Vec<Value> = self.service.list(&format!("outlets/{outlet}/dead-letters")).await;
        letters[0]["id"].as_str().unwrap().to_owned()
    }

    /// A stored uplink of tide-01.
    async fn uplink(&self) -> String {
        self.service.list::<Message>("traffic?type=uplink&device=tide-01").await[0].id.clone()
    }
}

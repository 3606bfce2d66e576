//! The catalogue: models from files, git repositories and as shipped; edits that stay, tests that fail.

use std::fs;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use api::Page;
use api::device::DeviceDetail;
use api::device::read_back::ReadBack;
use api::message::{Body, Message};
use api::model::Model;
use api::model::catalogue::{CatalogueOutcome, CatalogueSource, ModelFate};
use api::problem::Problem;
use e2e::browser::Browser;
use e2e::mariadb::free_port;
use e2e::service::{ESTATE, Service};
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};
use tempfile::TempDir;
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{APP_KEY, Bench, DEV_EUI, JOIN_EUI};

const SCRIPT: &str = "function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }";
const OLD_SCRIPT: &str = "function decodeUplink(i) { return {data: {level: i.bytes[0]}} }";

/// A model's file, with this expected of the byte 0x0a.
fn model(name: &str, level: f64) -> String {
    format!(
        "maker = 'Brinemark'\nname = '{name}'\ndecoder = 'decoder.js'\nreadings = {{ level = 'm' }}\n\
         test = [{{ name = 'ten', port = 2, bytes = '0a', readings = {{ level = {level} }} }}]\n\
         version = [{{ firmware = ['1.0'], decoder = 'old.js' }}]\n"
    )
}

fn write(folder: &Path, slug: &str, text: &str) {
    let folder = folder.join("models").join(slug);
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("model.toml"), text).unwrap();
    fs::write(folder.join("decoder.js"), SCRIPT).unwrap();
    fs::write(folder.join("old.js"), OLD_SCRIPT).unwrap();
}

fn fates(outcome: &CatalogueOutcome) -> Vec<(&str, ModelFate)> {
    outcome.models.iter().map(|model| (model.slug.as_str(), model.fate)).collect()
}

async fn upload(service: &Service, bytes: Vec<u8>) -> (u16, Value) {
    let path = format!("/estates/{ESTATE}/catalogue/files?name=x");
    let response = service.request(Method::POST, &path).body(bytes).send().await.unwrap();
    (response.status().as_u16(), response.json().await.unwrap_or_default())
}

#[tokio::test]
async fn a_folder_is_imported_and_followed() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let folder = TempDir::new().unwrap();
    let path = folder.path().to_str().unwrap();
    write(folder.path(), "gauge", &model("Gauge", 1.0));
    write(folder.path(), "wrong", &model("Wrong", 10.0));
    write(folder.path(), "torn", "maker = 'Brinemark'\nname = ");
    let checked = service.heron(&["catalogue", "check", path]);
    let said = String::from_utf8_lossy(&checked.stdout).into_owned();
    assert!(!checked.status.success() && said.contains("level is 1, 10 expected"), "{said}");

    let import = ["catalogue", "import", path, "--name", "ours"];
    let preview: CatalogueOutcome = service.heron_json(&[&import[..], &["--dry-run"]].concat());
    let expected = [("gauge", ModelFate::New), ("torn", ModelFate::Bad), ("wrong", ModelFate::New)];
    assert_eq!(fates(&preview), expected);
    assert_eq!(service.get::<Page<Model>>("models").await.items.len(), 0, "nothing is written by looking");
    let said = service.heron_says(&import);
    assert!(said.contains("wrong: it will not be used until it is fixed"), "{said}");
    assert!(said.contains("model.toml, line 2"), "{said}");
    let wrong: Model = service.get("models/wrong").await;
    assert!(wrong.flaw.unwrap().contains("its decoder fails its test \"ten\""));

    // What is edited here stays, and what changes there comes, each by itself.
    service.heron_says(&["model", "set", "gauge", "--maker", "Brinemark", "--name", "Our gauge"]);
    write(folder.path(), "gauge", &model("Gauge", 1.0).replace("Brinemark", "Brinemark & Co"));
    write(folder.path(), "wrong", &model("Wrong", 1.0));
    fs::remove_dir_all(folder.path().join("models/torn")).unwrap();
    let again: CatalogueOutcome = service.heron_json(&import);
    assert_eq!(fates(&again), [("gauge", ModelFate::Updated), ("wrong", ModelFate::Updated)]);
    let gauge: Model = service.get("models/gauge").await;
    assert_eq!((gauge.about.name.as_str(), gauge.about.maker.as_str()), ("Our gauge", "Brinemark & Co"));
    assert_eq!((gauge.edited, gauge.about.versions.len()), (vec!["name".to_owned()], 1));
    assert_eq!(service.get::<Model>("models/wrong").await.flaw, None, "mended");
    let same: CatalogueOutcome = service.heron_json(&import);
    assert_eq!(fates(&same), [("gauge", ModelFate::Same), ("wrong", ModelFate::Same)]);
    let sources: Vec<CatalogueSource> = service.heron_json(&["catalogue", "list"]);
    assert_eq!((sources.len(), sources[0].models), (1, 2));
    let refused = service.heron(&["catalogue", "refresh", "ours"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("send them in again"));
}

/// A repository on loopback, for as long as it lives.
struct Repository {
    folder: TempDir,
    port: u16,
    daemon: Child,
}

fn git(folder: &Path, arguments: &[&str]) {
    let identity = ["-c", "user.name=Tarnsey", "-c", "user.email=tarnsey@example.org"];
    let mut command = Command::new("git");
    command.args(identity).arg("-C").arg(folder).args(arguments);
    let output = command.output().expect("git is installed");
    assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

impl Repository {
    async fn start() -> Self {
        let folder = TempDir::new().unwrap();
        let models = folder.path().join("models.git");
        fs::create_dir(&models).unwrap();
        git(&models, &["init", "--quiet", "--initial-branch=main"]);
        let port = free_port();
        let mut command = Command::new("git");
        command.args(["daemon", "--export-all", "--reuseaddr", "--listen=127.0.0.1"]);
        command.arg(format!("--port={port}")).arg(format!("--base-path={}", folder.path().display()));
        let daemon = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("git is installed");
        until("git's daemon", async || tokio::net::TcpStream::connect(("127.0.0.1", port)).await.ok()).await;
        Self { folder, port, daemon }
    }

    fn commit(&self) {
        let models = self.folder.path().join("models.git");
        git(&models, &["add", "--all"]);
        git(&models, &["commit", "--quiet", "--message", "Models"]);
    }

    fn address(&self) -> String {
        format!("git://127.0.0.1:{}/models.git", self.port)
    }
}

impl Drop for Repository {
    fn drop(&mut self) {
        let _ = self.daemon.kill();
        let _ = self.daemon.wait();
    }
}

#[tokio::test]
async fn a_git_repository_is_imported_and_refreshed() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let repository = Repository::start().await;
    let files = repository.folder.path().join("models.git");
    write(&files, "gauge", &model("Gauge", 1.0));
    std::os::unix::fs::symlink("/etc/passwd", files.join("models/gauge/link.js")).unwrap();
    repository.commit();
    let address = repository.address();
    let first: CatalogueOutcome = service.heron_json(&["catalogue", "import", "--git", &address]);
    assert_eq!((fates(&first), first.revision.as_ref().map(String::len)), (vec![("gauge", ModelFate::New)], Some(40)));
    write(&files, "gauge", &model("Gauge mark 2", 1.0));
    write(&files, "second", &model("Second", 1.0));
    repository.commit();
    let preview: CatalogueOutcome = service.heron_json(&["catalogue", "refresh", &address, "--dry-run"]);
    assert_eq!(fates(&preview), [("gauge", ModelFate::Updated), ("second", ModelFate::New)]);
    assert_eq!((preview.models[0].changed.clone(), preview.done), (vec!["name".to_owned()], false));
    let said = service.heron_says(&["catalogue", "refresh", &address]);
    assert!(said.contains("Imported from git://127.0.0.1"), "{said}");
    assert_eq!(service.get::<Model>("models/gauge").await.about.name, "Gauge mark 2");

    for (address, branch, said) in [
        (format!("git://127.0.0.1:{}/nothing.git", repository.port), None, "nothing.git"),
        (service.http.clone(), None, "not found"),
        ("git://127.0.0.1:1/x.git".to_owned(), None, "Connection refused"),
        (address.clone(), Some("no-such-branch"), "no-such-branch"),
    ] {
        let body = json!({ "address": address, "branch": branch });
        let (status, problem) = service.refused(Method::POST, "catalogue/git", body).await;
        assert_eq!((status, problem.code.as_str()), (422, "bad_repository"), "{address}");
        assert!(problem.to_string().contains(said), "{problem}");
    }
    let (status, problem) = service.refused(Method::POST, "catalogue/git", json!({ "address": "file:///etc" })).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("address")));
}

#[tokio::test]
async fn archives_that_are_none_are_refused() {
    let service = Service::first_start().await;
    let problem = |value: Value| serde_json::from_value::<Problem>(value).unwrap().to_string();
    let (status, answer) = upload(&service, b"just text".to_vec()).await;
    assert!(status == 422 && problem(answer).contains("a gzipped tar is wanted"));
    let mut builder = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_ustar();
    let name = b"../../model.toml";
    header.as_mut_bytes()[..name.len()].copy_from_slice(name);
    header.set_size(1);
    header.set_cksum();
    builder.append(&header, &b"x"[..]).unwrap();
    let (status, answer) = upload(&service, builder.into_inner().unwrap()).await;
    assert!(status == 422 && problem(answer).contains("leads out of the archive"));
    let (status, _) = upload(&service, vec![0; 17 << 20]).await;
    assert_eq!(status, 413);
    let empty = tar::Builder::new(Vec::new()).into_inner().unwrap();
    let (status, _) = upload(&service, empty).await;
    assert_eq!(status, 422);
    assert_eq!(service.get::<Page<Model>>("models").await.items.len(), 0);
}

#[tokio::test]
async fn firmware_and_tests_decide_which_script_reads_an_uplink() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let folder = TempDir::new().unwrap();
    write(folder.path(), "gauge", &model("Gauge", 1.0));
    let path = folder.path().to_str().unwrap().to_owned();
    bench.service.heron_says(&["catalogue", "import", &path, "--name", "ours"]);
    let device = DEV_EUI.to_string();
    bench.service.heron_says(&["device", "set", &device, "--model", "gauge", "--firmware", "1.0"]);
    bench.join().await;
    let read = async |bench: &mut Bench, n: usize| {
        bench.uplink(&[10], false).await;
        until("the uplink, decoded", async || {
            let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
            let decoded = page.items.iter().filter_map(|message| match &message.body {
                Body::Uplink(uplink) => Some(uplink),
                _ => None,
            });
            let all: Vec<_> = decoded.filter(|u| !u.readings.is_empty() || u.decode_error.is_some()).collect();
            (all.len() == n).then(|| all[0].clone())
        })
        .await
    };
    let level = |uplink: &api::message::Uplink| uplink.readings["level"].to_string();
    assert_eq!(level(&*read(&mut bench, 1).await), "10 m", "the script of its firmware");
    bench.service.heron_says(&["device", "set", &device, "--firmware", "2.0"]);
    assert_eq!(level(&*read(&mut bench, 2).await), "1 m");
    // A script that fails its own test reads nothing, and every uplink says so.
    write(folder.path(), "gauge", &model("Gauge", 7.0));
    bench.service.heron_says(&["catalogue", "import", &path, "--name", "ours"]);
    let why = read(&mut bench, 3).await.decode_error.unwrap();
    assert!(why.contains("not used until it is fixed") && why.contains("level is 1, 7 expected"), "{why}");
    let new = json!({ "dev_eui": "02b0090000000555", "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(),
        "fleet": "bench", "model": "gauge" });
    let read_back: ReadBack = bench.service.post("devices/check", new).await;
    assert!(read_back.warnings[0].contains("not used until it is fixed"), "{:?}", read_back.warnings);
}

#[tokio::test]
async fn every_kind_of_decoder_reads_what_is_heard() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    bench.join().await;
    let device = DEV_EUI.to_string();
    let table = "block = [{ field = [{ name = 'level', bytes = 2, scale = 0.01, unit = 'm' }] }]
        command = [{ port = 10, field = [{ name = 'opening', bytes = 1, max = 100 }] }]";
    let (channels, pairs) = ("channels = { 3 = 'level' }", "form = 'pairs'\nfield = [{ name = 'level', unit = 'm' }]");
    let kinds: [(&str, &str, &[u8], &str); 3] = [
        ("gauge.table.toml", table, &[0, 241], "2.41 m"),
        ("gauge.low-power.toml", channels, &[3, 2, 0, 241], "2.41"),
        ("gauge.text.toml", pairs, b"level=2.41", "2.41 m"),
    ];
    let folder = TempDir::new().unwrap();
    for (n, (file, source, payload, shown)) in kinds.into_iter().enumerate() {
        let path = folder.path().join(file);
        fs::write(&path, source).unwrap();
        let put = [
            "model",
            if n == 0 { "add" } else { "set" },
            "gauge",
            "--maker",
            "Brinemark",
            "--name",
            "Gauge",
            "--decoder",
        ];
        bench.service.heron_says(&[&put[..], &[path.to_str().unwrap()]].concat());
        bench.service.heron_says(&["device", "set", &device, "--model", "gauge"]);
        if n == 0 {
            let said = bench.service.heron_says(&["outbox", "add", &device, "--value", "opening=40", "--dry-run"]);
            assert!(said.contains("28 (1 byte)"), "{said}");
            let why = bench.service.heron(&["outbox", "add", &device, "--value", "opening=101"]);
            assert!(String::from_utf8_lossy(&why.stderr).contains("opening: 101 is given"), "{why:?}");
        }
        bench.uplink(payload, false).await;
        until(file, async || {
            let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
            let Body::Uplink(uplink) = &page.items.first()?.body else { return None };
            (page.items.len() == n + 1).then(|| uplink.readings.get("level").map(ToString::to_string))?
        })
        .await;
        let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
        let Body::Uplink(uplink) = &page.items[0].body else { panic!("an uplink is expected") };
        assert_eq!(uplink.readings["level"].to_string(), shown, "{file}");
    }
    let path = folder.path().join("gauge.table.toml");
    let here = path.to_str().unwrap();
    let said = bench.service.heron_says(&["decoder", "try", here, "--port", "2", "--payload", "00 f1"]);
    assert!(said.lines().any(|line| line.split_whitespace().eq(["level", "2.41", "m", "0-1", "00", "f1"])), "{said}");
    let said: Value = bench.service.heron_json(&["decoder", "try", here, "--value", "opening=40"]);
    assert_eq!(said["payload"], "28");
    let why = bench.service.heron(&["decoder", "try", here, "--payload", "00"]);
    assert!(String::from_utf8_lossy(&why.stderr).contains("level needs 2 bytes, and there are 1"), "{why:?}");
    fs::write(&path, "block = [{ field = [{ name = 'level', bytes = 9 }] }]").unwrap();
    let put = ["model", "set", "gauge", "--maker", "B", "--name", "G", "--decoder", path.to_str().unwrap()];
    let why = bench.service.heron(&put);
    let why = String::from_utf8_lossy(&why.stderr).into_owned();
    assert!(why.contains("block 1, field level: it lies in 9 bytes"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_imports_the_shipped_models() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    service.heron_says(&["fleet", "add", "tide"]);
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/devices/models", service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("Twelve models ship with the service")).await;
    browser.click(By::XPath("//button[text()='Preview']")).await;
    browser.text_when("[data-outcome]", |text| text.contains("Nothing is changed yet") && text.contains("wx5")).await;
    browser.click(By::XPath("//button[text()='Import']")).await;
    let row = browser.text_when("tr[data-model=brinemark-tg2]", |text| text.contains("shipped")).await;
    assert!(row.contains("script, 2 tests") && row.contains("firmware 1.0"), "{row}");
    // A label that names the model's profile brings the model with it.
    let label = "LW:D0:02AA000000000001:02B0090000000123:FB010002";
    let new = ["device", "add", "--label", label, "--fleet", "tide", "--app-key", "generate"];
    let device: DeviceDetail = service.heron_json(&new);
    assert_eq!(device.device.model.as_deref(), Some("brinemark-tg2"));
    assert_eq!(device.whole_radio.uplink_interval_s, Some(600), "with its radio");
    browser.close().await.unwrap();
}

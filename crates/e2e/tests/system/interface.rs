//! The HTTP interface as its description says it is: other people's programs read the description, make a client from it,
//! and make requests from it.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::LazyLock;

use serde_json::{Value, json};
use tempfile::TempDir;

use e2e::service::ESTATE;

use crate::scenes::Bench;

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

/// Where the programs are.
static TOOLS: LazyLock<PathBuf> = LazyLock::new(|| {
    let made = Command::new(Path::new(ROOT).join("scripts/python-tools")).output().expect("bash is there");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    Path::new(ROOT).join("target/python/bin")
});

fn document() -> PathBuf {
    Path::new(ROOT).join("docs/openapi.json")
}

fn run(program: &str, args: &[&str]) -> Output {
    Command::new(TOOLS.join(program)).args(args).output().expect("it is installed")
}

fn told(output: &Output) -> String {
    let both = [&output.stdout[..], &output.stderr[..]].concat();
    String::from_utf8_lossy(&both).chars().take(8000).collect()
}

#[test]
fn the_description_is_valid() {
    let checked = run("openapi-spec-validator", &[document().to_str().unwrap()]);
    assert!(checked.status.success(), "{}", told(&checked));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_made_from_the_description_lists_imports_and_listens() {
    let bench = Bench::with_decoder("function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }").await;
    let folder = TempDir::new().unwrap();
    let (client, settings) =
        (folder.path().to_str().unwrap(), Path::new(ROOT).join("crates/e2e/tests/python/client.yml"));
    let document = document();
    let made = run(
        "openapi-python-client",
        &[
            "generate",
            "--path",
            document.to_str().unwrap(),
            "--output-path",
            client,
            "--overwrite",
            "--meta",
            "none",
            "--config",
            settings.to_str().unwrap(),
        ],
    );
    assert!(made.status.success(), "{}", told(&made));
    assert!(!told(&made).contains("WARNING") && !told(&made).contains("Unable"), "{}", told(&made));
    // Without a package around it the folder is the package.
    let package = folder.path().parent().unwrap().join("keen_heron_client");
    let _ = std::fs::remove_dir_all(&package);
    std::os::unix::fs::symlink(folder.path(), folder.path().join("keen_heron_client")).unwrap();
    let program = Path::new(ROOT).join("crates/e2e/tests/python/generated_client.py");
    let args = [program.to_str().unwrap(), client, &bench.service.http, bench.service.token(), ESTATE, "2a"];
    let done = run("python", &args);
    assert!(done.status.success(), "{}", told(&done));
    let found: Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!((&found["before"], &found["registered"]), (&json!(["probe-1"]), &json!(1)));
    assert_eq!(found["after"], json!(["imported", "probe-1"]));
    assert_eq!(found["heard"], json!({ "type": "uplink", "payload": "2a", "device": "probe-1" }));
}

/// Operations that end the caller's own access, never end, call elsewhere, or take away what the others need.
const LEFT_OUT: [&str; 18] = [
    "live",
    "sign_out",
    "set_password",
    "end_other_sign_ins",
    "end_sign_in",
    "leave",
    "prepare_two_step",
    "begin_two_step",
    "end_two_step",
    "renew_recovery_codes",
    "remove_device",
    "remove_gateway",
    "remove_group",
    "remove_model",
    "remove_profile",
    "remove_fleet",
    "change_fleet",
    "import_git",
];

/// The description with names that are there, so that requests come further than "not found".
fn with_known_names(folder: &Path) -> PathBuf {
    let mut document: Value = serde_json::from_slice(&std::fs::read(document()).unwrap()).unwrap();
    let known = [
        ("estate", ESTATE),
        ("eui", "probe"),
        ("fleet", "bench"),
        ("model", "probe"),
        ("profile", "slow"),
        ("region", "EU868"),
    ];
    for operation in document["paths"].as_object_mut().unwrap().values_mut() {
        let all = operation.as_object_mut().unwrap().values_mut();
        for parameter in all.flat_map(|one| one["parameters"].as_array_mut().into_iter().flatten()) {
            let name = known.iter().find(|(name, _)| parameter["in"] == "path" && parameter["name"] == *name);
            if let Some((_, value)) = name {
                parameter["schema"] = json!({ "type": "string", "enum": [value] });
            }
        }
    }
    let file = folder.join("openapi.json");
    std::fs::write(&file, document.to_string()).unwrap();
    file
}

#[tokio::test(flavor = "multi_thread")]
async fn requests_made_from_the_description_break_nothing_and_are_answered_as_it_says() {
    let bench = Bench::with_decoder("function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }").await;
    let service = &bench.service;
    service.sign_heron_in();
    service.heron_says(&["device", "set", "probe-1", "--name", "probe"]);
    service.heron_says(&["gateway", "set", "bench", "--name", "probe"]);
    service.heron_says(&["group", "add", "probe", "--fleet", "bench", "--class", "C"]);
    service.heron_says(&["profile", "add", "slow", "--rx-delay-s", "5"]);
    let folder = TempDir::new().unwrap();
    let document = with_known_names(folder.path());
    let token = format!("Authorization: Bearer {}", service.token());
    let checks = "not_a_server_error,status_code_conformance,content_type_conformance,response_headers_conformance,\
                  response_schema_conformance";
    let mut args = vec![
        "run",
        document.to_str().unwrap(),
        "--url",
        &service.http,
        "--header",
        &token,
        "--seed",
        "7",
        "--phases",
        "fuzzing",
        "--max-time",
        "40",
        "--max-examples",
        "20",
        "--workers",
        "2",
        "--request-timeout",
        "20",
        "--checks",
        checks,
        "--continue-on-failure",
        "--suppress-health-check",
        "filter_too_much",
        "--generation-database",
        "none",
        "--no-color",
    ];
    args.extend(LEFT_OUT.iter().flat_map(|id| ["--exclude-operation-id", id]));
    let done = Command::new(TOOLS.join("schemathesis")).args(&args).current_dir(folder.path()).output().unwrap();
    let said = String::from_utf8_lossy(&done.stdout);
    // What it warns of is long, and about data that it did not find.
    let wrong = said.split("= WARNINGS =").next().unwrap_or_default();
    let wrong: String = wrong.chars().take(8000).collect();
    assert!(done.status.success(), "{wrong}\n{}", String::from_utf8_lossy(&done.stderr));
    assert!(said.contains("passed"), "{said}");
}

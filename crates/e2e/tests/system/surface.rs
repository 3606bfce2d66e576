//! The edges of client and HTTP interface: any text, refusals by name, revisions, requests that come twice.

use api::Page;
use api::device::{Device, DeviceDetail, DeviceState};
use api::diagnosis::device::{DeviceWhy, Weight};
use api::find::Found;
use reqwest::header::{ACCEPT, ETAG, IF_MATCH, IF_NONE_MATCH, LOCATION};
use reqwest::{Method, Response};
use serde_json::{Value, json};

use e2e::service::{ESTATE, Service};
use e2e::wait::until;

use crate::scenes::{APP_KEY, Bench, DEV_EUI, JOIN_EUI, device, registration};

const SUED: lorawan::Eui64 = lorawan::Eui64(0x02b0_0900_0000_0002);

fn below(path: &str) -> String {
    format!("/estates/{ESTATE}/{path}")
}

/// A request with one header more.
async fn ask(service: &Service, method: Method, path: &str, header: (&str, &str), body: Option<Value>) -> Response {
    let request = service.request(method, path).header(header.0, header.1);
    let request = match body {
        Some(body) => request.json(&body),
        None => request,
    };
    request.send().await.unwrap()
}

fn text(answer: &Response, name: reqwest::header::HeaderName) -> String {
    answer.headers().get(name).map(|value| value.to_str().unwrap().to_owned()).unwrap_or_default()
}

#[tokio::test(flavor = "multi_thread")]
async fn text_of_any_language_is_found_shown_and_addressed() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let mut new = registration(SUED, "Süd", None);
    new["tags"] = json!(["Südufer", "湖"]);
    let _: Value = service.post("devices", new).await;
    let names = async |query: &str| -> Vec<String> {
        let page: Page<Device> = service.get(&format!("devices?{query}")).await;
        page.items.into_iter().map(|device| device.name).collect()
    };
    for query in ["find=S%C3%BCd", "find=s%C3%BCduf", "tag=S%C3%BCdufer", "tag=%E6%B9%96", "find=%E6%B9%96"] {
        assert_eq!(names(query).await, ["Süd"], "{query}");
    }
    for nothing in ["find=Nord%C3%B8", "tag=%C3%B8"] {
        assert_eq!(names(nothing).await, Vec::<String>::new(), "{nothing}");
    }
    for (filter, what) in [("fleet", "fleet"), ("model", "model"), ("profile", "radio profile")] {
        let path = format!("devices?{filter}=%C3%B8");
        let (status, problem) = service.refused(Method::GET, &path, Value::Null).await;
        assert_eq!((status, problem.title), (404, format!("There is no such {what}")), "{path}");
    }
    let found: Vec<Found> = service.list("find?text=S%C3%BCd").await;
    assert_eq!(found.len(), 1);
    let shown: DeviceDetail = service.get("devices/S%C3%BCd").await;
    assert_eq!((shown.device.dev_eui, shown.device.tags), (SUED, vec!["südufer".to_owned(), "湖".to_owned()]));
    for (path, what) in [("devices/%C3%B8", "device"), ("fleets/%C3%B8", "fleet"), ("models/%C3%B8", "model")] {
        let (status, problem) = service.refused(Method::GET, path, Value::Null).await;
        assert_eq!((status, problem.title), (404, format!("There is no such {what}")), "{path}");
    }
    service.sign_heron_in();
    assert!(service.heron_says(&["device", "show", "Süd"]).contains(&SUED.to_string()));
    assert!(service.heron_says(&["find", "Süd"]).contains("Süd"));
    assert!(service.heron_says(&["device", "list", "--tag", "südufer"]).contains("Süd"));
}

#[tokio::test]
async fn gateways_and_groups_are_addressed_by_name_as_well() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let by_name: Value = service.get("gateways/bench").await;
    assert_eq!(by_name["eui"], crate::scenes::GATEWAY.to_string());
    let group: Value =
        service.post("groups", json!({ "name": "Alle Höfe", "fleet": "bench", "class": "C", "members": [] })).await;
    let by_name: Value = service.get("groups/Alle%20H%C3%B6fe").await;
    assert_eq!(by_name["eui"], group["eui"]);
    let item: Value = service.post("devices/probe-1/outbox", json!({ "port": 2, "payload": "01" })).await;
    let one: Value = service.get(&format!("devices/probe-1/outbox/{}", item["id"].as_str().unwrap())).await;
    assert_eq!(one["payload"], "01");
    let (status, problem) = service.refused(Method::GET, "gateways/none", Value::Null).await;
    assert_eq!((status, problem.title.as_str()), (404, "There is no such gateway"));
}

#[tokio::test]
async fn a_personalized_device_is_never_heard_until_it_is() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let key = APP_KEY.to_hex();
    let personal = json!({ "dev_addr": "generate", "app_s_key": key, "nwk_s_key": key });
    let new = json!({ "dev_eui": SUED, "name": "fixed", "fleet": "bench", "personal": personal });
    let made: DeviceDetail = service.post("devices", new.clone()).await;
    assert_eq!((made.device.state, made.device.join_eui), (DeviceState::NeverHeard, None));
    let listed: Page<Device> = service.get("devices?state=never_heard").await;
    assert_eq!(listed.items.iter().map(|d| d.dev_eui).collect::<Vec<_>>(), [SUED]);
    let listed: Page<Device> = service.get("devices?state=never_joined").await;
    assert_eq!(listed.items.iter().map(|d| d.dev_eui).collect::<Vec<_>>(), [DEV_EUI], "the one that joins");
    let why: DeviceWhy = service.get("devices/fixed/why").await;
    assert!(why.findings[0].what.contains("never heard under its session"), "{:?}", why.findings);
    let joining = json!({ "dev_eui": "02b0090000000003", "name": "joins", "fleet": "bench", "app_key": key });
    let (status, problem) = service.refused(Method::POST, "devices", joining).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("join_eui")), "one that joins needs it");
}

#[tokio::test]
async fn a_device_just_adopted_is_known_to_have_asked() {
    let mut bench = Bench::set_up().await;
    bench.device = device(SUED);
    let request = bench.device.join_request();
    bench.gateway.push(&request, bench.clock_us).await;
    until("a stranger", async || {
        let strangers: Vec<Value> = bench.service.list("devices/strangers").await;
        (!strangers.is_empty()).then_some(())
    })
    .await;
    let _: Value = bench.service.post("devices", registration(SUED, "adopted", None)).await;
    let why: DeviceWhy = bench.service.get("devices/adopted/why").await;
    let join = why.findings.iter().find(|finding| finding.about == "join").unwrap();
    assert!(join.what.starts_with("One join-request was heard before it was registered"), "{join:?}");
    assert_eq!(join.weight, Weight::Attention);
    let other: DeviceWhy = bench.service.get("devices/probe-1/why").await;
    assert_eq!(other.findings[0].what, "No join-request heard yet.");
}

#[tokio::test]
async fn everything_wrong_with_a_registration_is_told_at_once() {
    let bench = Bench::set_up().await;
    let new = json!({ "dev_eui": "02b0", "join_eui": "zz", "app_key": "12", "name": "a\u{7}", "fleet": "bench",
        "tags": ["a b"] });
    let (status, problem) = bench.service.refused(Method::POST, "devices", new).await;
    let fields: Vec<&str> = problem.fields.iter().map(|field| field.field.as_str()).collect();
    assert_eq!((status, fields), (422, vec!["dev_eui", "join_eui", "app_key", "name", "tags"]));
    assert!(!format!("{problem:?}").contains("\"12\""), "a key is not repeated");
    let unknown = json!({ "dev_eui": SUED, "joinEui": JOIN_EUI, "radio": { "rx_delay": 1 }, "fleet": "bench" });
    let (_, problem) = bench.service.refused(Method::POST, "devices", unknown).await;
    let told: Vec<(&str, &str)> = problem.fields.iter().map(|f| (f.field.as_str(), f.detail.as_str())).collect();
    assert!(told.contains(&("joinEui", "there is no such field; join_eui is one")), "{told:?}");
    assert!(told.contains(&("radio.rx_delay", "there is no such field; rx_delay_s is one")), "{told:?}");
}

#[tokio::test]
async fn a_preview_needs_no_key() {
    let bench = Bench::set_up().await;
    let new = json!({ "dev_eui": SUED, "join_eui": JOIN_EUI, "name": "Süd", "fleet": "bench" });
    let read: Value = bench.service.post("devices/check", new.clone()).await;
    assert_eq!(read["name"], "Süd");
    let (status, problem) = bench.service.refused(Method::POST, "devices", new).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("app_key")));
}

#[tokio::test]
async fn what_was_changed_meanwhile_is_neither_changed_nor_removed() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let profile = json!({ "name": "slow", "region": "EU868", "radio": { "class": "A" } });
    let _: Value = service.done(Method::PUT, &below("profiles/slow"), Some(profile)).await;
    let model = json!({ "maker": "Benchwright", "name": "Probe" });
    let _: Value = service.done(Method::PUT, &below("models/probe"), Some(model)).await;
    let group = json!({ "name": "all", "fleet": "bench", "class": "C", "members": [] });
    let _: Value = service.post("groups", group).await;
    let _: Value = service.post("fleets", json!({ "slug": "spare" })).await;
    for path in ["devices/probe-1", "gateways/bench", "groups/all", "fleets/spare", "profiles/slow", "models/probe"] {
        let shown = service.request(Method::GET, &below(path)).send().await.unwrap();
        let tag = text(&shown, ETAG);
        let revision = shown.json::<Value>().await.unwrap()["revision"].as_str().unwrap().to_owned();
        assert!(!revision.is_empty() && tag.starts_with(&format!("\"{revision}.")), "{path}: {tag}");
        let same = ask(service, Method::GET, &below(path), (IF_NONE_MATCH.as_str(), &tag), None).await;
        assert_eq!((same.status().as_u16(), same.bytes().await.unwrap().len()), (304, 0), "{path}");
        let other = ask(service, Method::DELETE, &below(path), (IF_MATCH.as_str(), "\"0000000000000000\""), None).await;
        assert_eq!(other.status().as_u16(), 412, "{path}");
        let removed = ask(service, Method::DELETE, &below(path), (IF_MATCH.as_str(), &tag), None).await;
        assert_eq!(removed.status().as_u16(), 204, "{path}: {}", removed.text().await.unwrap());
    }
    let without = ask(service, Method::DELETE, &below("tokens/1"), (IF_MATCH.as_str(), "\"00\""), None).await;
    assert_eq!(without.status().as_u16(), 412, "a revision that cannot be compared is not passed over");
}

#[tokio::test]
async fn what_is_made_says_where_it_is_and_is_made_once() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let add = async |key: &str, payload: &str| {
        let body = json!({ "port": 2, "payload": payload });
        ask(service, Method::POST, &below("devices/probe-1/outbox"), ("idempotency-key", key), Some(body)).await
    };
    let first = add("one", "01").await;
    assert_eq!(first.status().as_u16(), 201);
    let at = text(&first, LOCATION);
    let made: Value = first.json().await.unwrap();
    let shown: Value = service.done(Method::GET, at.strip_prefix(api::BASE).unwrap(), None).await;
    assert_eq!(shown["id"], made["id"]);
    let again = add("one", "01").await;
    assert_eq!((again.status().as_u16(), text(&again, LOCATION)), (201, at));
    assert_eq!(again.headers()["idempotency-replayed"], "true");
    assert_eq!(again.json::<Value>().await.unwrap(), made);
    assert_eq!(add("one", "02").await.status().as_u16(), 422, "the key was used for another request");
    assert_eq!(add("two", "01").await.status().as_u16(), 201);
    let outbox: Value = service.get("devices/probe-1/outbox").await;
    assert_eq!(outbox["items"].as_array().unwrap().len(), 2);
    // What was refused may come again with the same key.
    assert_eq!(add("three", "zz").await.status().as_u16(), 422);
    assert_eq!(add("three", "03").await.status().as_u16(), 201);
    // A secret that is shown once is kept sealed.
    let body = json!({ "name": "ci", "rights": ["view"] });
    let token = ask(service, Method::POST, &below("tokens"), ("idempotency-key", "t"), Some(body.clone())).await;
    let secret = token.json::<Value>().await.unwrap()["secret"].as_str().unwrap().to_owned();
    assert!(!service.dump_of(&["idempotency"]).contains(&secret));
    let token = ask(service, Method::POST, &below("tokens"), ("idempotency-key", "t"), Some(body)).await;
    assert_eq!(token.json::<Value>().await.unwrap()["secret"], secret);
}

#[tokio::test]
async fn a_path_that_is_nothing_is_not_found() {
    let service = Service::first_start().await;
    let get = async |path: &str, accept: &str| {
        let request = reqwest::Client::new().get(format!("{}{path}", service.http)).header(ACCEPT, accept);
        let answer = request.send().await.unwrap();
        let kind = answer.headers()["content-type"].to_str().unwrap().to_owned();
        (answer.status().as_u16(), kind)
    };
    for path in ["/healthz", "/metrics", "/robots.txt", "/devices/a/b", "/_app/none.js", "/index.php"] {
        assert_eq!(get(path, "*/*").await, (404, "application/problem+json".into()), "{path}");
    }
    for path in ["/", "/devices", "/devices/02b0000000000001", "/watch"] {
        let (status, kind) = get(path, "text/html").await;
        assert!(status == 200 && kind.starts_with("text/html"), "{path}: {status} {kind}");
        assert_eq!(get(path, "application/json").await.0, 404, "{path}: a page is no JSON");
    }
    let posted = reqwest::Client::new().post(format!("{}/devices", service.http)).send().await.unwrap();
    assert_eq!(posted.status().as_u16(), 405);
}

/// What `heron` says on both outputs, and how it ends.
fn heron(service: &Service, args: &[&str]) -> (i32, String) {
    let out = service.heron(args);
    let said = [out.stdout, out.stderr].concat();
    (out.status.code().unwrap_or(-1), String::from_utf8_lossy(&said).into_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_undone_asks_first_and_nothing_given_changes_nothing() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    for payload in 0..3 {
        bench.uplink(&[payload], false).await;
    }
    let service = &bench.service;
    until("the session", async || {
        let device: DeviceDetail = service.get("devices/probe-1").await;
        device.session.filter(|session| session.last_counter_up == Some(2))
    })
    .await;
    service.sign_heron_in();
    let model = json!({ "maker": "Benchwright", "name": "Probe" });
    let _: Value = service.done(Method::PUT, &below("models/spare"), Some(model)).await;
    let mut c = registration(SUED, "gate", None);
    c["radio"]["class"] = json!("C");
    let _: Value = service.post("devices", c).await;
    let group = json!({ "name": "gates", "fleet": "bench", "class": "C", "members": [SUED] });
    let _: Value = service.post("groups", group).await;
    let invited = service.invited(json!({ "role": "engineer" }), "marit").await;
    assert!(!invited.is_empty());
    let kit = service.client_folder().join("kit.zip");
    std::fs::write(&kit, "the only copy").unwrap();
    for args in [
        vec!["group", "set", "gates", "--remove-member", "gate"],
        vec!["fleet", "set", "bench", "--keep-values", "30"],
        vec!["device", "session", "set", "probe-1", "--last-up", "1"],
        vec!["model", "remove", "spare"],
        vec!["device", "set", "probe-1", "--disable"],
        vec!["people", "set", "marit", "--role", "viewer"],
        vec!["gateway", "kit", "bench", "-o", kit.to_str().unwrap()],
    ] {
        let (code, said) = heron(service, &args);
        assert!(code == 1 && said.contains("Say --yes"), "{args:?}: {said}");
    }
    assert_eq!(std::fs::read_to_string(&kit).unwrap(), "the only copy");
    let group: Value = service.get("groups/gates").await;
    assert_eq!(group["members"].as_array().unwrap().len(), 1);
    for args in [vec!["group", "set", "gates"], vec!["fleet", "set", "bench"]] {
        let (code, said) = heron(service, &args);
        assert!(code == 1 && said.contains("nothing is to be changed"), "{args:?}: {said}");
    }
    // What is not given stays.
    service.heron_says(&["fleet", "set", "bench", "--airtime-a-day", "30s", "--downlinks-a-day", "10"]);
    service.heron_says(&["fleet", "set", "bench", "--downlinks-a-day", "none", "--name", "Werkbank Süd"]);
    let fleet: Value = service.get("fleets/bench").await;
    assert_eq!((&fleet["airtime_a_day_s"], &fleet["downlinks_a_day"]), (&json!(30.0), &Value::Null));
    assert_eq!(fleet["name"], "Werkbank Süd");
    service.heron_says(&["fleet", "set", "bench", "--slug", "workbench"]);
    let device: DeviceDetail = service.get("devices/probe-1").await;
    assert_eq!(device.device.fleet, "workbench");
    service.heron_says(&["group", "set", "gates", "--name", "Tore", "--add-member", "gate"]);
    assert!(service.heron_says(&["group", "show", "Tore"]).contains("gate"));
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_come_without_a_terminal_and_only_where_they_are_used() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    service.sign_heron_in();
    let key = APP_KEY.to_hex();
    let add = |eui: &'static str| {
        vec!["device", "add", eui, "--join-eui", "02aa000000000009", "--fleet", "bench", "--name", eui]
    };
    let preview = service.heron_says(&[&add("02b0090000000011")[..], &["--dry-run"]].concat());
    assert!(preview.contains("02b0090000000011"), "{preview}");
    let (code, said) = heron(service, &add("02b0090000000011"));
    assert!(code == 1 && said.contains("--app-key-stdin"), "{said}");
    service.heron_fed(&[&add("02b0090000000011")[..], &["--app-key-stdin"]].concat(), &key);
    let both = format!("{key}\n{}", "01".repeat(16));
    let newer = ["--mac-version", "1.1", "--app-key-stdin", "--nwk-key-stdin"];
    service.heron_fed(&[&add("02b0090000000012")[..], &newer[..]].concat(), &both);
    let keys: Value = service.get("devices/02b0090000000012/keys").await;
    assert_eq!((&keys["app_key"], &keys["nwk_key"]), (&json!(key), &json!("01".repeat(16))));
    // Variables that are set for other devices do not get in the way of one with a fixed session.
    let abp = ["device", "add", "02b0090000000013", "--fleet", "bench", "--dev-addr", "generate"];
    let abp = [&abp[..], &["--nwk-s-key", "generate", "--app-s-key", "generate"]].concat();
    let mut command = service.heron_command(&abp);
    let out = command.env("HERON_APP_KEY", &key).env("HERON_NWK_KEY", &key).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let why = service.heron_says(&["device", "why", "02b0090000000013"]);
    assert!(why.contains("never heard under its session"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_says_what_it_does_not_know() {
    let mut bench = Bench::with_decoder("function decodeUplink(i) { return { data: { gate: i.bytes[0] } }; }").await;
    let service = &bench.service;
    service.sign_heron_in();
    service.heron_says(&["model", "reading", "set", "probe", "gate", "--kind", "state", "--word", "1=open"]);
    bench.join().await;
    bench.uplink(&[1], false).await;
    let service = &bench.service;
    until("the reading", async || {
        let detail: DeviceDetail = service.get("devices/probe-1").await;
        detail.readings.contains_key("gate").then_some(())
    })
    .await;
    let folder = service.client_folder();
    let file = |name: &str| folder.join(name).to_str().unwrap().to_owned();
    let (code, said) = heron(service, &["readings", "export", "-o", &file("a.xlsx")]);
    assert!(code == 1 && said.contains(".csv, .jsonl or .parquet"), "{said}");
    let (code, said) = heron(service, &["readings", "export", "-o", &file("a.csv"), "--reading", "level"]);
    assert!(code == 1 && said.contains("none of these devices has a reading of that name"), "{said}");
    assert!(!std::path::Path::new(&file("a.csv")).exists());
    let (code, _) = heron(service, &["readings", "export", "--fleet", "nothing"]);
    assert_eq!(code, 3);
    let csv = until("the stored value", async || {
        Some(service.heron_says(&["readings", "export"])).filter(|csv| csv.lines().count() == 2)
    })
    .await;
    assert!(csv.contains(",gate,1,open,"), "{csv}");
    let chart = service.heron_says(&["readings", "chart", "probe-1", "gate", "--since", "2020-01-01"]);
    assert!(chart.contains("open"), "{chart}");
    let (code, said) = heron(service, &["traffic", "list", "--type", "gateway"]);
    assert!(code == 1 && said.contains("live stream only"), "{said}");
    let (code, said) = heron(service, &["rehearse", "probe-1", "--payload", "01", "--gateway", "bench", "--snr", "3"]);
    assert!(code == 0, "the gateway heard its last uplink: {said}");
    let (code, said) = heron(service, &["airtime", "calc", "--payload", "0102"]);
    assert!(code == 0 && said.contains("2 bytes of payload"), "{said}");
    assert_eq!(heron(service, &["audit", "list", "--since", "2026-01-01"]).0, 0);
    let (code, said) = heron(service, &["audit", "list", "--since", "lately"]);
    assert!(code == 2 && said.contains("a date"), "{said}");
    let (code, said) = heron(service, &["device", "show", "nobody", "--json"]);
    let error: Value = serde_json::from_str(&said).unwrap();
    assert_eq!((code, &error["error"]), (3, &json!("not_found")));
    let (code, said) = heron(service, &["--url", "http://127.0.0.1:9", "device", "list"]);
    assert!(code == 5 && said.matches("127.0.0.1:9").count() == 1, "{said}");
    // A request that cannot be read is not somebody who wants too much.
    service.refused(Method::GET, "devices?limit=many", Value::Null).await;
    service.refused(Method::PATCH, "devices/probe-1", json!({ "nonsense": 1 })).await;
    let refusals: Value = service.get("audit?kind=refusal").await;
    assert_eq!(refusals["items"], json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_leaves_is_no_failure() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    for args in
        [vec!["completions", "bash"], vec!["region", "show", "US915"], vec!["region", "show", "EU868", "--json"]]
    {
        let mut child = service.heron_command(&args).stdout(std::process::Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        assert!(child.wait().unwrap().success(), "{args:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_of_many_rows_says_the_sums_and_what_is_wrong() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    service.sign_heron_in();
    let rows = (0..200).map(|n| format!("02b00a00{n:08x},02aa000000000009,generate,row-{n},bench\n"));
    let csv = format!("dev_eui,join_eui,app_key,name,fleet\n{}02b0,x,generate,bad,bench\n", rows.collect::<String>());
    let file = service.client_folder().join("many.csv");
    std::fs::write(&file, csv).unwrap();
    let said = service.heron_says(&["device", "import", file.to_str().unwrap(), "--dry-run"]);
    assert!(said.starts_with("200 devices can be registered, 1 cannot:"), "{said}");
    assert!(said.lines().count() < 8 && said.contains("202") && said.contains("dev_eui"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn traffic_is_limited_by_time_and_device_and_written_to_a_file() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    for payload in 0..3u8 {
        bench.uplink(&[payload], false).await;
    }
    let service = &bench.service;
    let stored = async |query: &str| -> Vec<api::message::Message> { service.list(&format!("traffic?{query}")).await };
    let uplinks = until("three uplinks", async || {
        let found = stored("type=uplink&device=probe-1").await;
        (found.len() == 3).then_some(found)
    })
    .await;
    let hour = chrono::TimeDelta::hours(1);
    let text = |at: chrono::DateTime<chrono::Utc>| at.to_rfc3339_opts(chrono::SecondsFormat::Millis, true);
    let (before, after) = (text(uplinks[2].time - hour), text(uplinks[0].time + hour));
    assert_eq!(stored(&format!("type=uplink&since={before}&until={after}")).await.len(), 3);
    assert_eq!(stored(&format!("type=uplink&since={after}")).await.len(), 0);
    assert_eq!(stored(&format!("type=uplink&until={before}")).await.len(), 0);
    assert_eq!(stored("type=uplink&fleet=bench").await.len(), 3);
    assert_eq!(stored("type=uplink&fleet=none").await.len(), 0);
    assert_eq!(stored("type=uplink&until=2020-01-01T00:00:00Z").await.len(), 0);
    // By the gateway that heard or sent it, and the devices that it hears.
    let api::message::Body::Uplink(uplink) = &uplinks[0].body else { unreachable!() };
    let heard = &uplink.heard_by[0];
    for by in [heard.name.clone(), heard.gateway.to_string()] {
        let sent = stored(&format!("gateway={by}")).await;
        for kind in ["uplink", "join", "downlink"] {
            assert!(sent.iter().any(|message| message.body.kind() == kind), "{kind}: {sent:?}");
        }
        let devices: Vec<Value> = service.list(&format!("devices?gateway={by}")).await;
        assert_eq!(devices.len(), 1, "{devices:?}");
    }
    assert_eq!(stored("gateway=02b0ffffffffffff").await.len(), 0);
    for list in ["devices", "traffic"] {
        let unknown = format!("/estates/{ESTATE}/{list}?gateway=none");
        assert_eq!(service.call(Method::GET, &unknown, None).await.0, 404, "{list}");
    }
    service.sign_heron_in();
    let file = |name: &str| service.client_folder().join(name).to_str().unwrap().to_owned();
    let (csv, jsonl) = (file("traffic.csv"), file("traffic.jsonl"));
    service.heron_says(&["traffic", "export", "--type", "uplink", "--since", "1h", "-o", &csv]);
    let csv = std::fs::read_to_string(csv).unwrap();
    let lines: Vec<&str> = csv.lines().collect();
    assert!(lines.len() == 4 && lines[0].starts_with("time,type,device,dev_eui,fleet,counter"), "{csv}");
    assert!(lines[1].contains(",uplink,probe-1,02b0090000000001,bench,0,2,00,"), "the oldest first: {csv}");
    service.heron_says(&["traffic", "export", "--device", "probe-1", "-o", &jsonl]);
    let jsonl = std::fs::read_to_string(jsonl).unwrap();
    let names: Vec<Value> =
        jsonl.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()["id"].clone()).collect();
    assert!(names.len() >= 4 && names.is_sorted_by_key(ToString::to_string), "{jsonl}");
    let (code, said) = heron(service, &["traffic", "export", "-o", &file("a.xlsx")]);
    assert!(code == 1 && said.contains(".csv or .jsonl"), "{said}");
}

#[tokio::test]
async fn a_caller_is_told_how_much_is_left_and_where_problems_are_explained() {
    let service = Service::first_start().await;
    let answer = service.request(Method::GET, &below("fleets")).send().await.unwrap();
    let told = |name: &'static str| text(&answer, reqwest::header::HeaderName::from_static(name));
    assert_eq!(told("ratelimit-policy"), "\"account\";q=2500;w=5");
    assert!(told("ratelimit").starts_with("\"account\";r=2"), "{}", told("ratelimit"));
    let (_, problem) = service.refused(Method::GET, "fleets/none", Value::Null).await;
    let page = reqwest::get(format!("{}{}", service.http, problem.kind)).await.unwrap();
    let page = page.text().await.unwrap();
    assert!(page.contains("id=\"not_found\""), "{page}");
}

#[tokio::test]
async fn every_list_is_searched_and_sorted_alike() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    for (eui, name) in
        [("02a1f00000000071", "north-pier"), ("02a1f00000000072", "Quay"), ("02a1f00000000073", "east-pier")]
    {
        let _: Value = service.post("gateways", json!({ "eui": eui, "name": name })).await;
    }
    for slug in ["tide", "grazing", "nest"] {
        let _: Value = service.post("fleets", json!({ "slug": slug, "name": format!("The {slug} fleet") })).await;
    }
    let names = async |path: &str, field: &str| -> Vec<String> {
        let all: Vec<Value> = service.list(path).await;
        all.iter().map(|one| one[field].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names("gateways?sort=-name", "name").await, ["Quay", "north-pier", "east-pier"]);
    assert_eq!(names("gateways?find=PIER&sort=eui", "name").await, ["north-pier", "east-pier"]);
    assert_eq!(names("fleets?sort=-slug", "slug").await, ["tide", "nest", "grazing"]);
    assert_eq!(names("people?find=own&sort=name", "name").await, ["owner"]);
    // Pages go on in their order.
    let first: Value = service.get("gateways?sort=-name&limit=2").await;
    let next = service.request(Method::GET, "/estates/tarnsey/gateways");
    let next = next.query(&[("sort", "-name"), ("limit", "2"), ("after", first["next"].as_str().unwrap())]);
    let next: Value = next.send().await.unwrap().json().await.unwrap();
    assert_eq!((next["items"][0]["name"].as_str(), next["next"].as_str()), (Some("east-pier"), None));
    let (status, problem) = service.refused(Method::GET, "gateways?sort=colour", Value::Null).await;
    assert!(status == 422 && problem.field.as_deref() == Some("sort"), "{problem:?}");
    assert!(problem.detail.unwrap().contains("eui, frames"), "it says by what it is sorted");
    let said = service.heron_says(&["gateway", "list", "--find", "pier", "--sort=-name"]);
    let (north, east) = (said.find("north-pier").unwrap(), said.find("east-pier").unwrap());
    assert!(north < east && !said.contains("Quay"), "{said}");
    assert!(service.heron_says(&["fleet", "list", "--sort=-slug"]).find("tide") < Some(60));
}

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
    for nothing in ["find=Nord%C3%B8", "tag=%C3%B8", "fleet=%C3%B8", "model=%C3%B8", "profile=%C3%B8"] {
        assert_eq!(names(nothing).await, Vec::<String>::new(), "{nothing}");
    }
    let found: Vec<Found> = service.get("find?text=S%C3%BCd").await;
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
        let strangers: Vec<Value> = bench.service.get("devices/strangers").await;
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

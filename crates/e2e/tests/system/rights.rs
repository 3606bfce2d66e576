//! Who may do what: every endpoint of the document against every kind of caller, of this estate and of another.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::TcpStream;

use api::people::rights::{Right, Role};
use domain::access::Rights;
use domain::access::for_tokens;
use domain::access::role_rights;
use e2e::service::{ESTATE, Service};
use lorawan::Eui64;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::scenes::{APP_KEY, DEV_EUI, GATEWAY, JOIN_EUI, radio};

/// Another owner's estate in the same installation.
pub(crate) const OTHER: &str = "saltholm";
pub(crate) const OTHER_DEVICE: Eui64 = Eui64(0x02b0_0900_0000_00f1);
const OTHER_GATEWAY: Eui64 = Eui64(0x02a1_f000_0000_00f1);
/// A device in a fleet of its own.
const APART: Eui64 = Eui64(0x02b0_0900_0000_0002);

/// What somebody with only a part of an estate reaches beside the devices in it: lists, limited to that part.
const IN_PART: [&str; 24] = [
    "export_traffic",
    "list_fleets",
    "show_fleet",
    "list_devices",
    "print_labels",
    "export_devices",
    "chart",
    "export_readings",
    "find",
    "show_watch",
    "list_decode_failures",
    "history",
    "live",
    "next_messages",
    "connect_to_messages",
    "stream_messages",
    "add_device",
    "show_survey",
    "survey_tile",
    "list_hexagons",
    "show_surveyed_place",
    "list_areas",
    "list_changes",
    "show_signal",
];
/// Would end what the test goes on with; each has a test of its own.
const ENDS_ITSELF: [&str; 3] = ["sign_out", "end_other_sign_ins", "leave"];

/// A caller.
pub(crate) struct Actor {
    name: &'static str,
    pub token: String,
    /// Whether they have signed in, rather than having an access token.
    signed_in: bool,
    rights: Rights,
    /// Whether they reach only the device of the tests' fleet, and what is in that fleet.
    part: bool,
    keeps: bool,
    /// Whether there is anything for them in the estate.
    member: bool,
}

#[derive(Debug, PartialEq, Eq)]
enum Answered {
    LetThrough,
    SignIn,
    Forbidden,
    NoEstate,
}

fn told(status: StatusCode, problem: &Value) -> Answered {
    let title = problem["title"].as_str().unwrap_or_default();
    match status.as_u16() {
        401 if problem["code"] == "sign_in" => Answered::SignIn,
        403 => Answered::Forbidden,
        404 if title == "There is no such estate" => Answered::NoEstate,
        _ => Answered::LetThrough,
    }
}

struct Operation {
    method: Method,
    path: String,
    name: String,
    needs: String,
}

async fn operations(service: &Service) -> Vec<Operation> {
    let document: Value =
        reqwest::get(format!("{}/api/openapi.json", service.http)).await.unwrap().json().await.unwrap();
    let mut all = Vec::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            all.push(Operation {
                method: method.to_uppercase().parse().unwrap(),
                path: path.trim_start_matches("/api/v1").to_owned(),
                name: operation["operationId"].as_str().unwrap().to_owned(),
                needs: operation["x-right"].as_str().unwrap_or_else(|| panic!("{path} states no right")).to_owned(),
            });
        }
    }
    all
}

/// Two estates with devices of the same names.
pub(crate) async fn two_estates() -> (Service, String) {
    let service = Service::first_start().await;
    for (slug, eui, name) in [("bench", DEV_EUI, "probe-1"), ("apart", APART, "probe-2")] {
        let _: Value = service.post("fleets", json!({ "slug": slug })).await;
        let device = json!({ "dev_eui": eui, "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(), "name": name,
            "fleet": slug, "radio": radio() });
        let _: Value = service.post("devices", device).await;
    }
    let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "bench" })).await;
    let founded: Value = service
        .done(
            Method::POST,
            "/installation/estates",
            Some(json!({ "slug": OTHER, "name": "Saltholm", "owner": "Runa" })),
        )
        .await;
    let runa = service.take(&founded["owner"]["code"], "runa").await;
    for (path, body) in [
        ("fleets", json!({ "slug": "bench" })),
        ("gateways", json!({ "eui": OTHER_GATEWAY, "name": "bench" })),
        (
            "devices",
            json!({ "dev_eui": OTHER_DEVICE, "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(), "name": "probe-1",
            "fleet": "bench", "radio": radio() }),
        ),
    ] {
        let path = format!("/estates/{OTHER}/{path}");
        let (status, answer) = service.by(&runa, Method::POST, &path, Some(body)).await;
        assert!(status.is_success(), "{path}: {answer}");
    }
    (service, runa)
}

async fn actors(service: &Service, runa: String) -> Vec<Actor> {
    let actor = |name, token: String, signed_in, rights: Rights, part, member| Actor {
        name,
        token,
        signed_in,
        rights,
        part,
        keeps: name == "owner",
        member,
    };
    let mut all = vec![
        actor("nobody", String::new(), false, Rights::NONE, false, false),
        actor("forged", format!("khr_{}", "0".repeat(64)), false, Rights::NONE, false, false),
        actor("owner", service.token().to_owned(), true, role_rights(Role::Owner), false, true),
        actor("owner elsewhere", runa, true, Rights::NONE, false, false),
    ];
    for (name, role) in [("viewer", Role::Viewer), ("operator", Role::Operator), ("engineer", Role::Engineer)] {
        let token = service.invited(json!({ "role": role }), name).await;
        all.push(actor(name, token, true, role_rights(role), false, true));
    }
    let share = |scope: Value, may: &str| json!({ "share": { "scope": scope, "may": may } });
    let reader = service.invited(share(json!({ "fleet": "bench" }), "read"), "reader").await;
    all.push(actor("reader of a fleet", reader, true, role_rights(Role::Viewer), true, true));
    let minder = service.invited(share(json!({ "device": DEV_EUI }), "operate"), "minder").await;
    all.push(actor("operator of a device", minder.clone(), true, role_rights(Role::Operator), true, true));
    let every: Vec<Right> = for_tokens().collect();
    for (name, by, rights, scope) in [
        ("token with all rights", service.token(), every.clone(), json!("estate")),
        ("token to view", service.token(), vec![Right::View], json!("estate")),
        (
            "token of a fleet",
            service.token(),
            vec![Right::View, Right::Devices, Right::Keys],
            json!({ "fleet": "bench" }),
        ),
        ("token of a share", minder.as_str(), vec![Right::Send], json!({ "device": DEV_EUI })),
    ] {
        let (secret, _) = service.token_of(by, json!({ "name": name, "rights": rights, "scope": scope })).await;
        all.push(actor(name, secret, false, rights.into_iter().collect(), scope != json!("estate"), true));
    }
    all
}

/// With the names of things in an estate; what could be removed by those who may is named as nothing that is there.
fn filled(path: &str, estate: &str, device: Eui64, gateway: Eui64, method: &Method) -> String {
    let absent = *method == Method::DELETE;
    let eui = match path {
        _ if path.contains("/gateways/") && absent => Eui64(1).to_string(),
        _ if path.contains("/gateways/") => gateway.to_string(),
        _ if path.ends_with("/devices/{eui}") && absent => Eui64(1).to_string(),
        _ => device.to_string(),
    };
    let fleet = if absent { "none" } else { "bench" };
    path.replace("{estate}", estate)
        .replace("{eui}", &eui)
        .replace("{fleet}", fleet)
        .replace("{region}", "EU868")
        .replace("{name}", "nobody-of-that-name")
        .replace("{edition}", "1")
        .replace("{id}", "0")
        .replace(['{', '}'], "")
}

fn expected(actor: &Actor, operation: &Operation) -> Answered {
    let needs = operation.needs.as_str();
    if needs == "none" {
        return Answered::LetThrough;
    }
    if actor.token.is_empty() || actor.name == "forged" {
        return Answered::SignIn;
    }
    let let_through = |yes: bool| if yes { Answered::LetThrough } else { Answered::Forbidden };
    match needs {
        "anyone" => Answered::LetThrough,
        "oneself" => let_through(actor.signed_in),
        "installation" => let_through(actor.keeps),
        _ if !actor.member && (needs != "member" || actor.signed_in) => Answered::NoEstate,
        "member" => let_through(actor.signed_in),
        right => {
            let has = actor.rights.has(right.parse().unwrap());
            let reached =
                !actor.part || operation.path.contains("/devices/{eui}") || IN_PART.contains(&&*operation.name);
            let_through(has && reached)
        }
    }
}

#[tokio::test]
async fn every_endpoint_lets_through_whom_it_should_and_nobody_else() {
    let (service, runa) = two_estates().await;
    let actors = actors(&service, runa).await;
    let operations = operations(&service).await;
    let mut asked = 0;
    for operation in &operations {
        if ENDS_ITSELF.contains(&operation.name.as_str()) {
            continue;
        }
        let path = filled(&operation.path, ESTATE, DEV_EUI, GATEWAY, &operation.method);
        for actor in &actors {
            let (status, answer) = service.by(&actor.token, operation.method.clone(), &path, Some(json!({}))).await;
            let (told, expected) = (told(status, &answer), expected(actor, operation));
            assert_eq!(
                told, expected,
                "{}: {} {path} ({}): {status} {answer}",
                actor.name, operation.method, operation.needs
            );
            asked += 1;
        }
    }
    println!("{} callers, {} endpoints, {asked} requests", actors.len(), operations.len());
    assert!(asked >= 1500, "{asked}");
    // What was not allowed has left the estate as it is, and is in the audit log.
    let devices: Value = service.get("devices").await;
    assert_eq!(devices["items"].as_array().unwrap().len(), 2);
    let refusals: Value = service.get("audit?kind=refusal&limit=500").await;
    let mut by: BTreeMap<String, usize> = BTreeMap::new();
    for entry in refusals["items"].as_array().unwrap() {
        *by.entry(format!("{} {}", entry["who"], entry["token"])).or_default() += 1;
    }
    // Of a caller who is refused all the time, some are written down and the others are counted.
    assert!(by.len() >= 8 && by.values().all(|count| (1..=25).contains(count)), "{by:?}");
}

/// What is answered to a request whose body never comes; the head and the first bytes of it.
fn answered_without_body(service: &Service, token: &str, (method, path): (&Method, &str)) -> String {
    let mut stream = TcpStream::connect(service.http.trim_start_matches("http://")).unwrap();
    stream.set_read_timeout(Some(e2e::wait::PATIENCE)).unwrap();
    let bearer = if token.is_empty() { String::new() } else { format!("authorization: Bearer {token}\r\n") };
    write!(
        stream,
        "{method} {}{path} HTTP/1.1\r\nhost: localhost\r\n{bearer}content-type: application/json\r\ncontent-length: 900000\r\n\r\n",
        api::BASE
    )
    .unwrap();
    let mut answer = vec![0; 64 * 1024];
    let mut length = 0;
    // It has said all once it has said as much as it announced.
    loop {
        length += stream.read(&mut answer[length..]).unwrap();
        let text = String::from_utf8_lossy(&answer[..length]);
        let Some((head, body)) = text.split_once("\r\n\r\n") else { continue };
        let announced =
            head.lines().find_map(|line| line.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok());
        if body.len() >= announced.unwrap_or(0) {
            return text.into_owned();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_refused_is_told_before_the_body_is_there_and_in_few_words() {
    let (service, runa) = two_estates().await;
    let actors = actors(&service, runa).await;
    let operations = operations(&service).await;
    let mut asked = 0;
    for actor in actors.iter().filter(|actor| ["nobody", "owner elsewhere", "reader of a fleet"].contains(&actor.name))
    {
        for operation in &operations {
            let refused = expected(actor, operation);
            if refused == Answered::LetThrough || ENDS_ITSELF.contains(&operation.name.as_str()) {
                continue;
            }
            let path = filled(&operation.path, ESTATE, DEV_EUI, GATEWAY, &operation.method);
            let answer = answered_without_body(&service, &actor.token, (&operation.method, &path));
            let (head, body) = answer.split_once("\r\n\r\n").unwrap();
            let status = head.split(' ').nth(1).unwrap().parse().unwrap();
            let problem = serde_json::from_str(body).unwrap_or_else(|why| panic!("{path}: {why}: {answer}"));
            assert_eq!(told(status, &problem), refused, "{}: {} {path}: {answer}", actor.name, operation.method);
            assert!(answer.len() < 2_000, "{path}: {} bytes: {answer}", answer.len());
            asked += 1;
        }
    }
    println!("{asked} requests");
    assert!(asked >= 250, "{asked}");
}

#[tokio::test]
async fn what_belongs_to_one_estate_is_not_found_from_another() {
    let (service, runa) = two_estates().await;
    let (full, _) =
        service.token_in(OTHER, &runa, json!({ "name": "all", "rights": for_tokens().collect::<Vec<_>>() })).await;
    let group = json!({ "name": "all", "fleet": "bench", "class": "C", "region": "EU868", "members": [] });
    let group: Value = service.post("groups", group).await;
    let credential: Value = service
        .post(&format!("gateways/{GATEWAY}/credentials"), json!({ "kind": "token", "purpose": "traffic" }))
        .await;
    let item: Value = service.post(&format!("devices/{DEV_EUI}/outbox"), json!({ "port": 2, "payload": "01" })).await;
    let (_, token) = service.token_of(service.token(), json!({ "name": "t", "rights": ["view"] })).await;
    let invitation: Value =
        service.post("invitations", json!({ "for_whom": "x", "offer": { "role": "viewer" } })).await;
    let _ = service.invited(json!({ "share": { "scope": { "fleet": "bench" }, "may": "read" } }), "reader").await;
    let shares: Value = service.get("shares").await;
    let ids = [
        ("/groups/{eui}", "{eui}", group["eui"].as_str().unwrap().to_owned()),
        ("/gateways/{eui}", "{eui}", GATEWAY.to_string()),
        ("/devices/{eui}", "{eui}", DEV_EUI.to_string()),
        ("/credentials/{id}", "{id}", credential["credential"]["id"].as_str().unwrap_or("0").to_owned()),
        ("/outbox/{id}", "{id}", item["id"].as_str().unwrap().to_owned()),
        ("/tokens/{id}", "{id}", token.to_string()),
        ("/invitations/{id}", "{id}", invitation["invitation"]["id"].to_string()),
        ("/shares/{id}", "{id}", shares[0]["id"].to_string()),
        ("/people/{name}", "{name}", "owner".to_owned()),
    ];
    let body = json!({ "role": "viewer", "may": "read", "port": 2, "payload": "01", "members": [], "kind": "token",
        "purpose": "traffic", "name": "x", "last_counter_up": 1 });
    let mut asked = 0;
    for operation in operations(&service).await {
        let Some(named) = ids.iter().find(|(part, ..)| operation.path.contains(part)) else { continue };
        let mut path = operation.path.replace("{estate}", OTHER);
        for (part, name, id) in &ids {
            if operation.path.contains(part) {
                path = path.replacen(name, id, 1);
            }
        }
        let path = path.replace("{id}", "0");
        for token in [&runa, &full] {
            let (status, answer) = service.by(token, operation.method.clone(), &path, Some(body.clone())).await;
            let not_there = [404, 400, 422].contains(&status.as_u16())
                || (token == &full && status == 403)
                || (named.0 == "/people/{name}" && status == 404);
            assert!(not_there, "{} {path}: {status} {answer}", operation.method);
            let text = answer.to_string();
            assert!(!text.contains("probe-2") && !text.contains(&APP_KEY.to_hex()), "{path}: {text}");
            asked += 1;
        }
    }
    assert!(asked > 60, "{asked}");
    // Ids that stand in bodies.
    for (path, body) in [
        ("chart", json!({ "lines": [{ "device": DEV_EUI, "reading": "level" }] })),
        ("devices/change", json!({ "devices": [DEV_EUI], "change": { "description": "mine" } })),
        ("groups", json!({ "name": "g", "fleet": "bench", "class": "C", "region": "EU868", "members": [DEV_EUI] })),
        ("tokens", json!({ "name": "t", "rights": ["view"], "scope": { "device": DEV_EUI } })),
        ("tokens", json!({ "name": "t", "rights": ["view"], "scope": { "fleet": "apart" } })),
        (
            "invitations",
            json!({ "for_whom": "x", "offer": { "share": { "scope": { "device": DEV_EUI }, "may": "read" } } }),
        ),
        ("frame", json!({ "frame": "40", "device": DEV_EUI })),
    ] {
        let (status, answer) = service.by(&runa, Method::POST, &format!("/estates/{OTHER}/{path}"), Some(body)).await;
        assert!([404, 422].contains(&status.as_u16()), "{path}: {status} {answer}");
    }
    let device: Value = service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!((&device["name"], &device["description"]), (&json!("probe-1"), &json!("")));
    // What is registered elsewhere is taken, and nothing else is said of it.
    let again = json!({ "dev_eui": DEV_EUI, "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(), "name": "mine", "fleet": "bench" });
    let (status, answer) = service.by(&runa, Method::POST, &format!("/estates/{OTHER}/devices"), Some(again)).await;
    assert_eq!(status, 409);
    assert!(!answer.to_string().contains(ESTATE) && !answer.to_string().contains("probe-1"), "{answer}");
}

#[tokio::test]
async fn nothing_of_one_estate_shows_in_lists_of_another() {
    let (service, runa) = two_estates().await;
    for list in [
        "devices",
        "gateways",
        "fleets",
        "find?text=probe",
        "traffic",
        "people",
        "audit",
        "tokens",
        "groups",
        "watch",
        "devices/export",
        "readings/export",
        "traffic/export",
        "airtime",
        "devices/strangers",
    ] {
        let (status, answer) = service.by(&runa, Method::GET, &format!("/estates/{OTHER}/{list}"), None).await;
        assert_eq!(status, 200, "{list}: {answer}");
        let text = answer.to_string();
        for own in [DEV_EUI.to_string(), APART.to_string(), GATEWAY.to_string(), "probe-2".into(), "apart".into()] {
            assert!(!text.contains(&own), "{list} shows {own}: {text}");
        }
    }
    // Who keeps the installation sees that the other estate is there, and nothing in it.
    let estates: Value = service.done(Method::GET, "/installation/estates", None).await;
    let names: Vec<_> = estates["items"].as_array().unwrap().iter().map(|e| (&e["slug"], &e["owners"][0])).collect();
    assert_eq!(names, [(&json!(OTHER), &json!("runa")), (&json!(ESTATE), &json!("owner"))]);
    let (status, _) = service.call(Method::GET, &format!("/estates/{OTHER}/devices"), None).await;
    assert_eq!(status, 404);
}

#[tokio::test]
async fn a_part_of_an_estate_shows_that_part() {
    let (service, _) = two_estates().await;
    let reader = service.invited(json!({ "share": { "scope": { "fleet": "bench" }, "may": "read" } }), "reader").await;
    let see = async |path: &str| {
        let (status, answer) = service.by(&reader, Method::GET, &format!("/estates/{ESTATE}/{path}"), None).await;
        (status.as_u16(), answer)
    };
    let (_, devices) = see("devices").await;
    let names: Vec<_> = devices["items"].as_array().unwrap().iter().map(|d| d["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["probe-1"]);
    let (_, fleets) = see("fleets").await;
    assert_eq!(fleets["items"].as_array().unwrap().len(), 1);
    let (_, found) = see("find?text=probe").await;
    assert_eq!(found["items"].as_array().unwrap().len(), 1);
    let (_, csv) = see("devices/export").await;
    assert!(csv.as_str().unwrap().contains("probe-1") && !csv.as_str().unwrap().contains("probe-2"));
    assert_eq!(see(&format!("devices/{DEV_EUI}")).await.0, 200);
    assert_eq!(see(&format!("devices/{APART}")).await.0, 404);
    assert_eq!(see("fleets/apart").await.0, 404);
    let (status, problem) = see("gateways").await;
    assert_eq!((status, &problem["code"]), (403, &json!("beyond")));
    let (_, me) = service.by(&reader, Method::GET, "/me", None).await;
    assert_eq!(me["estates"][0]["only"], json!([{ "fleet": "bench" }]));
    assert_eq!(see("devices/export?keys=true").await.0, 403);
}

//! The edge towards the network: TLS, cookies, headers, and what is thrown at it.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::time::Duration;

use e2e::service::{ESTATE, Service};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use crate::scenes::{Bench, DEV_EUI};

async fn cookie_of(service: &Service, client: &Client) -> String {
    let body = json!({ "name": "owner", "password": service.password });
    let answer = client.post(format!("{}/api/v1/sign-in", service.http)).json(&body).send().await.unwrap();
    answer.headers()["set-cookie"].to_str().unwrap().to_owned()
}

#[tokio::test]
async fn over_tls_with_a_certificate_of_its_own_authority() {
    let service = Service::started_with(&["--http-tls"]).await;
    assert!(service.http.starts_with("https://127.0.0.1:"), "{}", service.http);
    let authority = std::fs::read(service.data().join("authority.pem")).unwrap();
    let trusting =
        Client::builder().tls_certs_only([reqwest::Certificate::from_pem(&authority).unwrap()]).build().unwrap();
    let cookie = cookie_of(&service, &trusting).await;
    assert!(cookie.starts_with("__Host-keen_heron=") && cookie.contains("; Secure"), "{cookie}");
    assert!(cookie.contains("; HttpOnly; SameSite=Strict") && cookie.contains("Path=/"), "{cookie}");
    let page = trusting.get(format!("{}/watch", service.http)).send().await.unwrap();
    assert_eq!(page.headers()["strict-transport-security"], "max-age=31536000");
    let stranger = Client::new().get(format!("{}/api/v1/health", service.http)).send().await;
    assert!(stranger.is_err(), "nobody else vouches for it");
    let plain = Client::new().get(service.http.replace("https", "http")).send().await;
    assert!(plain.is_err(), "nothing is answered in the clear");
    // The client keeps what it checks the service against.
    let trust = service.data().join("authority.pem");
    let url = service.http.clone();
    let refused = service.heron(&["login", &url, "--password-stdin"]);
    assert!(!refused.status.success());
    service.sign_heron_in_with(&["--trust", trust.to_str().unwrap()]);
    assert!(service.heron_says(&["estate", "list"]).contains(ESTATE));
}

#[tokio::test]
async fn browsers_are_told_what_the_page_may_do() {
    let service = Service::first_start().await;
    let get = async |path: &str| Client::new().get(format!("{}{path}", service.http)).send().await.unwrap();
    let page = get("/watch").await;
    let policy = page.headers()["content-security-policy"].to_str().unwrap().to_owned();
    assert!(policy.contains("script-src 'self'") && policy.contains("style-src 'self' 'nonce-"), "{policy}");
    assert!(!policy.contains("unsafe") && policy.contains("frame-ancestors 'none'"), "{policy}");
    let answer = get("/api/v1/health").await;
    for (name, value) in [
        ("x-content-type-options", "nosniff"),
        ("x-frame-options", "DENY"),
        ("referrer-policy", "no-referrer"),
        ("cross-origin-opener-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
        ("cache-control", "no-store"),
    ] {
        assert_eq!(answer.headers()[name], value, "{name}");
    }
    assert!(answer.headers()["content-security-policy"].to_str().unwrap().starts_with("default-src 'none'"));
    assert!(!answer.headers().contains_key("access-control-allow-origin"), "no other site reads answers");
}

#[tokio::test]
async fn a_cookie_works_from_the_console_alone() {
    let service = Service::first_start().await;
    let client = Client::new();
    let cookie = cookie_of(&service, &client).await;
    let cookie = cookie.split(';').next().unwrap();
    let address = format!("{}/api/v1/estates/{ESTATE}/fleets", service.http);
    let add = async |origin: Option<&str>, slug: &str| {
        let mut request = client.post(&address).header("cookie", cookie).json(&json!({ "slug": slug }));
        if let Some(origin) = origin {
            request = request.header("origin", origin);
        }
        request.send().await.unwrap().status().as_u16()
    };
    assert_eq!(add(Some("https://elsewhere.example"), "a").await, 403);
    assert_eq!(add(Some("null"), "a").await, 403);
    assert_eq!(add(None, "a").await, 403, "a browser says where it comes from");
    assert_eq!(add(Some(&service.http), "b").await, 201);
    let fleets: Value = service.get("fleets").await;
    assert_eq!(fleets["items"].as_array().unwrap().len(), 1);
    // A name that somebody made to point here is not answered to.
    let foreign = client.get(format!("{}/api/v1/health", service.http)).header("host", "elsewhere.example");
    assert_eq!(foreign.send().await.unwrap().status(), StatusCode::MISDIRECTED_REQUEST);
}

#[tokio::test]
async fn tokens_that_are_none_and_tricks_with_headers_and_paths_lead_nowhere() {
    let service = Service::first_start().await;
    let client = Client::new();
    let ask = async |header: (&'static str, String)| {
        let request = client.get(format!("{}/api/v1/me", service.http)).header(header.0, header.1);
        request.send().await.unwrap().status().as_u16()
    };
    let own = service.token();
    for token in ["", "x", "khr_", "' OR 1=1 --", &own[..63], &format!("{own}0"), &own.to_uppercase()] {
        assert_eq!(ask(("authorization", format!("Bearer {token}"))).await, 401, "{token}");
    }
    assert_eq!(ask(("authorization", format!("Basic {own}"))).await, 401);
    assert_eq!(ask(("x-forwarded-user", "owner".into())).await, 401);
    assert_eq!(ask(("cookie", "keen_heron=; keen_heron=x".into())).await, 401);
    let path = async |path: &str, header: Option<(&'static str, &'static str)>| {
        let mut request = client.get(format!("{}{path}", service.http)).bearer_auth(own);
        if let Some((name, value)) = header {
            request = request.header(name, value);
        }
        let answer = request.send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    for (tried, header) in [
        ("/api/v1/estates/TARNSEY/devices", None),
        ("/api/v1/estates/tarnsey%00/devices", None),
        ("/api/v1/estates/tarnsey%2F..%2Fother/devices", None),
        ("/api/v1//estates/tarnsey/devices", None),
        ("/api/v1/estates/nowhere/devices", Some(("x-original-url", "/api/v1/estates/tarnsey/devices"))),
        ("/api/v1/nothing", Some(("x-http-method-override", "DELETE"))),
    ] {
        let (status, text) = path(tried, header).await;
        assert_eq!(status, 404, "{tried}: {text}");
    }
    // The address in the audit log is the caller's own, whatever they say it is.
    let fleet =
        service.request(Method::POST, &format!("/estates/{ESTATE}/fleets")).header("x-forwarded-for", "192.0.2.7");
    assert!(fleet.json(&json!({ "slug": "f" })).send().await.unwrap().status().is_success());
    let audit: Value = service.get("audit").await;
    assert_eq!(audit["items"][0]["address"], json!("127.0.0.1"));
}

#[tokio::test]
async fn bodies_that_are_too_large_too_deep_or_of_another_kind_are_refused() {
    let service = Service::first_start().await;
    let send = async |kind: &'static str, body: String| {
        let request = service.request(Method::POST, &format!("/estates/{ESTATE}/fleets")).header("content-type", kind);
        let answer = request.body(body).send().await.unwrap();
        let status = answer.status().as_u16();
        (status, serde_json::from_str::<Value>(&answer.text().await.unwrap()).unwrap_or_default())
    };
    let deep = format!("{}{}", "[".repeat(200_000), "]".repeat(200_000));
    assert!([400, 422].contains(&send("application/json", deep).await.0));
    let deep = format!("{{\"slug\":{}1{}}}", "{\"a\":".repeat(100_000), "}".repeat(100_000));
    assert!([400, 422].contains(&send("application/json", deep).await.0));
    let (status, problem) = send("application/json", format!("{{\"slug\":\"{}\"}}", "x".repeat(2 << 20))).await;
    assert_eq!((status, &problem["code"]), (413, &json!("too_large")));
    for kind in ["text/plain", "application/x-www-form-urlencoded", "multipart/form-data"] {
        let (status, problem) = send(kind, "{\"slug\":\"f\"}".into()).await;
        assert_eq!((status, &problem["code"]), (415, &json!("not_json")), "{kind}");
    }
    let (status, _) = send("application/json", "{\"slug\":\"f\",\"estate_id\":2,\"id\":1}".into()).await;
    assert!([200, 201, 422].contains(&status));
    let estates: Value = service.done(Method::GET, "/estates", None).await;
    assert_eq!(estates["items"].as_array().unwrap().len(), 1);
}

#[tokio::test]
async fn whatever_people_write_is_kept_and_shown_as_text() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let nasty = "=1+1'\"; DROP TABLE devices; --<script>alert(1)</script>\\";
    let device = format!("/estates/{ESTATE}/devices/{DEV_EUI}");
    let change = json!({ "name": nasty, "description": nasty, "add_tags": [] });
    let _: Value = service.done(Method::PATCH, &device, Some(change)).await;
    let back: Value = service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!((&back["name"], &back["description"]), (&json!(nasty), &json!(nasty)));
    let found: Value = service.get("devices?find=%27%22%3B%20DROP").await;
    assert_eq!(found["items"].as_array().unwrap().len(), 1);
    for path in ["find?text=%25", "audit?what=%25%27%20OR%20%271", "traffic?type=uplink%27"] {
        let (status, answer) = service.call(Method::GET, &format!("/estates/{ESTATE}/{path}"), None).await;
        assert!([200, 201, 422].contains(&status.as_u16()), "{path}: {answer}");
    }
    let csv = service.call(Method::GET, &format!("/estates/{ESTATE}/devices/export"), None).await.1;
    assert!(csv.as_str().unwrap().contains("'=1+1"), "a spreadsheet runs nothing: {csv}");
    let written: Value = service.post("invitations", json!({ "for_whom": nasty, "offer": { "role": "viewer" } })).await;
    assert_eq!(written["invitation"]["for_whom"], json!(nasty));
    let (_, token) = service.token_of(service.token(), json!({ "name": nasty, "rights": ["view"] })).await;
    let tokens: Vec<Value> = service.list("tokens").await;
    assert_eq!((&tokens[0]["name"], &tokens[0]["id"]), (&json!(nasty), &json!(token)));
}

#[tokio::test]
async fn the_second_of_two_who_change_one_thing_is_told() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let device: Value = service.get(&format!("devices/{DEV_EUI}")).await;
    let change = async |revision: &Value, description: &str| {
        let request = service.request(Method::PATCH, &format!("/estates/{ESTATE}/devices/{DEV_EUI}"));
        let request = request.header("if-match", format!("\"{}\"", revision.as_str().unwrap()));
        let answer = request.json(&json!({ "description": description })).send().await.unwrap();
        let status = answer.status().as_u16();
        (status, answer.json::<Value>().await.unwrap())
    };
    // Both have looked at the same; they send at once.
    let (one, other) = tokio::join!(change(&device["revision"], "one"), change(&device["revision"], "other"));
    let mut statuses = [one.0, other.0];
    statuses.sort_unstable();
    assert_eq!(statuses, [200, 412], "{one:?} {other:?}");
    let (won, lost) = if one.0 == 200 { ("one", &other.1) } else { ("other", &one.1) };
    assert_eq!(lost["code"], json!("changed_meanwhile"));
    let now: Value = service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!(now["description"], json!(won), "nothing is lost");
    assert_eq!(change(&now["revision"], "both").await.0, 200);
}

#[tokio::test]
async fn slow_and_silent_callers_are_let_go() {
    let service = Service::first_start().await;
    let address = service.http.trim_start_matches("http://").to_owned();
    let slow = std::thread::spawn(move || {
        let mut stream = TcpStream::connect(&address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        // A body that is told and never comes.
        let head = format!(
            "POST /api/v1/sign-in HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{{"
        );
        stream.write_all(head.as_bytes()).unwrap();
        let mut answer = [0; 64];
        let read = stream.read(&mut answer).unwrap();
        String::from_utf8_lossy(&answer[..read]).into_owned()
    });
    let answer = tokio::task::spawn_blocking(move || slow.join().unwrap()).await.unwrap();
    assert!(answer.is_empty() || answer.starts_with("HTTP/1.1 4"), "{answer}");
    let _: Value = service.done(Method::GET, "/me", None).await;
}

#[tokio::test]
async fn a_start_that_exposes_an_installation_says_so() {
    let mut service = Service::started_with(&["--http-names", "127.0.0.1,heron.example"]).await;
    assert!(service.stop());
    let said = service.says_at_start_on("0.0.0.0:0");
    assert!(said.contains("ATTENTION") && said.contains("beyond this machine"), "{said}");
    assert!(said.contains("in the clear") && said.contains("printed for them: owner"), "{said}");
}

#[tokio::test]
async fn names_in_any_script_are_kept_and_those_that_cannot_be_are_of_nothing() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let name = "潮位計 №1 🌊 Ærø";
    let device = format!("/estates/{ESTATE}/devices/{DEV_EUI}");
    let told: Value = service.done(Method::PATCH, &device, Some(json!({ "name": name }))).await;
    assert_eq!(told["name"], json!(name));
    let audit: Value = service.get("audit?what=change_device").await;
    assert_eq!(audit["items"][0]["differences"][0]["after"], json!(name));
    let none: Value = service.get("audit?what=%E6%BD%AE").await;
    assert_eq!(none["items"], json!([]), "what was done, and to what, has no such characters");
    let odd = "%F2%9B%8D%B4%3Bt%C3%A5";
    for (method, path) in [
        (Method::GET, format!("/estates/{odd}/devices")),
        (Method::GET, format!("/estates/{ESTATE}/fleets/{odd}")),
        (Method::DELETE, format!("/estates/{ESTATE}/models/{odd}")),
        (Method::DELETE, format!("/estates/{ESTATE}/profiles/{odd}")),
        (Method::GET, format!("/estates/{ESTATE}/jobs/{odd}")),
        (Method::DELETE, format!("/estates/{ESTATE}/people/{odd}")),
    ] {
        let (status, problem) = service.call(method, &path, None).await;
        assert_eq!((status.as_u16(), &problem["code"]), (404, &json!("not_found")), "{path}: {problem}");
    }
    let (status, _) = service.by("", Method::POST, "/sign-in", Some(json!({ "name": name, "password": "x" }))).await;
    assert_eq!(status, 401);
    let (status, problem) = service.call(Method::GET, "/installation/audit?after=%F3%96%8B%8C", None).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("after")));
}

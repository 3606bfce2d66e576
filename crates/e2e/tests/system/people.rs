//! Coming in, being let in, and leaving.

use std::time::{SystemTime, UNIX_EPOCH};

use e2e::service::{ESTATE, Service};
use eventsource_stream::Eventsource as _;
use futures::StreamExt as _;
use reqwest::Method;
use serde_json::{Value, json};
use totp_rs::{Builder, Secret};

use crate::scenes::{APP_KEY, Bench, DEV_EUI};

const PASSWORD: &str = "reed bed lantern ocean";

async fn sign_in(service: &Service, name: &str, password: &str, code: Option<&str>) -> (u16, Value) {
    let body = json!({ "name": name, "password": password, "code": code });
    let (status, answer) = service.by("", Method::POST, "/sign-in", Some(body)).await;
    (status.as_u16(), answer)
}

/// The code that an app shows, some intervals from now.
pub(crate) fn code(secret: &str, later: u64) -> String {
    let secret = Secret::try_from_base32(secret).unwrap();
    let now_s = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs();
    let app = Builder::new().with_secret(secret).with_account_name("x").build().unwrap();
    app.generate(now_s + 30 * later).to_string()
}

#[tokio::test]
async fn an_invitation_is_good_once_and_for_what_it_says() {
    let service = Service::first_start().await;
    let written: Value =
        service.post("invitations", json!({ "for_whom": "Marit <b>", "offer": { "role": "operator" } })).await;
    let opened: Value = service.done(Method::POST, "/invitations/open", Some(json!({ "code": written["code"] }))).await;
    assert_eq!((&opened["estate"], &opened["offer"]), (&json!(ESTATE), &json!({ "role": "operator" })));
    let account = |name: &str, password: &str| json!({ "code": written["code"], "account": { "name": name, "password": password } });
    let weak = service.by("", Method::POST, "/invitations/take", Some(account("marit", "password1234"))).await;
    assert_eq!((weak.0.as_u16(), &weak.1["field"]), (422, &json!("account.password")));
    let taken = service.by("", Method::POST, "/invitations/take", Some(account("owner", PASSWORD))).await;
    assert_eq!(taken.0, 409, "the name is another's");
    let extra = json!({ "code": written["code"], "account": { "name": "m", "password": PASSWORD, "keeps_installation": true } });
    let extra = service.by("", Method::POST, "/invitations/take", Some(extra)).await;
    assert_eq!(extra.0, 422, "what is not asked for is not taken: {}", extra.1);
    let (status, marit) = service.by("", Method::POST, "/invitations/take", Some(account("marit", PASSWORD))).await;
    assert_eq!((status.as_u16(), &marit["me"]["estates"][0]["role"]), (200, &json!("operator")));
    let again = service.by("", Method::POST, "/invitations/take", Some(account("other", PASSWORD))).await;
    assert_eq!((again.0.as_u16(), &again.1["code"]), (404, &json!("no_invitation")));
    // Withdrawn before it is taken, it is as good as never written.
    let written: Value = service.post("invitations", json!({ "for_whom": "x", "offer": { "role": "owner" } })).await;
    let path = format!("/estates/{ESTATE}/invitations/{}", written["invitation"]["id"]);
    assert_eq!(service.call(Method::DELETE, &path, None).await.0, 204);
    let (status, _) = service.by("", Method::POST, "/invitations/open", Some(json!({ "code": written["code"] }))).await;
    assert_eq!(status, 404);
    let dump = service.dump();
    assert!(!dump.contains(written["code"].as_str().unwrap()) && !dump.contains(PASSWORD), "only hashes are kept");
}

#[tokio::test]
async fn roles_change_and_an_estate_keeps_an_owner() {
    let service = Service::first_start().await;
    let token = service.invited(json!({ "role": "engineer" }), "marit").await;
    let (secret, _) = service.token_of(&token, json!({ "name": "ci", "rights": ["view", "decoders"] })).await;
    let put = |name: &str, body: Value| (Method::PATCH, format!("/estates/{ESTATE}/people/{name}"), Some(body));
    let ask = async |(method, path, body): (Method, String, Option<Value>)| service.call(method, &path, body).await;
    let (status, problem) = ask(put("owner", json!({ "role": "viewer" }))).await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("last_owner")));
    let (status, problem) = ask(put("marit", json!({ "role": "viewer", "was": "operator" }))).await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("changed_meanwhile")), "the second is told");
    assert_eq!(ask(put("marit", json!({ "role": "viewer", "was": "engineer" }))).await.0, 200);
    // A token does no more than its maker may now.
    let models = format!("/estates/{ESTATE}/models/x");
    let (status, problem) = service.by(&secret, Method::PUT, &models, Some(json!({}))).await;
    assert_eq!(status, 403, "{problem}");
    assert_eq!(service.by(&secret, Method::GET, &format!("/estates/{ESTATE}/models"), None).await.0, 200);
    assert_eq!(service.call(Method::DELETE, &format!("/estates/{ESTATE}/people/marit"), None).await.0, 204);
    for token in [&token, &secret] {
        let (status, _) = service.by(token, Method::GET, &format!("/estates/{ESTATE}/models"), None).await;
        assert!([401, 404].contains(&status.as_u16()), "{status}");
    }
    let left = service.call(Method::POST, &format!("/estates/{ESTATE}/leave"), None).await;
    assert_eq!(left.1["code"], json!("last_owner"));
}

#[tokio::test]
async fn two_steps_take_each_code_once() {
    let service = Service::first_start().await;
    let token = service.invited(json!({ "role": "viewer" }), "marit").await;
    let ask = async |method: Method, path: &str, body: Value| service.by(&token, method, path, Some(body)).await;
    let password = format!("marit {}", "reed lantern ocean");
    let wrong = ask(Method::POST, "/me/two-step", json!({ "password": "x" })).await;
    assert_eq!((wrong.0.as_u16(), &wrong.1["field"]), (422, &json!("password")));
    let (_, made) = ask(Method::POST, "/me/two-step", json!({ "password": password })).await;
    let secret = made["secret"].as_str().unwrap().to_owned();
    assert!(made["svg"].as_str().unwrap().starts_with("<svg") && made["uri"].as_str().unwrap().contains(&secret));
    assert_eq!(sign_in(&service, "marit", &password, None).await.0, 200, "not before the first code");
    let (status, _) = ask(Method::PUT, "/me/two-step", json!({ "code": "000000" })).await;
    assert_eq!(status, 422);
    let (_, codes) = ask(Method::PUT, "/me/two-step", json!({ "code": code(&secret, 0) })).await;
    assert_eq!(codes["codes"].as_array().unwrap().len(), 10);

    let (status, problem) = sign_in(&service, "marit", &password, None).await;
    assert_eq!((status, &problem["code"]), (401, &json!("code_wanted")));
    let (status, problem) = sign_in(&service, "marit", "not it at all", None).await;
    assert_eq!((status, &problem["code"]), (401, &json!("wrong_sign_in")), "the password comes first");
    let next = code(&secret, 1);
    assert_eq!(sign_in(&service, "marit", &password, Some(&next)).await.0, 200);
    let (status, problem) = sign_in(&service, "marit", &password, Some(&next)).await;
    assert_eq!((status, &problem["code"]), (401, &json!("wrong_code")), "a code is good once");
    let recovery = codes["codes"][0].as_str().unwrap().to_uppercase();
    assert_eq!(sign_in(&service, "marit", &password, Some(&recovery)).await.0, 200);
    assert_eq!(sign_in(&service, "marit", &password, Some(&recovery)).await.0, 401);
    let (_, me) = service.by(&token, Method::GET, "/me", None).await;
    assert_eq!((&me["two_step"], &me["recovery_codes"]), (&json!(true), &json!(9)));
    assert!(!service.dump().contains(&secret), "the secret is sealed");

    let told = service.herond_says(&["reset-password", "marit", "--end-two-step"]);
    let given = told.lines().find_map(|line| line.strip_prefix("  password: ")).unwrap();
    assert_eq!(sign_in(&service, "marit", &password, None).await.0, 401);
    assert_eq!(service.by(&token, Method::GET, "/me", None).await.0, 401, "all sign-ins have ended");
    let (status, signed_in) = sign_in(&service, "marit", given, None).await;
    assert_eq!((status, &signed_in["me"]["given_password"]), (200, &json!(true)));
}

#[tokio::test]
async fn sign_ins_are_listed_and_ended_and_a_new_password_ends_the_others() {
    let service = Service::first_start().await;
    let (_, other) = sign_in(&service, "owner", &service.password, None).await;
    let other = other["token"].as_str().unwrap().to_owned();
    let all: Value = service.done(Method::GET, "/me/sign-ins", None).await;
    let list = all["items"].as_array().unwrap();
    assert_eq!((list.len(), list.iter().filter(|one| one["this_one"] == true).count()), (2, 1));
    assert_eq!(list[0]["address"], json!("127.0.0.1"));
    let not_mine = list.iter().find(|one| one["this_one"] == false).unwrap();
    let path = format!("/me/sign-ins/{}", not_mine["id"].as_str().unwrap());
    let stranger = service.invited(json!({ "role": "viewer" }), "marit").await;
    assert_eq!(service.by(&stranger, Method::DELETE, &path, None).await.0, 404, "others' sign-ins are theirs");
    assert_eq!(service.by(&other, Method::GET, "/me", None).await.0, 200);
    assert_eq!(service.call(Method::DELETE, &path, None).await.0, 204);
    assert_eq!(service.by(&other, Method::GET, "/me", None).await.0, 401);

    let (secret, _) =
        service.token_of(service.token(), json!({ "name": "script", "rights": ["view"], "scope": "estate" })).await;
    let (_, other) = sign_in(&service, "owner", &service.password, None).await;
    let new = |current: &str, new: &str| Some(json!({ "current": current, "new": new }));
    let put = async |body| service.call(Method::PUT, "/me/password", body).await;
    assert_eq!(put(new("wrong", PASSWORD)).await.1["field"], json!("current"));
    assert_eq!(put(new(&service.password, "short")).await.1["field"], json!("new"));
    let (status, ended) = put(new(&service.password, PASSWORD)).await;
    assert_eq!((status.as_u16(), ended), (200, json!({ "sign_ins_ended": 1, "tokens_ended": 1 })));
    assert_eq!(service.by(&secret, Method::GET, "/me", None).await.0, 401, "somebody else may have made the token");
    assert_eq!(service.by(other["token"].as_str().unwrap(), Method::GET, "/me", None).await.0, 401);
    let me: Value = service.done(Method::GET, "/me", None).await;
    assert_eq!(me["given_password"], json!(false));
    assert_eq!(sign_in(&service, "owner", PASSWORD, None).await.0, 200);
}

#[tokio::test]
async fn guessing_is_slowed_down_and_tells_nothing() {
    let service = Service::first_start().await;
    // From here the owner has signed in before; nobody of the other name has.
    let mut answers = Vec::new();
    for n in 0..12 {
        answers.push((
            sign_in(&service, "owner", &format!("guess {n}"), None).await,
            sign_in(&service, "nobody", "guess", None).await,
        ));
    }
    for ((known, told), (unknown, told_too)) in &answers {
        assert_eq!((known, told["title"].as_str()), (unknown, told_too["title"].as_str()), "both are answered alike");
    }
    assert_eq!(answers[0].0.0, 401);
    let (status, problem) = &answers[11].0;
    assert_eq!((*status, &problem["code"]), (429, &json!("too_often")));
    let request = service.request(Method::POST, "/sign-in").json(&json!({ "name": "owner", "password": "x" }));
    let answer = request.send().await.unwrap();
    assert!(answer.headers().contains_key("retry-after"));
    // Who is signed in stays signed in.
    let _: Value = service.done(Method::GET, "/me", None).await;
    let entries: Value = service.done(Method::GET, "/installation/audit?kind=sign", None).await;
    assert!(
        entries["items"].as_array().unwrap().iter().any(|entry| entry["who"] == "nobody" && entry["status"] == 401)
    );
}

#[tokio::test]
async fn a_revoked_token_ends_what_it_is_used_for() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let (secret, id) =
        service.token_of(service.token(), json!({ "name": "dashboard", "rights": ["view"], "days": 1 })).await;
    assert!(!service.dump().contains(&secret), "only a hash is kept");
    let client = reqwest::Client::new();
    let address = format!("{}/api/v1/estates/{ESTATE}/live", service.http);
    let stream = client.get(&address).bearer_auth(&secret).send().await.unwrap();
    assert_eq!(stream.status(), 200);
    let mut events = Box::pin(stream.bytes_stream().eventsource());
    let tokens: Vec<Value> = service.list("tokens").await;
    assert_eq!((&tokens[0]["name"], &tokens[0]["last_from"]), (&json!("dashboard"), &json!("127.0.0.1")));
    assert!(tokens[0].get("secret").is_none());
    let path = format!("/estates/{ESTATE}/tokens/{id}");
    assert_eq!(service.call(Method::DELETE, &path, None).await.0, 204);
    // What was on its way may still come.
    let end = async { while events.next().await.is_some() {} };
    tokio::time::timeout(e2e::wait::PATIENCE, end).await.expect("it ends at once");
    assert_eq!(client.get(&address).bearer_auth(&secret).send().await.unwrap().status(), 401);
    // A token that has expired is as good as none; a cookie never holds one.
    let (secret, id) = service.token_of(service.token(), json!({ "name": "old", "rights": ["view"], "days": 1 })).await;
    let by_cookie = client.get(format!("{}/api/v1/me", service.http)).header("cookie", format!("keen_heron={secret}"));
    assert_eq!(by_cookie.send().await.unwrap().status(), 401);
    service.query(&format!("UPDATE access_tokens SET expires_at = '2020-01-01' WHERE id = {id}"));
    assert_eq!(service.by(&secret, Method::GET, "/me", None).await.0, 401);
}

#[tokio::test]
async fn a_share_ends_by_itself_and_takes_its_streams_along() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let until = chrono::Utc::now() + chrono::TimeDelta::seconds(4);
    let share = json!({ "share": { "scope": { "device": DEV_EUI }, "may": "read", "until": until } });
    let reader = service.invited(share, "reader").await;
    let address = format!("{}/api/v1/estates/{ESTATE}/live", service.http);
    let stream = reqwest::Client::new().get(&address).bearer_auth(&reader).send().await.unwrap();
    assert_eq!(stream.status(), 200);
    let mut events = Box::pin(stream.bytes_stream().eventsource());
    let end = async { while events.next().await.is_some() {} };
    tokio::time::timeout(e2e::wait::PATIENCE, end).await.expect("it ends by itself");
    assert!(chrono::Utc::now() >= until);
    assert_eq!(service.by(&reader, Method::GET, &format!("/estates/{ESTATE}/devices"), None).await.0, 404);
}

#[tokio::test]
async fn the_audit_log_tells_who_did_what_and_what_it_changed() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let device = format!("/estates/{ESTATE}/devices/{DEV_EUI}");
    let _: Value = service.done(Method::PATCH, &device, Some(json!({ "description": "by the <sluice>" }))).await;
    let _: Value = service.done(Method::GET, &format!("{device}/keys"), None).await;
    let _: Value = service
        .done(Method::PATCH, &format!("/estates/{ESTATE}/fleets/bench"), Some(json!({ "app_key": APP_KEY.to_hex() })))
        .await;
    let entry = async |query: &str| -> Value {
        let page: Value = service.get(&format!("audit?{query}")).await;
        page["items"][0].clone()
    };
    let change = entry("what=change_device").await;
    assert_eq!((&change["who"], &change["address"]), (&json!("owner"), &json!("127.0.0.1")));
    assert_eq!(change["object"], json!(format!("device probe-1 ({DEV_EUI})")));
    assert_eq!(change["differences"], json!([{ "field": "description", "before": "", "after": "by the <sluice>" }]));
    let shown = entry("kind=secret").await;
    assert_eq!((&shown["action"], &shown["status"]), (&json!("show_keys"), &json!(200)));
    let key = entry("what=fleet%20bench").await;
    assert_eq!(key["differences"], json!([{ "field": "app_key", "after": "changed" }]));
    assert!(!service.query("SELECT * FROM audit").contains(&APP_KEY.to_hex()), "no secret is in it");
    let csv = service.call(Method::GET, &format!("/estates/{ESTATE}/audit/export"), None).await.1;
    assert!(csv.as_str().unwrap().contains("description: \"\"\"\" → \"\"by the <sluice>\"\""), "{csv}");

    // Nothing of it is changed or taken out, even by the service's own account.
    let page: Value = service.get("audit").await;
    assert_eq!((&page["append_only"], &page["kept_days"]), (&json!(true), &json!(730)));
    for statement in ["DELETE FROM audit", "UPDATE audit SET who = 'nobody'"] {
        let why = service.mariadb().refuses(&service.database_name(), statement);
        assert!(why.contains("only added"), "{why}");
    }
}

#[tokio::test]
async fn the_client_does_all_of_it() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let file = service.client_folder().join("sign-ins.json");
    use std::os::unix::fs::PermissionsExt as _;
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let says = |args: &[&str]| service.heron_says(args);
    assert!(says(&["people", "roles"]).contains("ENGINEER"));
    let invited = says(&["invitation", "add", "viewer", "--for", "Marit"]);
    let link = invited.lines().find_map(|line| line.strip_prefix("link")).unwrap().trim().to_owned();
    assert!(link.starts_with(&service.http) && link.contains("/invitation#"), "{link}");
    let folder = service.client_folder().join("marit");
    let by = ["--config", folder.to_str().unwrap()];
    let take = ["invitation", "take", &link, "--new-account", "marit", "--password-stdin"];
    let told = service.heron_fed(&[&by[..], &take[..]].concat(), PASSWORD);
    assert!(told.contains("as marit") && told.contains("tarnsey (viewer)"), "{told}");
    assert!(says(&["people", "list"]).contains("marit"));
    says(&["people", "set", "marit", "--role", "operator"]);
    let by_marit = |args: &[&str]| {
        let out = service.heron(&[&by[..], args].concat());
        (out.status.code(), String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned())
    };
    assert!(by_marit(&["account", "show"]).1.contains("operator"));
    let (code, told) = by_marit(&["fleet", "add", "mine"]);
    assert!(
        code == Some(4) && told.contains("needs the right \"devices\"") && told.contains("operator of tarnsey"),
        "{told}"
    );
    says(&["fleet", "add", "nests"]);
    let shared = says(&["share", "add", "--fleet", "nests", "--for", "observatory", "--may", "read"]);
    assert!(shared.contains("fleet nests, to read"), "{shared}");
    let token = says(&["token", "add", "dashboard", "--rights", "view", "--fleet", "nests", "--days", "9"]);
    let secret = token.lines().find_map(|line| line.strip_prefix("secret")).unwrap().trim().to_owned();
    let out = service.heron_command(&["fleet", "list"]).env("HERON_TOKEN", &secret).output().unwrap();
    assert!(String::from_utf8_lossy(&out.stdout).contains("nests"));
    assert!(says(&["token", "list"]).contains("dashboard"));
    assert!(says(&["token", "remove", "1", "--yes"]).contains("revoked"));
    assert!(says(&["invitation", "list"]).contains("observatory"));
    assert!(says(&["account", "sign-in", "list"]).contains("heron/"));
    let audit = says(&["audit", "list", "--who", "owner", "--what", "fleet"]);
    assert!(audit.contains("add fleet") && audit.contains("slug: nests") && audit.contains("only added"), "{audit}");
    assert!(says(&["audit", "list", "--kind", "refusal"]).contains("marit"));
    let founded = says(&["estate", "add", "saltholm", "--owner", "Runa"]);
    assert!(founded.contains("/invitation#"), "{founded}");
    assert!(says(&["estate", "list", "--all"]).contains("saltholm"));
    let export = service.client_folder().join("audit.csv");
    says(&["audit", "export", "--output", export.to_str().unwrap()]);
    assert!(std::fs::read_to_string(export).unwrap().starts_with("time,kind,who"));
    says(&["people", "remove", "marit", "--yes"]);
    assert!(by_marit(&["fleet", "list"]).1.contains("belongs to no estate"));
}

/// Founds a second estate, and gives the code of its owner's invitation.
async fn found(service: &Service) -> Value {
    let new = json!({ "slug": "saltholm", "name": "Saltholm", "owner": "Runa" });
    let founded: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    founded["owner"]["code"].clone()
}

#[tokio::test]
async fn an_estate_and_an_account_are_removed_with_all_that_is_theirs() {
    let service = Service::first_start().await;
    let (status, problem) = service.call(Method::DELETE, "/estates/tarnsey?everything=true", None).await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("in_use")), "the only estate stays");
    let runa = service.take(&found(&service).await, "runa").await;
    let password = "runa reed lantern ocean";
    let device =
        json!({ "dev_eui": DEV_EUI, "join_eui": "02aa000000000001", "app_key": APP_KEY.to_hex(), "fleet": "buoys" });
    for (path, body) in [
        ("fleets", json!({ "slug": "buoys" })),
        ("devices", device.clone()),
        ("gateways", json!({ "eui": "02a1f00000000071", "name": "north" })),
        ("groups", json!({ "name": "all", "fleet": "buoys", "class": "C" })),
        ("tokens", json!({ "name": "board", "rights": ["view"] })),
    ] {
        let (status, made) = service.by(&runa, Method::POST, &format!("/estates/saltholm/{path}"), Some(body)).await;
        assert_eq!(status, 201, "{path}: {made}");
    }
    let (status, problem) = service.by(&runa, Method::DELETE, "/estates/saltholm", None).await;
    assert!(
        status == 409 && problem["detail"].as_str().unwrap().contains("1 device, 1 gateway and 1 group"),
        "{problem}"
    );
    assert_eq!(service.call(Method::DELETE, "/estates/saltholm?everything=true", None).await.0, 404, "it is not his");
    let (status, _) = service.by(&runa, Method::POST, "/me/remove", Some(json!({ "password": password }))).await;
    assert_eq!(status, 409, "its only owner stays");
    let (status, problem) = service.by(&runa, Method::DELETE, "/estates/saltholm?everything=true", None).await;
    assert_eq!(status, 204, "{problem}");
    assert_eq!(service.by(&runa, Method::GET, "/estates/saltholm", None).await.0, 404);
    for table in ["estates WHERE slug = 'saltholm'", "gateways", "devices", "multicast_groups", "access_tokens"] {
        assert_eq!(service.query(&format!("SELECT COUNT(*) FROM {table}")).trim(), "0", "{table}");
    }
    // What was there can be registered elsewhere.
    let _: Value = service.post("fleets", json!({ "slug": "buoys" })).await;
    let _: Value = service.post("devices", device).await;

    let (status, _) = service.by(&runa, Method::POST, "/me/remove", Some(json!({ "password": "not this one" }))).await;
    assert_eq!(status, 422);
    let (status, problem) = service.by(&runa, Method::POST, "/me/remove", Some(json!({ "password": password }))).await;
    assert_eq!(status, 204, "{problem}");
    assert_eq!(service.by(&runa, Method::GET, "/me", None).await.0, 401);
    assert_eq!(sign_in(&service, "runa", password, None).await.0, 401);
    let own = json!({ "password": service.password });
    let (status, problem) = service.call(Method::POST, "/me/remove", Some(own)).await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("last_owner")));
}

#[tokio::test]
async fn a_device_moves_to_another_estate_with_its_session() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.uplink(&[1], false).await;
    let service = &bench.service;
    let code = found(service).await;
    let taken = service.call(Method::POST, "/invitations/take", Some(json!({ "code": code }))).await;
    assert!(taken.0.is_success(), "{taken:?}");
    let in_other = |path: &str| format!("/estates/saltholm/{path}");
    let _: Value = service.done(Method::POST, &in_other("fleets"), Some(json!({ "slug": "buoys" }))).await;
    let open = json!({ "open_to_others": true });
    let _: Value = service.done(Method::PATCH, &format!("/estates/{ESTATE}/gateways/bench"), Some(open)).await;
    let path = format!("devices/{DEV_EUI}/move");
    let (status, problem) =
        service.refused(Method::POST, &path, json!({ "estate": "saltholm", "fleet": "nobody" })).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("fleet")));
    assert_eq!(service.refused(Method::POST, &path, json!({ "estate": "atlantis", "fleet": "x" })).await.0, 404);
    service.sign_heron_in();
    let said = service.heron_says(&[
        "device", "move", "probe-1", "--to", "saltholm", "--fleet", "buoys", "--estate", ESTATE, "--yes",
    ]);
    assert!(said.contains("messages: they stay where they were heard"), "{said}");
    assert_eq!(service.refused(Method::GET, &format!("devices/{DEV_EUI}"), Value::Null).await.0, 404);
    bench.uplink(&[2], false).await;
    let heard = e2e::wait::until("the uplink in the other estate", async || {
        let page: Value = bench.service.done(Method::GET, &in_other("traffic?type=uplink"), None).await;
        page["items"].as_array().unwrap().first().cloned()
    })
    .await;
    assert_eq!((&heard["frame"]["payload"], &heard["frame"]["counter"]), (&json!("02"), &json!(1)), "without a join");
    let old: Value = bench.service.get("traffic?type=uplink").await;
    assert_eq!(old["items"].as_array().unwrap().len(), 1, "what was heard before stays");
}

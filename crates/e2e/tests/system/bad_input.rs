//! Wrong things over HTTP, and scripts that mean harm: a clear answer, and the service goes on.

use api::Page;
use api::device::outbox::OutboxItem;
use api::message::{Body, Message};
use e2e::service::ESTATE;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};

use crate::scenes::{Bench, DEV_EUI, GATEWAY, registration};

#[tokio::test]
async fn fields_are_named_with_value_and_what_is_allowed() {
    let bench = Bench::set_up().await;
    let other = "02b0090000000002";
    let device = |change: Value| {
        let mut body = registration(other.parse().unwrap(), "probe-2", None);
        body.as_object_mut().unwrap().extend(change.as_object().unwrap().clone());
        body
    };
    for (path, body, status, field, part) in [
        (
            "devices",
            device(json!({ "dev_eui": "02b009" })),
            422,
            "dev_eui",
            "\"02b009\" was given; an EUI has 16 hex digits",
        ),
        ("devices", device(json!({ "join_eui": "02b009000000000g" })), 422, "join_eui", "'g' at character 16"),
        ("devices", device(json!({ "app_key": "00112233" })), 422, "app_key", "32 hex digits"),
        (
            "devices",
            device(json!({ "fleet": "nowhere" })),
            422,
            "fleet",
            "\"nowhere\" was given; there is no such fleet",
        ),
        ("devices", device(json!({ "model": "nothing" })), 422, "model", "there is no such model"),
        ("devices", device(json!({ "name": "a\u{7}" })), 422, "name", "1 to 80 characters"),
        ("gateways", json!({ "eui": "0102", "name": "x" }), 422, "eui", "16 hex digits"),
        (
            "gateways",
            json!({ "eui": other, "name": "x", "latitude_deg": 91.0 }),
            422,
            "latitude_deg",
            "-90 to 90 are allowed",
        ),
        ("fleets", json!({ "slug": "Not A Slug" }), 422, "slug", "lower-case letters"),
    ] {
        let (given, problem) = bench.service.refused(Method::POST, path, body).await;
        assert_eq!((given, problem.field.as_deref()), (status, Some(field)), "{problem}");
        assert!(problem.to_string().contains(part), "{part:?} is not in {problem}");
    }
    let outbox = format!("devices/{DEV_EUI}/outbox");
    for (body, field) in [
        (json!({ "port": 0, "payload": "00" }), "port"),
        (json!({ "port": 224, "payload": "00" }), "port"),
        (json!({ "port": 1, "payload": "0g" }), "payload"),
        (json!({ "port": 1, "payload": "00".repeat(243) }), "payload"),
    ] {
        assert_eq!(bench.service.refused(Method::POST, &outbox, body).await.1.field.as_deref(), Some(field));
    }
    let devices: Page<Value> = bench.service.get("devices").await;
    assert_eq!(devices.items.len(), 1, "nothing was half-written");
}

#[tokio::test]
async fn what_is_there_already_is_not_registered_twice() {
    let bench = Bench::set_up().await;
    for (path, body) in [
        ("devices", registration(DEV_EUI, "another-name", None)),
        ("devices", registration(lorawan::Eui64(0x02b0_0900_0000_0002), "probe-1", None)),
        ("gateways", json!({ "eui": GATEWAY, "name": "another" })),
        ("gateways", json!({ "eui": "02a1f000000000aa", "name": "bench" })),
        ("fleets", json!({ "slug": "bench" })),
    ] {
        let (status, problem) = bench.service.refused(Method::POST, path, body).await;
        assert_eq!((status, problem.code.as_str()), (409, "exists"), "{problem}");
    }
    let (status, problem) = bench.service.refused(Method::DELETE, "fleets/bench", Value::Null).await;
    assert_eq!((status, problem.code.as_str()), (409, "in_use"));
}

#[tokio::test]
async fn bodies_that_are_no_json_of_ours_are_refused() {
    let bench = Bench::set_up().await;
    let path = format!("/estates/{ESTATE}/fleets");
    let send = async |body: Vec<u8>, kind: &str| {
        let request = bench.service.request(Method::POST, &path).header("content-type", kind).body(body);
        let answer = request.send().await.unwrap();
        assert_eq!(answer.headers()["content-type"], "application/problem+json");
        let status = answer.status().as_u16();
        (status, answer.json::<api::problem::Problem>().await.unwrap())
    };
    let (status, problem) = send(b"{\"slug\": \"a\"".to_vec(), "application/json").await;
    assert_eq!((status, problem.code.as_str()), (400, "bad_json"));
    let (status, problem) = send(b"{\"nam\": \"a\"}".to_vec(), "application/json").await;
    assert_eq!((status, problem.code.as_str()), (422, "bad_field"));
    let told: Vec<(&str, &str)> = problem.fields.iter().map(|f| (f.field.as_str(), f.detail.as_str())).collect();
    assert!(told.contains(&("nam", "there is no such field; name is one")), "{told:?}");
    assert!(told.contains(&("slug", "it is needed, and was not given")), "{told:?}");
    assert_eq!(send(b"slug=a".to_vec(), "application/x-www-form-urlencoded").await.0, 415);
    let (status, problem) = send(vec![b' '; (1 << 20) + 1024], "application/json").await;
    assert_eq!((status, problem.code.as_str()), (413, "too_large"));
    for (method, path, status) in [
        (Method::GET, "/nothing", 404),
        (Method::PATCH, "/me", 405),
        (Method::GET, "/estates/tarnsey/devices?limit=0", 422),
        (Method::GET, "/estates/tarnsey/devices?limit=many", 422),
        (Method::GET, "/estates/tarnsey/devices/xyz", 404),
        (Method::GET, "/estates/tarnsey/traffic?type=noise", 422),
    ] {
        let (given, problem) = bench.service.call(method, path, None).await;
        assert_eq!(
            (given.as_u16(), problem["status"].as_u64()),
            (status, Some(u64::from(status))),
            "{path}: {problem}"
        );
    }
}

#[tokio::test]
async fn a_decoder_that_cannot_work_is_refused_at_the_door() {
    let bench = Bench::set_up().await;
    let put = async |decoder: &str| {
        let body = json!({ "maker": "M", "name": "N", "decoder": decoder });
        bench.service.refused(Method::PUT, "models/bad", body).await
    };
    for (decoder, part) in [
        ("function decodeUplink( {", "line 1"),
        ("function decode() {}", "no function decodeUplink"),
        ("for (;;) {}", "ran too long"),
        ("const all = []; for (;;) all.push('x'.repeat(1e5) + all.length)", "bytes of memory"),
    ] {
        let (status, problem) = put(decoder).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some("decoder")));
        assert!(problem.to_string().contains(part), "{part:?} is not in {problem}");
    }
    let models: Page<Value> = bench.service.get("models").await;
    assert_eq!(models.items, Vec::<Value>::new());
}

#[tokio::test]
async fn a_script_that_throws_loops_or_eats_memory_costs_only_its_own_reading() {
    let mut bench = Bench::with_decoder(
        "function decodeUplink({ bytes, fPort }) {
            switch (bytes[0]) {
                case 0: return bytes.none.such;
                case 1: for (;;) {}
                case 2: { const all = []; for (;;) all.push(new ArrayBuffer(1 << 20)); }
                case 3: return { errors: ['sensor fault'] };
                case 4: return 7;
                default: return { data: { level: bytes[0] } };
            }
        }",
    )
    .await;
    bench.join().await;
    for kind in 0..6 {
        bench.uplink(&[kind], false).await;
    }
    let traffic = until("six uplinks, decoded or not", async || {
        let traffic: Page<Message> = bench.service.get("traffic?type=uplink").await;
        let settled =
            |m: &Message| matches!(&m.body, Body::Uplink(u) if u.decode_error.is_some() || !u.readings.is_empty());
        (traffic.items.len() == 6 && traffic.items.iter().all(settled)).then_some(traffic)
    })
    .await;
    let mut errors = traffic.items.iter().rev().map(|m| match &m.body {
        Body::Uplink(uplink) => uplink.decode_error.clone().unwrap_or_default(),
        other => panic!("{other:?}"),
    });
    for part in ["line 3", "ran too long", "bytes of memory", "sensor fault", "something else than"] {
        let error = errors.next().unwrap();
        assert!(error.contains(part) && error.starts_with("port 2, 1 bytes"), "{part:?} is not in {error:?}");
    }
    assert_eq!(errors.next().unwrap(), "", "the last one is decoded");
    // And the command path is as alive as ever.
    let _: OutboxItem =
        bench.service.post(&format!("devices/{DEV_EUI}/outbox"), json!({ "port": 3, "payload": "01" })).await;
    let early = bench.uplink(&[5], false).await;
    bench.next_downlink(early).await;
}

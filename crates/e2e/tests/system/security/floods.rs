//! Connections, streams and bodies that would take all there is.

use std::time::{Duration, Instant};

use e2e::service::Service;
use e2e::wait::until;
use futures::StreamExt as _;
use futures::future::join_all;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::said;
use crate::scenes::{APP_KEY, DEV_EUI, JOIN_EUI};

/// Open connections that the service has at once, by what the kernel says of its files.
fn sockets(service: &Service) -> usize {
    let folder = format!("/proc/{}/fd", service.process_id());
    let links = std::fs::read_dir(folder).unwrap().flatten().filter_map(|entry| std::fs::read_link(entry.path()).ok());
    links.filter(|link| link.to_string_lossy().starts_with("socket:")).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn silent_and_half_sent_connections_keep_nobody_out() {
    // Few files, so that the room is small: 166 callers.
    let service = Service::with_files(1_024).await;
    let silent: Vec<_> = (0..300).map(|_| said(&service, "")).collect();
    // Those who come later are answered, whether they are signed in or are about to be.
    let begun = Instant::now();
    let _: Value = service.done(Method::GET, "/me", None).await;
    let again = json!({ "name": "owner", "password": service.password });
    let (status, _) = service.by("", Method::POST, "/sign-in", Some(again)).await;
    assert_eq!(status, StatusCode::OK);
    assert!(sockets(&service) < 300, "the oldest had to leave: {}", sockets(&service));
    drop(silent);
    // Requests whose body does not come hold on for longer, and still not for ever.
    let head = "POST /api/v1/sign-in HTTP/1.1\r\nhost: 127.0.0.1\r\ncontent-type: application/json\r\ncontent-length: 90\r\n\r\n{";
    let half: Vec<_> = (0..300).map(|_| said(&service, head)).collect();
    until("the signed-in are let in", async || {
        let asked = tokio::time::timeout(Duration::from_secs(5), service.request(Method::GET, "/me").send()).await;
        asked.ok()?.ok().filter(|answer| answer.status() == StatusCode::OK).map(drop)
    })
    .await;
    drop(half);
    assert!(begun.elapsed() < Duration::from_secs(60));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_has_so_many_streams_and_no_more() {
    let service = Service::first_start().await;
    let viewer = service.invited(json!({ "role": "viewer" }), "marit").await;
    let client = reqwest::Client::new();
    let listen = || client.get(format!("{}/api/v1/estates/tarnsey/live", service.http)).bearer_auth(&viewer).send();
    let streams = join_all((0..40).map(|_| listen())).await;
    let answers: Vec<u16> = streams.iter().map(|answer| answer.as_ref().unwrap().status().as_u16()).collect();
    assert_eq!(
        (
            answers.iter().filter(|status| **status == 200).count(),
            answers.iter().filter(|status| **status == 429).count()
        ),
        (32, 8)
    );
    // The owner has streams of their own, and the viewer again once some have ended.
    let own = service.request(Method::GET, "/estates/tarnsey/live").send().await.unwrap();
    assert_eq!(own.status(), StatusCode::OK);
    drop(streams);
    until("streams that have ended count no more", async || {
        (listen().await.ok()?.status() == StatusCode::OK).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_comes_slowly_holds_up_nobody() {
    let service = Service::first_start().await;
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let device = json!({ "dev_eui": DEV_EUI, "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(), "name": "probe-1", "fleet": "bench" });
    let _: Value = service.post("devices", device).await;
    let sharer =
        service.invited(json!({ "share": { "scope": { "device": DEV_EUI }, "may": "operate" } }), "ylva").await;
    let head = format!(
        "PATCH /api/v1/estates/tarnsey/devices/{DEV_EUI} HTTP/1.1\r\nhost: 127.0.0.1\r\nauthorization: Bearer {sharer}\r\n\
         content-type: application/json\r\ncontent-length: 900\r\n\r\n{{"
    );
    let engineer = service.invited(json!({ "role": "engineer" }), "tove").await;
    let slow = [said(&service, &head), said(&service, &head.replace(&sharer, &engineer))];
    let change = json!({ "name": "probe-one" });
    let begun = Instant::now();
    for _ in 0..5 {
        let changed: Value =
            service.done(Method::PATCH, &format!("/estates/tarnsey/devices/{DEV_EUI}"), Some(change.clone())).await;
        assert_eq!(changed["name"], json!("probe-one"));
    }
    assert!(begun.elapsed() < Duration::from_secs(10), "{:?}", begun.elapsed());
    drop(slow);
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_is_refused_again_and_again_does_not_fill_the_log_of_another_estate() {
    let service = Service::first_start().await;
    let new = json!({ "slug": "saltholm", "owner": "Runa" });
    let founded: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    let runa = service.take(&founded["owner"]["code"], "runa").await;
    let ask = |n: u32| {
        let (service, runa) = (&service, &runa);
        async move { service.by(runa, Method::GET, &format!("/estates/tarnsey/devices/{n:016x}"), None).await.0 }
    };
    let statuses: Vec<StatusCode> = futures::stream::iter(0..300).map(ask).buffer_unordered(20).collect().await;
    assert!(statuses.iter().all(|status| *status == StatusCode::NOT_FOUND), "{statuses:?}");
    let written = service.query("SELECT COUNT(*) FROM audit WHERE kind = 'refusal' AND who = 'runa'");
    let written: u32 = written.trim().lines().last().unwrap().trim().parse().unwrap();
    assert!((1..=40).contains(&written), "{written} entries");
    let log: Value = service.get("audit").await;
    assert!(log.to_string().contains("runa"), "that it happened is told: {log}");
}

//! Messages are published at a broker of somebody else's; its own clients hear them.

use api::message::Message;
use api::outlet::{Delivery, Outlet, OutletState};
use e2e::authority::TestAuthority;
use e2e::mosquitto::Mosquitto;
use reqwest::Method;
use serde_json::{Value, json};

use super::{becomes, bench, shown, stored};
use crate::scenes::Bench;

/// An outlet to a broker, with changes of what it is told of it.
async fn outlet(bench: &Bench, url: &str, change: Value) -> Outlet {
    let mut new = json!({
        "slug": "harbour", "types": ["uplink"], "to": { "mqtt": { "url": url, "topic": "quay/{fleet}/{device}/{type}" } }
    });
    for (field, value) in change.as_object().unwrap() {
        match field.as_str() {
            "secrets" | "types" | "shape" => new[field] = value.clone(),
            _ => new["to"]["mqtt"][field] = value.clone(),
        }
    }
    bench.service.post("outlets", new).await
}

#[tokio::test]
async fn messages_are_published_on_their_topics_with_properties() {
    let (mut bench, broker) = (bench().await, Mosquitto::open().await);
    let heard = broker.listen("quay/#", &["-V", "5", "-q", "2"]).await;
    let more =
        json!({ "qos": 2, "retain": true, "expires_after_s": 3600, "user_properties": { "place": "{fleet}-quay" } });
    outlet(&bench, &broker.url(), more).await;
    for level in 1..=3 {
        bench.uplink(&[level], false).await;
    }
    let published = heard.wait_for(3).await;
    let stored = stored(&bench.service, "uplink").await;
    let arrived: Vec<Message> = published.iter().map(|one| serde_json::from_str(&one.payload).unwrap()).collect();
    assert_eq!(arrived, stored);
    for (one, message) in published.iter().zip(&stored) {
        assert_eq!((one.topic.as_str(), one.qos), ("quay/bench/probe-1/uplink", 2));
        let wanted = [format!("id:{}", message.id), "type:uplink".into(), "place:bench-quay".into()];
        assert!(wanted.iter().all(|property| one.properties.contains(property)), "{}", one.properties);
    }
    // Whoever comes later gets the latest, for as long as the broker was told to keep it.
    let later = broker.listen("quay/#", &["-V", "5"]).await;
    let latest = later.wait_for(1).await;
    assert!(latest[0].retained && latest[0].payload == published[2].payload, "{latest:?}");

    let deliveries: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
    assert!(
        deliveries[0].delivered && deliveries[0].request.line.contains("quay/bench/probe-1/uplink"),
        "{deliveries:?}"
    );
    assert_eq!(shown(&bench.service).await.status.delivered, 3);
}

#[tokio::test]
async fn the_older_version_is_spoken_as_well() {
    let (mut bench, broker) = (bench().await, Mosquitto::open().await);
    for (qos, slug) in [(0, "plain"), (1, "sure"), (2, "once")] {
        let to = json!({ "mqtt": { "url": broker.url(), "topic": format!("{slug}/{{eui}}"), "version": "3.1.1", "qos": qos } });
        let _: Outlet = bench.service.post("outlets", json!({ "slug": slug, "types": ["uplink"], "to": to })).await;
    }
    let heard = broker.listen("+/02b0090000000001", &["-q", "2"]).await;
    bench.uplink(&[7], false).await;
    let mut published = heard.wait_for(3).await;
    published.sort_by_key(|one| one.qos);
    let topics: Vec<(&str, u8)> = published.iter().map(|one| (one.topic.as_str(), one.qos)).collect();
    assert_eq!(topics, [("plain/02b0090000000001", 0), ("sure/02b0090000000001", 1), ("once/02b0090000000001", 2)]);
}

#[tokio::test]
async fn a_broker_that_vanishes_gets_everything_once_it_is_back() {
    let (mut bench, mut broker) = (bench().await, Mosquitto::open().await);
    outlet(&bench, &broker.url(), json!({ "retain": true })).await;
    bench.uplink(&[1], false).await;
    broker.listen("quay/#", &[]).await.wait_for(1).await;
    broker.kill();
    for level in 2..=6 {
        bench.uplink(&[level], false).await;
    }
    let failing = becomes(&bench.service, OutletState::Failing).await;
    assert!(failing.status.why.is_some() && failing.status.next_try.is_some(), "{failing:?}");
    let watch: Value = bench.service.get("watch").await;
    assert!(watch.to_string().contains("harbour"), "it stands on the watch page: {watch}");
    broker.go_on().await;
    let heard = broker.listen("quay/#", &[]).await;
    let _: Outlet = bench.service.post("outlets/harbour/resume", json!({})).await;
    let published = heard.wait_for(5).await;
    let levels =
        published.iter().filter(|one| !one.retained).map(|one| one.json()["readings"]["level"]["value"].as_f64());
    let levels: Vec<f64> = levels.map(Option::unwrap).collect();
    assert_eq!(levels[levels.len() - 5..], [0.2, 0.3, 0.4, 0.5, 0.6], "in order");
    becomes(&bench.service, OutletState::Delivering).await;
}

#[tokio::test]
async fn credentials_certificates_and_authorities_are_what_the_broker_wants() {
    let mut bench = bench().await;
    let authority = TestAuthority::new();
    let (server, client) = (authority.issue("localhost"), authority.issue("keen-heron"));
    let settings = "allow_anonymous false\npassword_file FOLDER/passwords\ncafile FOLDER/authority.pem\n\
        certfile FOLDER/server.pem\nkeyfile FOLDER/server.key\nrequire_certificate true\n";
    let password = "quay and tide";
    let files = [
        ("passwords", "harbour:quay and tide\n".to_owned()),
        ("authority.pem", authority.pem()),
        ("server.pem", server.0),
        ("server.key", server.1),
    ];
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let broker = hashed(&files, settings).await;
    let url = format!("mqtts://localhost:{}", broker.port);
    let whole = json!({ "trust": authority.pem(), "certificate": client.0, "account": "harbour",
        "secrets": { "key": client.1, "password": password } });
    let without = |field: &str, value: Value| {
        let mut change = whole.clone();
        match field {
            "password" => change["secrets"]["password"] = value,
            _ => change[field] = value,
        }
        change
    };
    let other = TestAuthority::new();
    for (change, told) in [
        (without("trust", other.pem().into()), "certificate"),
        (without("password", "wrong".into()), "let the service in"),
    ] {
        outlet(&bench, &url, change).await;
        bench.uplink(&[1], false).await;
        let failing = becomes(&bench.service, OutletState::Failing).await;
        assert!(failing.status.why.as_ref().is_some_and(|why| why.contains(told)), "{told}: {failing:?}");
        let (status, _) = bench.service.call(Method::DELETE, "/estates/tarnsey/outlets/harbour", None).await;
        assert_eq!(status, 204);
    }
    let made = outlet(&bench, &url, whole.clone()).await;
    assert_eq!(made.secrets_set, ["password", "key"]);
    bench.uplink(&[9], false).await;
    let tried: Delivery = bench.service.post("outlets/harbour/test", json!({})).await;
    assert!(tried.delivered, "{tried:?}");
    assert_eq!(becomes(&bench.service, OutletState::Delivering).await.status.why, None);
}

/// A broker whose passwords are hashed by its own tool.
async fn hashed(files: &[(&str, &str)], settings: &str) -> Mosquitto {
    let folder = tempfile::tempdir().unwrap();
    let plain = folder.path().join("passwords");
    std::fs::write(&plain, files[0].1).unwrap();
    let done = std::process::Command::new("mosquitto_passwd").arg("-U").arg(&plain).status().unwrap();
    assert!(done.success());
    let hashed = std::fs::read_to_string(&plain).unwrap();
    let mut files = files.to_vec();
    files[0].1 = &hashed;
    Mosquitto::with(&files, settings).await
}

#[tokio::test]
async fn what_a_broker_refuses_becomes_a_dead_letter() {
    let mut bench = bench().await;
    let rules = "topic readwrite open/#\n";
    let broker = Mosquitto::with(&[("rules", rules)], "allow_anonymous true\nacl_file FOLDER/rules\n").await;
    let to = json!({ "mqtt": { "url": broker.url(), "topic": "closed/{device}" } });
    let new = json!({ "slug": "harbour", "types": ["uplink"], "retry_for_s": 1, "to": to });
    let _: Outlet = bench.service.post("outlets", new).await;
    bench.uplink(&[1], false).await;
    let letters: Vec<Value> = e2e::wait::until("a dead letter", async || {
        let letters: Vec<Value> = bench.service.list("outlets/harbour/dead-letters").await;
        Some(letters).filter(|letters| !letters.is_empty())
    })
    .await;
    let deliveries: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
    assert!(letters[0]["why"].as_str().unwrap().contains("not authorized"), "{deliveries:?}");
    let patch = json!({ "to": { "mqtt": { "topic": "open/{device}" } } });
    let heard = broker.listen("open/#", &[]).await;
    let _: Outlet = bench.service.done(Method::PATCH, "/estates/tarnsey/outlets/harbour", Some(patch)).await;
    let _: Value = bench.service.post("outlets/harbour/dead-letters/replay", json!({})).await;
    assert_eq!(heard.wait_for(1).await[0].topic, "open/probe-1");
}

#[tokio::test]
async fn a_broker_inside_is_reached_only_if_the_operator_says_so() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let broker = Mosquitto::open().await;
    outlet(&bench, &broker.url(), json!({})).await;
    bench.uplink(&[1], false).await;
    let failing = becomes(&bench.service, OutletState::Failing).await;
    assert!(failing.status.why.as_ref().is_some_and(|why| why.contains("--outlet-hosts")), "{failing:?}");
}

//! Who gets past an MQTT broker with which certificate.

use std::io::{BufRead as _, BufReader};
use std::process::{Command, ExitStatus, Stdio};

use api::gateway::Gateway;
use api::gateway::credential::GatewayCredential;
use e2e::broker::Broker;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};

use crate::scenes::GATEWAY;

/// The files of a connection kit, and the broker they are for.
struct Files {
    folder: tempfile::TempDir,
    port: u16,
    topic: String,
}

impl Files {
    async fn of_kit(service: &Service, broker: &Broker, (estate, token): (&str, &str)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = format!("{}{}/estates/{estate}/gateways/{GATEWAY}/kit", service.http, api::BASE);
        let answer = reqwest::Client::new().post(at).bearer_auth(token).json(&json!({})).send().await.unwrap();
        let kit = agent::kit::Kit::from_zip(&answer.bytes().await.unwrap()).unwrap();
        for name in ["mqtt.trust", "mqtt.crt", "mqtt.key"] {
            std::fs::write(folder.path().join(name), kit.file(name).unwrap()).unwrap();
        }
        Self { folder, port: broker.port, topic: kit.file("mqtt.topic").unwrap().into() }
    }

    /// A client of the broker with these files.
    fn client(&self, program: &[&str]) -> Command {
        let mut command = Command::new(program[0]);
        command.args(&program[1..]).args(["-h", "localhost", "-p", &self.port.to_string(), "-q", "1"]);
        for (option, name) in [("--cafile", "mqtt.trust"), ("--cert", "mqtt.crt"), ("--key", "mqtt.key")] {
            command.arg(option).arg(self.folder.path().join(name));
        }
        command
    }

    /// Publishes below a topic; whether the broker lets it in at all.
    fn publish(&self, topic: &str, payload: &str) -> ExitStatus {
        self.client(&["mosquitto_pub"]).args(["-t", topic, "-m", payload]).output().unwrap().status
    }
}

async fn register(service: &Service, (estate, token): (&str, &str)) -> Gateway {
    let new = json!({ "eui": GATEWAY.to_string(), "name": "mast", "protocol": "mqtt" });
    let (_, made) = service.by(token, Method::POST, &format!("/estates/{estate}/gateways"), Some(new)).await;
    serde_json::from_value(made).unwrap()
}

async fn newest_credential(service: &Service) -> String {
    let own: Vec<GatewayCredential> = service.list(&format!("gateways/{GATEWAY}/credentials")).await;
    own[0].id.clone()
}

async fn revoke(service: &Service, id: &str) {
    service.call(Method::DELETE, &format!("/estates/tarnsey/gateways/{GATEWAY}/credentials/{id}"), None).await;
}

async fn dropped(service: &Service, reason: &str) -> Option<String> {
    let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
    ingest.dropped.into_iter().find(|dropped| dropped.reason == reason).map(|dropped| dropped.last)
}

async fn broker_part(service: &Service) -> Value {
    let (_, health) = service.call(Method::GET, "/health", None).await;
    health["parts"].as_array().unwrap().iter().find(|part| part["part"] == "broker").unwrap().clone()
}

#[tokio::test]
async fn a_revoked_certificate_is_put_out_and_a_good_one_of_the_same_gateway_stays() {
    let (service, broker) = Service::behind_broker().await;
    let home = ("tarnsey", service.token());
    register(&service, home).await;
    let stolen = Files::of_kit(&service, &broker, home).await;
    let stolen_id = newest_credential(&service).await;
    let good = Files::of_kit(&service, &broker, home).await;
    assert_eq!(good.topic, stolen.topic);
    let state = format!("{}/state", stolen.topic);
    assert!(stolen.publish(&state, r#"{"connected":true}"#).success());
    // It says at once what happens, also to a pipe.
    let mut listening = stolen.client(&["stdbuf", "-oL", "mosquitto_sub"]);
    listening.args(["-d", "-t", &format!("{}/ask", stolen.topic)]).stdout(Stdio::piped());
    let mut thief = listening.spawn().unwrap();
    let mut said = BufReader::new(thief.stdout.take().unwrap()).lines();
    assert!(said.any(|line| line.unwrap().contains("Subscribed")), "the thief is in");
    revoke(&service, &stolen_id).await;
    let left = until("it to be put out", async || thief.try_wait().unwrap()).await;
    assert!(!left.success());
    assert!(!stolen.publish(&state, "{}").success(), "it is not let in again");
    assert!(good.publish(&state, r#"{"connected":true,"software":"the good one"}"#).success());
    until("the good one", async || {
        let gateway: Gateway = service.get(&format!("gateways/{GATEWAY}")).await;
        gateway.software.filter(|software| software.program == "the good one")
    })
    .await;
    let watch: Value = service.get("watch").await;
    assert!(!watch.to_string().contains("lets in gateways"), "{watch}");
}

#[tokio::test]
async fn a_certificate_of_an_earlier_registration_speaks_for_nobody() {
    let (service, mut broker) = Service::behind_broker().await;
    let new = json!({ "slug": "saltholm", "owner": "Runa" });
    let founded: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    let runa = service.take(&founded["owner"]["code"], "runa").await;
    register(&service, ("saltholm", &runa)).await;
    let before = Files::of_kit(&service, &broker, ("saltholm", &runa)).await;
    service.by(&runa, Method::DELETE, &format!("/estates/saltholm/gateways/{GATEWAY}"), None).await;
    let home = ("tarnsey", service.token());
    let now = register(&service, home).await.mqtt_topic.unwrap();
    assert_ne!(before.topic, now);
    until("it to be refused", async || (!before.publish(&format!("{now}/up"), "{}").success()).then_some(())).await;

    // A broker that keeps to no list is told of, and lets nobody write elsewhere than below their own name.
    broker.keep_to_no_list().await;
    assert!(before.publish(&format!("{now}/state"), r#"{"connected":true,"software":"an impostor"}"#).success());
    let last = until("it to be dropped", async || {
        // The broker keeps nothing for a service that is not back yet.
        assert!(before.publish(&format!("{}/up", before.topic), "{}").success());
        dropped(&service, "earlier_registration").await
    })
    .await;
    assert!(before.topic.ends_with(last.rsplit(' ').next().unwrap()), "{last}");
    let gateway: Gateway = service.get(&format!("gateways/{GATEWAY}")).await;
    assert_eq!((gateway.software, gateway.last_heard), (None, None));
    let events: Value = service.get(&format!("gateways/{GATEWAY}/events")).await;
    assert!(events.to_string().contains("certificate of an earlier registration"), "{events}");
    // The next credential to end makes it look again.
    Files::of_kit(&service, &broker, home).await;
    revoke(&service, &newest_credential(&service).await).await;
    until("the watch page to tell", async || {
        let watch: Value = service.get("watch").await;
        watch.to_string().contains("lets in gateways whose certificates are revoked").then_some(())
    })
    .await;
}

#[tokio::test]
async fn nobody_puts_out_others_by_calling_itself_like_them() {
    let (service, broker) = Service::behind_broker().await;
    let home = ("tarnsey", service.token());
    let topic = register(&service, home).await.mqtt_topic.unwrap();
    let files = Files::of_kit(&service, &broker, home).await;
    let part =
        until("the broker", async || Some(broker_part(&service).await).filter(|part| part["state"] == "ok")).await;
    let mut command = files.client(&["mosquitto_pub"]);
    let said = command.args(["-i", "keen-heron", "-t", &format!("{topic}/answer"), "-m", "{}"]).output().unwrap();
    assert!(said.status.success());
    // What it said has arrived, over the connection that was there before.
    until("its words", async || dropped(&service, "unreadable_json").await).await;
    let later = broker_part(&service).await;
    assert_eq!(later["state"], "ok");
    assert!(later["age_s"].as_f64() > part["age_s"].as_f64(), "{part} {later}");
}

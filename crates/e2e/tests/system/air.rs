//! Two estates in one air: what one's gateways hear of the other's devices.

use api::message::Message;
use e2e::gateway::Gateway;
use e2e::service::{ESTATE, Service};
use e2e::wait;
use lorawan::Eui64;
use reqwest::Method;
use serde_json::{Value, json};

use crate::rights::{OTHER, two_estates};
use crate::scenes::{DEV_EUI, GATEWAY, device};

const THEIRS: Eui64 = Eui64(0x02a1_f000_0000_00f1);

async fn foreign(service: &Service) -> u64 {
    let ingest: api::IngestStats = service.done(Method::GET, "/ingest", None).await;
    ingest.dropped.iter().find(|dropped| dropped.reason == "foreign").map_or(0, |dropped| dropped.count)
}

async fn messages(service: &Service, token: &str, estate: &str) -> Vec<Message> {
    let (_, page) = service.by(token, Method::GET, &format!("/estates/{estate}/traffic"), None).await;
    serde_json::from_value(page["items"].clone()).unwrap()
}

#[tokio::test]
async fn what_anothers_gateway_hears_is_discarded_and_counted_unless_it_is_open() {
    let (service, runa) = two_estates().await;
    let mut ours = device(DEV_EUI);
    let mut theirs = Gateway::towards(service.udp, THEIRS).await;
    theirs.pull().await;
    let request = ours.join_request();
    assert!(theirs.push(&request, 1_000_000).await.is_empty());
    wait::until("it is counted", async || (foreign(&service).await == 1).then_some(())).await;
    assert_eq!(messages(&service, service.token(), ESTATE).await, [], "the device's owner is told nothing");
    assert_eq!(messages(&service, &runa, OTHER).await, [], "nor is the gateway's");
    let (_, strangers) = service.by(&runa, Method::GET, &format!("/estates/{OTHER}/devices/strangers"), None).await;
    assert_eq!(strangers["items"], json!([]), "it is no stranger to be adopted");

    // By its own gateway it joins.
    let mut own = Gateway::towards(service.udp, GATEWAY).await;
    own.pull().await;
    let request = ours.join_request();
    let early = own.push(&request, 20_000_000).await;
    let (token, accept) = match early.into_iter().next() {
        Some(first) => first,
        None => own.downlink(wait::PATIENCE).await.expect("an answer"),
    };
    own.report(token, Ok(())).await;
    assert!(ours.receive(&accept.phy_payload).is_some());

    // Open to others, the neighbour's gateway serves it as well, and is named in its messages.
    let (_, gateway) = service.by(&runa, Method::GET, &format!("/estates/{OTHER}/gateways/{THEIRS}"), None).await;
    let about = json!({ "name": gateway["name"], "region": "EU868", "open_to_others": true });
    let path = format!("/estates/{OTHER}/gateways/{THEIRS}");
    let (status, answer) = service.by(&runa, Method::PATCH, &path, Some(about)).await;
    assert_eq!(status, 200, "{answer}");
    let uplink = ours.uplink(2, &[7], false).unwrap();
    theirs.push(&uplink, 60_000_000).await;
    let heard = wait::until("the uplink", async || {
        messages(&service, service.token(), ESTATE).await.into_iter().find(|message| message.body.kind() == "uplink")
    })
    .await;
    let told: Value = serde_json::to_value(&heard).unwrap();
    assert_eq!(told["heard_by"][0]["gateway"], json!(THEIRS));
    assert!(messages(&service, &runa, OTHER).await.iter().all(|message| message.device.is_none()));
}

//! Who has a part only, or another estate, gets no more by it.

use std::net::UdpSocket;

use e2e::service::Service;
use e2e::wait::until;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::rights::two_estates;
use crate::scenes::DEV_EUI;

#[tokio::test(flavor = "multi_thread")]
async fn a_token_of_one_device_does_not_choose_its_fleet() {
    let (service, _) = two_estates().await;
    let rights = json!(["view", "devices"]);
    let of_device = json!({ "name": "of one", "rights": rights, "scope": { "device": DEV_EUI } });
    let (secret, _) = service.token_of(service.token(), of_device).await;
    let path = format!("/estates/tarnsey/devices/{DEV_EUI}");
    let patch = async |token: &str, change: Value| service.by(token, Method::PATCH, &path, Some(change)).await;
    let (status, problem) = patch(&secret, json!({ "fleet": "apart" })).await;
    assert_eq!((status, &problem["code"]), (StatusCode::NOT_FOUND, &json!("not_found")), "{problem}");
    assert_eq!(
        patch(&secret, json!({ "fleet": "bench", "name": "probe-one" })).await.0,
        StatusCode::OK,
        "it stays there"
    );
    let of_fleet = json!({ "name": "of a fleet", "rights": rights, "scope": { "fleet": "bench" } });
    let (fleet, _) = service.token_of(service.token(), of_fleet).await;
    assert_eq!(patch(&fleet, json!({ "fleet": "apart" })).await.0, StatusCode::NOT_FOUND);
    assert_eq!(service.call(Method::PATCH, &path, Some(json!({ "fleet": "apart" }))).await.0, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_is_shown_to_who_knows_something_of_it() {
    let service = Service::first_start().await;
    // It calls from another source than the console and the gateways: the whole of 127.0.0.0/8 is this machine.
    let socket = UdpSocket::bind("127.0.0.9:0").unwrap();
    let eui = "02a1f0fffe123456";
    let mut pull = vec![2, 0x12, 0x34, 2];
    pull.extend(hex::decode(eui).unwrap());
    let shown = async |token: &str, estate: &str, claim: &str| {
        let (_, page) = service.by(token, Method::GET, &format!("/estates/{estate}/strangers{claim}"), None).await;
        page["items"].as_array().unwrap().iter().map(|one| one["eui"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    until("the stranger has called", async || {
        socket.send_to(&pull, service.udp).ok()?;
        (shown(service.token(), "tarnsey", "").await == [eui]).then_some(())
    })
    .await;
    let viewer = service.invited(json!({ "role": "viewer" }), "marit").await;
    assert_eq!(shown(&viewer, "tarnsey", "").await, [eui], "as long as there is one estate, it is nobody else's");
    let new = json!({ "slug": "saltholm", "owner": "Runa" });
    let founded: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    let runa = service.take(&founded["owner"]["code"], "runa").await;
    let nobody: [&str; 0] = [];
    for (token, estate) in [(&viewer, "tarnsey"), (&runa, "saltholm")] {
        assert_eq!(shown(token, estate, "").await, nobody);
        for guessed in ["02a1f0", "127.0.0.1", "02a1f0fffe123457"] {
            assert_eq!(shown(token, estate, &format!("?claim={guessed}")).await, nobody, "{guessed}");
        }
        for known in [eui, "02:a1:f0:12:34:56", "127.0.0.9"] {
            assert_eq!(shown(token, estate, &format!("?claim={known}")).await, [eui], "{known}");
        }
        let (_, watch) = service.by(token, Method::GET, &format!("/estates/{estate}/watch"), None).await;
        assert_eq!(watch["strangers"], json!(0), "{watch}");
        let (_, found) = service.by(token, Method::GET, &format!("/estates/{estate}/find?text=02a1f0"), None).await;
        assert!(!found.to_string().contains(eui), "{found}");
    }
    assert_eq!(shown(service.token(), "tarnsey", "").await, [eui], "the keeper of the installation sees all");
    service.sign_heron_in();
    assert!(service.heron_says(&["gateway", "strangers", "--claim", eui]).contains("127.0.0.9"));
}

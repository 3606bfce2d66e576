//! Who has a part only, or another estate, gets no more by it.

use std::net::UdpSocket;

use e2e::service::Service;
use e2e::wait::until;
use lorawan::Eui64;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::rights::two_estates;
use crate::scenes::{APP_KEY, Bench, DEV_EUI, GATEWAY, JOIN_EUI, device, radio};

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

#[tokio::test(flavor = "multi_thread")]
async fn a_diagnosis_names_nothing_of_the_estate_to_who_has_a_share() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.uplink(b"here", false).await;
    let Bench { service, gateway, .. } = &mut bench;
    let placed = json!({ "name": "chapel-rise", "latitude_deg": 54.71, "longitude_deg": 3.91 });
    service.call(Method::PATCH, &format!("/estates/tarnsey/gateways/{GATEWAY}"), Some(placed)).await;
    let guest = Eui64(0x02b0_0900_0000_0777);
    let lent = json!({ "dev_eui": guest, "name": "guest", "join_eui": JOIN_EUI, "app_key": APP_KEY.to_hex(), "fleet": "bench",
        "radio": radio(), "place": { "latitude_deg": 54.70, "longitude_deg": 3.90 } });
    let _: Value = service.post("devices", lent).await;
    let stranger = Eui64(0x02b0_0900_0000_0888);
    gateway.push(&device(stranger).join_request(), 9).await;
    let share = json!({ "share": { "scope": { "device": guest }, "may": "operate" } });
    let sharer = service.invited(share, "sharer").await;
    let names = ["chapel-rise", "probe-1", &stranger.to_string(), &GATEWAY.to_string()];
    let seen = async |token: &str, what: &str| {
        let path = format!("/estates/tarnsey/devices/{guest}/{what}");
        let (status, answer) = service.by(token, Method::GET, &path, None).await;
        assert_eq!(status, StatusCode::OK, "{answer}");
        let text = answer.to_string();
        (names.map(|name| text.contains(name)), text)
    };
    until("the owner to see them", async || {
        (seen(service.token(), "why").await.0 == [true, true, true, false]).then_some(())
    })
    .await;
    assert_eq!(seen(service.token(), "coverage").await.0, [true, false, false, false]);
    for what in ["why", "coverage", "outbox"] {
        let (found, text) = seen(&sharer, what).await;
        assert_eq!(found, [false; 4], "{what}: {text}");
    }
    let (_, text) = seen(&sharer, "why").await;
    assert!(text.contains("1 of 1 do. Whether one is near"), "{text}");

    let path = format!("/estates/tarnsey/devices/{guest}/rehearse");
    let rehearsed = async |token: &str, gateway: &str| {
        let wanted = json!({ "payload": "01", "gateway": gateway, "rssi_dbm": -100 });
        service.by(token, Method::POST, &path, Some(wanted)).await
    };
    assert_eq!(rehearsed(service.token(), "chapel-rise").await.0, StatusCode::OK);
    let (unknown, known) = (rehearsed(&sharer, "no-such-mast").await, rehearsed(&sharer, "chapel-rise").await);
    assert_eq!((unknown.0, known.0), (StatusCode::NOT_FOUND, StatusCode::NOT_FOUND));
    assert_eq!(known.1.to_string(), unknown.1.to_string().replace("no-such-mast", "chapel-rise"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_counts_who_may_see_it() {
    let (service, runa) = two_estates().await;
    let listening = async |token: &str, estate: &str| {
        let at = format!("{}{}/estates/{estate}/live", service.http, api::BASE);
        reqwest::Client::new().get(at).bearer_auth(token).send().await.unwrap()
    };
    let share = json!({ "share": { "scope": { "fleet": "apart" }, "may": "read" } });
    let sharer = service.invited(share, "sharer").await;
    let _elsewhere = listening(&runa, "saltholm").await;
    let _apart = listening(&sharer, "tarnsey").await;
    let path = format!("/estates/tarnsey/devices/{DEV_EUI}/rehearse");
    let went_to = async || {
        let (_, outcome) = service.call(Method::POST, &path, Some(json!({ "payload": "01" }))).await;
        outcome["went_to"][0].as_str().unwrap_or_else(|| panic!("{outcome}")).to_owned()
    };
    assert_eq!(went_to().await, "live stream: nobody listens");
    let own = listening(service.token(), "tarnsey").await;
    assert_eq!(went_to().await, "live stream: 1 listener");
    drop(own);
    until("it to be gone", async || (went_to().await == "live stream: nobody listens").then_some(())).await;
}

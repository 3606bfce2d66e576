//! The ground under maps: tiles of the operator's own files, and the console's maps on them.

use api::ground::GroundInfo;
use e2e::browser::Browser;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::console::sign_in;

fn demo(name: &str) -> String {
    format!("{}/../../demo/tarnsey/{name}", env!("CARGO_MANIFEST_DIR"))
}

pub(crate) async fn on_the_island() -> Service {
    let (heights, cover) = (demo("heights.tif"), demo("cover.tif"));
    Service::started_with(&["--terrain", &heights, "--cover", &cover]).await
}

#[tokio::test]
async fn tiles_are_pictures_for_those_who_are_signed_in() {
    let service = on_the_island().await;
    let ground: GroundInfo = service.done(Method::GET, "/ground", None).await;
    let extent = ground.extent.unwrap();
    assert!((extent.south_deg..extent.north_deg).contains(&54.7) && (extent.west_deg..extent.east_deg).contains(&3.9));
    let mut pictures = Vec::new();
    for paper in ["", "?paper=dark"] {
        let answer = service.request(Method::GET, &format!("/ground/tiles/11/1046/650{paper}")).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::OK);
        assert_eq!(answer.headers()["content-type"], "image/png");
        pictures.push(answer.bytes().await.unwrap());
        assert!(pictures.iter().all(|picture| picture.starts_with(b"\x89PNG")));
    }
    assert_ne!(pictures[0], pictures[1]);
    let (status, problem) = service.call(Method::GET, "/ground/tiles/3/8/0", None).await;
    assert_eq!((status, &problem["code"]), (StatusCode::NOT_FOUND, &json!("not_found")));
    let (status, problem) = service.call(Method::GET, "/ground/tiles/11/1046/650?paper=grey", None).await;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains("grey"), "{problem}");
    let (status, _) = service.by("", Method::GET, "/ground/tiles/11/1046/650", None).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn a_service_without_files_says_so_and_one_with_bad_files_does_not_start() {
    let mut service = Service::first_start().await;
    let ground: GroundInfo = service.done(Method::GET, "/ground", None).await;
    assert_eq!(ground.extent, None);
    assert!(service.stop());
    let (data, scenario) = (service.data(), demo("scenario.toml"));
    let ports = ["--http", "127.0.0.1:0", "--udp", "127.0.0.1:0", "--gateways", "127.0.0.1:0"];
    let files = ["--data", data.to_str().unwrap(), "--terrain", &scenario];
    let said = service.herond_refuses(&[&["serve"][..], &ports, &files].concat());
    assert!(said.contains("scenario.toml") && said.contains("TIFF"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn maps_of_the_console_lie_on_it_in_both_themes() {
    let service = on_the_island().await;
    let gateway =
        json!({ "eui": "02a1f00000000001", "name": "chapel-rise", "latitude_deg": 54.712, "longitude_deg": 3.884 });
    let _: serde_json::Value = service.post("gateways", gateway).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/gateways", service.http)).await.unwrap();
    let tiles = async |paper: &str| {
        let script = "return [...document.querySelectorAll('img.leaflet-tile-loaded')].map(tile => tile.src).join(' ')";
        until("tiles under the map", async || {
            let loaded = browser.window.execute(script, Vec::new()).await.ok()?;
            let loaded: String = serde_json::from_value(loaded.json().clone()).ok()?;
            (loaded.contains(&format!("paper={paper}"))).then_some(())
        })
        .await;
    };
    let theme = async |name: &str| {
        let script = format!("document.documentElement.dataset.theme = '{name}'");
        browser.window.execute(script, Vec::new()).await.unwrap();
    };
    theme("marsh").await;
    tiles("light").await;
    theme("dusk").await;
    tiles("dark").await;
    browser.close().await.unwrap();
}

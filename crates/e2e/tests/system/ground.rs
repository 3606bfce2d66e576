//! The ground under maps: tiles of the operator's own files, and the console's maps on them.

use std::sync::{Arc, Mutex};

use api::coverage::forecast::Forecast;
use api::coverage::site::Site;
use api::ground::{EstateGround, GroundFile, GroundInfo, GroundKind};
use e2e::browser::Browser;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use thirtyfour::By;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

use crate::console::sign_in;
use crate::planning::forecast;

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

/// Adds a file to the ground of an estate.
async fn added(service: &Service, query: &str, bytes: Vec<u8>) -> (StatusCode, Option<String>, Value) {
    let request = service.request(Method::POST, &format!("/estates/tarnsey/ground/files?{query}"));
    let answer = request.header("content-type", "application/octet-stream").body(bytes).send().await.unwrap();
    let at = answer.headers().get("location").map(|at| at.to_str().unwrap().to_owned());
    (answer.status(), at, answer.json().await.unwrap())
}

/// How many pixels of a tile of the island's middle are drawn.
async fn drawn(service: &Service, question: &str) -> usize {
    drawn_at(service, (1_046, 650), question).await
}

/// The same of any tile of level 11.
async fn drawn_at(service: &Service, (column, row): (u32, u32), question: &str) -> usize {
    let path = format!("/estates/tarnsey/ground/tiles/11/{column}/{row}?{question}");
    let answer = service.request(Method::GET, &path).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::OK);
    let picture = image::load_from_memory(&answer.bytes().await.unwrap()).unwrap().into_rgba8();
    picture.pixels().filter(|pixel| pixel.0[3] > 0).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_estate_has_ground_of_its_own_and_forecasts_tell_when_it_changes() {
    let mut service = Service::first_start().await;
    let new = json!({ "slug": "saltholm", "owner": "the same" });
    let made: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    let _: Value =
        service.done(Method::POST, "/invitations/take", Some(json!({ "code": made["owner"]["code"] }))).await;
    let site = json!({ "name": "Höhe 7/a", "latitude_deg": 54.712, "longitude_deg": 3.884 });
    let _: Site = service.post("sites", site).await;
    let wanted = || json!({ "sites": ["Höhe 7/a"], "radius_m": 1000, "cell_m": 100 });
    let flat = forecast(&service, wanted()).await;
    assert!(flat.note.contains("flat sea") && !flat.ground_changed, "{flat:?}");
    assert_eq!(drawn(&service, "").await, 0);

    let (heights, cover) = (std::fs::read(demo("heights.tif")).unwrap(), std::fs::read(demo("cover.tif")).unwrap());
    let (status, at, told) = added(&service, "name=Insel%20a%2Fb.tif&kind=heights", heights.clone()).await;
    assert_eq!(status, StatusCode::CREATED, "{told}");
    let found: GroundFile = service.done(Method::GET, at.unwrap().trim_start_matches("/api/v1"), None).await;
    assert_eq!(
        (found.name.as_str(), found.kind, found.added_by.as_str()),
        ("Insel a/b.tif", GroundKind::Heights, "owner")
    );
    let (status, _, told) = added(&service, "name=cover.tif&kind=cover", cover).await;
    assert_eq!(status, StatusCode::CREATED, "{told}");
    let ground: EstateGround = service.get("ground").await;
    assert_eq!((ground.files.len(), ground.cells), (2, ground.files.iter().map(|file| file.raster.cells()).sum()));
    assert!(drawn(&service, "paper=dark").await > 5_000 && drawn(&service, "view=holes").await == 0);

    // Of a height file whose western half is void only that is striped.
    let void = |at: usize| if at % 1_201 < 600 { -32_768i16 } else { 12 };
    let bytes: Vec<u8> = (0..1_201 * 1_201).flat_map(|at| void(at).to_be_bytes()).collect();
    assert_eq!(added(&service, "name=N54E003.hgt&kind=heights", bytes).await.0, StatusCode::CREATED);
    assert_eq!(drawn_at(&service, (1_042, 650), "view=holes").await, 256 * 256 / 4, "a quarter of a hole is stripes");
    let (status, _) = service.call(Method::DELETE, "/estates/tarnsey/ground/files/N54E003.hgt", None).await;
    assert_eq!(status, StatusCode::NO_CONTENT);

    // What was forecast before stands on another ground, and is still shown.
    let flat: Forecast = service.get(&format!("forecasts/{}", flat.id)).await;
    assert!(flat.ground_changed);
    let layers = format!("forecasts/{}/layers", flat.id);
    let _: Value = service.get(&layers).await;
    let hilly = forecast(&service, wanted()).await;
    assert!(hilly.note.is_empty() && !hilly.ground_changed && hilly.sites_reused == 0, "{hilly:?}");
    assert_ne!(hilly.figures.unwrap().covered.area_km2, flat.figures.unwrap().covered.area_km2);

    // Another estate has none of it.
    let other: EstateGround = service.done(Method::GET, "/estates/saltholm/ground", None).await;
    assert!(other.files.is_empty() && other.extent.is_none() && other.edition != ground.edition);

    // A file whose bytes are gone does not count, and says so; the other does, also after a restart.
    assert!(service.stop());
    let gone = format!("{}-{}", 1, found.sha256);
    std::fs::remove_file(service.data().join("ground").join(gone)).unwrap();
    service.start_again();
    let ground: EstateGround = service.get("ground").await;
    let told: Vec<bool> = ground.files.iter().map(|file| file.problem.is_some()).collect();
    assert_eq!((told.iter().filter(|problem| **problem).count(), ground.extent), (1, None), "{ground:?}");
    for name in ["cover.tif", "Insel%20a%2Fb.tif"] {
        let (status, _) = service.call(Method::DELETE, &format!("/estates/tarnsey/ground/files/{name}"), None).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{name}");
    }
    assert!(service.list::<GroundFile>("ground/files").await.is_empty());
}

#[tokio::test]
async fn files_of_the_ground_that_cannot_be_used_are_refused() {
    let service = on_the_island().await;
    let heights = std::fs::read(demo("heights.tif")).unwrap();
    for (query, bytes, field, why) in [
        ("name=&kind=heights", heights.clone(), "name", "1 to 80 characters"),
        ("name=a.tif&kind=depths", heights.clone(), "kind", "depths"),
        ("name=a.tif&kind=heights", b"no raster".to_vec(), "file", "TIFF"),
        ("name=a.tif&kind=heights", heights[..heights.len() / 2].to_vec(), "file", "a.tif"),
        ("name=a.tif&kind=heights", Vec::new(), "file", "TIFF"),
        ("name=a.hgt&kind=heights", heights.clone(), "file", "a.hgt"),
        ("name=N54E003.hgt&kind=cover", i16::to_be_bytes(-3).repeat(1_442_401), "kind", "-3 to -3"),
    ] {
        let (status, _, problem) = added(&service, query, bytes).await;
        let told = (&problem["field"], problem["fields"].get(0).map(|field| &field["field"]));
        assert!(*told.0 == field || told.1.is_some_and(|named| named == field), "{query}: {problem}");
        assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains(why), "{query}: {problem}");
    }
    let (status, _, problem) = added(&service, "name=large.tif&kind=heights", vec![0; (64 << 20) + 1]).await;
    assert!(status.is_client_error() && problem.to_string().contains("67108864"), "{problem}");
    // The operator's files are told, and are not the estate's to remove.
    let ground: EstateGround = service.get("ground").await;
    assert!(ground.files.len() == 2 && ground.files.iter().all(|file| file.by_operator) && ground.cells == 0);
    let (status, _) = service.call(Method::DELETE, "/estates/tarnsey/ground/files/heights.tif", None).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    assert!(!service.data().join("ground").exists(), "nothing was kept");

    // By the client one bad file keeps no other from being added.
    service.sign_heron_in();
    let (good, bad) = (demo("heights.tif"), demo("scenario.toml"));
    let output = service.heron(&["ground", "add", &good, &bad, "--kind", "heights"]);
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(!output.status.success() && said.contains("1 of 2 files") && said.contains("scenario.toml"), "{said}");
    let listed = service.heron_says(&["ground", "list"]);
    assert!(
        listed.contains("heights, 0 to") && listed.contains("owner") && listed.contains("the operator"),
        "{listed}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_where_files_reach_and_takes_more() {
    let service = Service::first_start().await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/coverage?tab=ground", service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("No files of the ground here yet")).await;
    let choose = async |file: &str| {
        let chooser = browser.window.find(By::Css("[data-add-ground] input[type=file]")).await.unwrap();
        chooser.send_keys(std::fs::canonicalize(demo(file)).unwrap().to_str().unwrap()).await.unwrap();
        browser.click(By::Css("[data-add-ground] option[value=heights]")).await;
        browser.click(By::XPath("//form[@data-add-ground]//button[text()='Add']")).await;
    };
    choose("scenario.toml").await;
    browser.text_when("main [role=alert]", |text| text.contains("TIFF")).await;
    choose("heights.tif").await;
    browser
        .text_when("[data-ground-file='heights.tif']", |text| text.contains("heights, 0 to") && text.contains("owner"))
        .await;
    until("stripes over the map", async || {
        let script = "return [...document.querySelectorAll('.over img.leaflet-tile-loaded')].some((tile) => tile.src.includes('view=holes'))
            && document.querySelectorAll('path.reach').length === 1";
        let shown = browser.window.execute(script, Vec::new()).await.ok()?;
        (shown.json() == &json!(true)).then_some(())
    })
    .await;
    browser.click(By::XPath("//button[text()='Remove']")).await;
    browser.click(By::XPath("//button[text()='Remove the file']")).await;
    browser.text_when("main", |text| text.contains("No files of the ground here yet")).await;
    browser.close().await.unwrap();
}

/// A server of tiles: each is the same picture. Gives its address, and the paths that are asked for.
async fn tile_server() -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (address, asked) = (listener.local_addr().unwrap(), Arc::new(Mutex::new(Vec::new())));
    let noted = Arc::clone(&asked);
    let mut png = std::io::Cursor::new(Vec::new());
    image::RgbaImage::from_pixel(256, 256, image::Rgba([90, 120, 90, 255]))
        .write_to(&mut png, image::ImageFormat::Png)
        .unwrap();
    let png = png.into_inner();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut head = [0; 4096];
            let Ok(read) = stream.read(&mut head).await else { continue };
            let path = String::from_utf8_lossy(&head[..read]).split(' ').nth(1).unwrap_or_default().to_owned();
            noted.lock().unwrap().push(path);
            let start = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: image/png\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                png.len()
            );
            let _ = stream.write_all(start.as_bytes()).await;
            let _ = stream.write_all(&png).await;
        }
    });
    (format!("http://{address}"), asked)
}

#[tokio::test(flavor = "multi_thread")]
async fn map_tiles_of_the_operator_lie_under_maps() {
    let (server, asked) = tile_server().await;
    let address = format!("{server}/made/{{z}}/{{x}}/{{y}}.png");
    let service =
        Service::started_with(&["--map-tiles", &address, "--map-tiles-credit", "Survey of <b>Tarnsey</b>"]).await;
    let ground: GroundInfo = service.done(Method::GET, "/ground", None).await;
    assert_eq!(ground.tiles.unwrap().address, address);
    let page = reqwest::get(format!("{}/watch", service.http)).await.unwrap();
    let policy = page.headers()["content-security-policy"].to_str().unwrap().to_owned();
    assert!(policy.contains(&format!("img-src 'self' data: blob: {server};")), "{policy}");
    let gateway =
        json!({ "eui": "02a1f00000000001", "name": "chapel-rise", "latitude_deg": 54.712, "longitude_deg": 3.884 });
    let _: Value = service.post("gateways", gateway).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/gateways", service.http)).await.unwrap();
    // Whose tiles they are is text, whatever is in it.
    browser.text_when(".leaflet-control-attribution", |text| text == "Survey of <b>Tarnsey</b>").await;
    until("tiles from elsewhere", async || {
        let script = "return document.querySelectorAll('.elsewhere img.leaflet-tile-loaded').length";
        let loaded = browser.window.execute(script, Vec::new()).await.ok()?;
        (loaded.json().as_u64()? > 0).then_some(())
    })
    .await;
    assert!(asked.lock().unwrap().iter().all(|path| path.starts_with("/made/") && path.ends_with(".png")));
    browser.close().await.unwrap();

    let bad = ["serve", "--map-tiles", "https://tiles.example/{z}/{x}.png"];
    let said = service.herond_refuses(&bad);
    assert!(said.contains("--map-tiles") && said.contains("{y}"), "{said}");
}

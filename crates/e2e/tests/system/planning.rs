//! Planning coverage: sites, receivers, forecasts as jobs, and the links of devices.

use api::coverage::forecast::{Forecast, ForecastState, Layer, Legends, PlaceForecast, Ranking, SiteWorth};
use api::coverage::link::{CoverageVerdict, DeviceCoverage, DeviceLink};
use api::coverage::site::{Receiver, Site, SitesEffect};
use e2e::browser::Browser;
use e2e::service::Service;
use e2e::wait::until;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use thirtyfour::By;

use crate::console::sign_in;
use crate::ground::on_the_island;
use crate::scenes::{Bench, DEV_EUI};

const CHAPEL: &str = "02a1f00000000001";

/// The island with two gateways.
pub(crate) async fn island() -> Service {
    let service = on_the_island().await;
    for (eui, name, latitude_deg, longitude_deg) in
        [(CHAPEL, "chapel-rise", 54.712, 3.884), ("02a1f00000000003", "gull-tower", 54.696, 3.842)]
    {
        let gateway = json!({ "eui": eui, "name": name, "latitude_deg": latitude_deg, "longitude_deg": longitude_deg,
            "antenna_gain_dbi": 4.15, "cable_loss_db": 0.5 });
        let _: Value = service.post("gateways", gateway).await;
    }
    service
}

async fn ended(service: &Service, id: &str) -> Forecast {
    until("the forecast has ended", async || {
        let forecast: Forecast = service.get(&format!("forecasts/{id}")).await;
        forecast.state.has_ended().then_some(forecast)
    })
    .await
}

pub(crate) async fn forecast(service: &Service, wanted: Value) -> Forecast {
    let asked: Forecast = service.post("forecasts", wanted).await;
    assert_eq!(asked.state, ForecastState::Waiting);
    ended(service, &asked.id).await
}

/// How many pixels of a tile in the middle of the island a layer covers.
async fn drawn(service: &Service, id: &str, layer: &str) -> usize {
    let path = format!("/estates/tarnsey/forecasts/{id}/tiles/11/1046/650?layer={layer}");
    let answer = service.request(Method::GET, &path).send().await.unwrap();
    assert_eq!((answer.status(), answer.headers()["content-type"].as_bytes()), (StatusCode::OK, &b"image/png"[..]));
    let picture = image::load_from_memory(&answer.bytes().await.unwrap()).unwrap().into_rgba8();
    picture.pixels().filter(|pixel| pixel.0[3] == 255).count()
}

fn small(sites: &[&str]) -> Value {
    json!({ "name": "a small one", "sites": sites, "radius_m": 4000, "cell_m": 100 })
}

#[tokio::test]
async fn gateways_are_sites_and_others_are_planned() {
    let service = island().await;
    let sites: Vec<Site> = service.list("sites").await;
    let chapel = &sites[0];
    assert_eq!((sites.len(), chapel.name.as_str(), chapel.radio.cable_loss_db), (2, "chapel-rise", Some(0.5)));
    assert_eq!(chapel.radio.antenna.as_ref().unwrap().gain_dbi, Some(4.15), "as it was typed");
    let new = json!({ "name": "beacon-hill", "latitude_deg": 54.716, "longitude_deg": 3.861,
        "radio": { "height_m": 15, "antenna": { "gain_dbi": 8, "azimuth_deg": 140, "horizontal_beam_deg": 65 } } });
    let planned: Site = service.post("sites", new.clone()).await;
    assert_eq!((planned.gateway, planned.radio.power_dbm), (None, Some(14.0)));

    // What cannot be is refused by name; nothing is added.
    let (status, problem) = service.refused(Method::POST, "sites", new).await;
    assert!(status == 422 && problem.to_string().contains("a planned site has this name"), "{problem}");
    let bad = json!({ "name": "chapel-rise", "latitude_deg": 99, "longitude_deg": 3.9, "radio": { "height_m": 0 } });
    let (status, problem) = service.refused(Method::POST, "sites", bad).await;
    let fields: Vec<&str> = problem.fields.iter().map(|field| field.field.as_str()).collect();
    assert_eq!((status, fields), (422, vec!["latitude_deg", "radio.height_m"]), "{problem}");
    let half = json!({ "radio": { "antenna": { "tilt_deg": 3 } } });
    let (_, problem) = service.refused(Method::PATCH, "sites/chapel-rise", half).await;
    assert!(problem.to_string().contains("azimuth_deg"), "{problem}");
    let gain = json!({ "radio": { "antenna": { "gain_dbi": 9 } } });
    let (_, problem) = service.refused(Method::PATCH, "sites/chapel-rise", gain).await;
    assert!(problem.to_string().contains("a setting of the gateway itself"), "{problem}");
    let (status, _) = service.refused(Method::DELETE, "sites/chapel-rise", Value::Null).await;
    assert_eq!(status, 409, "a gateway is removed as a gateway");

    // One parameter of many, first as a preview.
    let change = |preview| json!({ "sites": ["chapel-rise", "gull-tower", "beacon-hill"], "radio": { "height_m": 15 }, "preview": preview });
    let effect: SitesEffect = service.post("sites/change", change(true)).await;
    assert_eq!((effect.sites.len(), effect.untouched, effect.done), (2, 1, false));
    assert_eq!(service.get::<Site>("sites/gull-tower").await.radio.height_m, Some(10.0));
    let effect: SitesEffect = service.post("sites/change", change(false)).await;
    assert!(
        effect.done && effect.sites[0].before.height_m == Some(10.0) && effect.sites[0].after.height_m == Some(15.0)
    );
    assert_eq!(service.get::<Site>("sites/gull-tower").await.radio.height_m, Some(15.0));

    // Kinds of receiver: two are there from the beginning, and can be set back.
    let receivers: Vec<Receiver> = service.list("receivers").await;
    assert_eq!(receivers.iter().map(|one| one.name.as_str()).collect::<Vec<_>>(), ["indoors", "outdoors"]);
    let path = "/estates/tarnsey/receivers/indoors";
    let changed: Receiver = service.done(Method::PATCH, path, Some(json!({ "penetration_loss_db": 22 }))).await;
    assert_eq!((changed.radio.penetration_loss_db, changed.radio.height_m), (22.0, 1.5));
    assert_eq!(service.call(Method::DELETE, path, None).await.0, StatusCode::NO_CONTENT);
    assert_eq!(service.get::<Receiver>("receivers/indoors").await.radio.penetration_loss_db, 15.0);
    assert_eq!(service.call(Method::DELETE, path, None).await.0, StatusCode::CONFLICT);
    let (_, problem) =
        service.refused(Method::POST, "receivers", json!({ "name": "x", "radio": { "gain_dbi": 70 } })).await;
    assert_eq!(problem.field.as_deref(), Some("radio.gain_dbi"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_forecast_is_computed_kept_looked_at_and_reused() {
    let mut service = island().await;
    let device = json!({ "dev_eui": DEV_EUI, "join_eui": "02aa000000000009", "app_key": "7d14b209e65a813cf0279b4ed8631ac5",
        "name": "tide", "fleet": "tide", "place": { "latitude_deg": 54.71, "longitude_deg": 3.88 } });
    let _: Value = service.post("fleets", json!({ "slug": "tide" })).await;
    let _: Value = service.post("devices", device).await;
    let first = forecast(&service, small(&[])).await;
    assert_eq!((first.state, first.sites.len(), first.sites_reused, first.percent), (ForecastState::Done, 2, 0, 100));
    let figures = first.figures.clone().unwrap();
    assert!(figures.covered.area_km2 > 20.0 && figures.covered.area_km2 <= figures.computed.area_km2, "{figures:?}");
    assert_eq!((figures.computed.devices, figures.covered.devices), (1, 1));
    assert_eq!(figures.lost_with.len(), 2);
    assert!(first.note.is_empty() && !first.coarse, "{}", first.note);

    // Its layers, a tile, and a place.
    let id = &first.id;
    let legends: Legends = service.get(&format!("forecasts/{id}/layers")).await;
    let best = legends.layers.iter().find(|legend| legend.layer == Layer::BestSite).unwrap();
    assert_eq!(
        best.classes.iter().map(|class| class.words.as_str()).collect::<Vec<_>>(),
        ["chapel-rise", "gull-tower"]
    );
    assert!(drawn(&service, id, "margin").await > 2_000 && drawn(&service, id, "best_site").await > 2_000);
    let said: PlaceForecast = service.get(&format!("forecasts/{id}/place?latitude_deg=54.71&longitude_deg=3.88")).await;
    assert_eq!(said.links[0].site, "chapel-rise");
    let parts: f64 = said.links[0].parts.iter().map(|part| part.loss_db).sum();
    assert!((parts - said.links[0].loss_db).abs() < 0.5 && said.links[0].profile.ground_m.len() > 5);
    let margin = said.values.iter().find(|value| value.layer == Layer::Margin).unwrap();
    assert!((margin.value - said.links[0].margin_db).abs() < 6.0, "the cell and its own path agree");
    let (status, problem) = service
        .call(Method::GET, &format!("/estates/tarnsey/forecasts/{id}/place?latitude_deg=99&longitude_deg=0"), None)
        .await;
    assert!(status == 422 && problem.to_string().contains("latitude_deg"), "{problem}");

    // Only what has changed is computed again; and after a restart nothing is.
    let change = json!({ "sites": ["gull-tower"], "radio": { "height_m": 25 } });
    let _: SitesEffect = service.post("sites/change", change).await;
    let second = forecast(&service, small(&[])).await;
    assert_eq!((second.sites_reused, second.sites[1].radio.height_m), (1, Some(25.0)));
    assert!(service.stop());
    service.start_again();
    let third = forecast(&service, small(&["chapel-rise", "gull-tower"])).await;
    assert_eq!(third.sites_reused, 2);
    assert!(drawn(&service, id, "data_rate").await > 2_000, "an old one can still be looked at");

    // One that has ended is removed; the others stay.
    let path = format!("/estates/tarnsey/forecasts/{id}");
    assert_eq!(service.call(Method::DELETE, &path, None).await.0, StatusCode::NO_CONTENT);
    assert_eq!(service.list::<Forecast>("forecasts").await.len(), 2);
    assert_eq!(service.call(Method::GET, &path, None).await.0, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_forecast_is_refused_with_its_cost_and_one_can_be_stopped() {
    let service = island().await;
    let why = async |wanted: Value| service.refused(Method::POST, "forecasts", wanted).await.1.to_string();
    let large = why(json!({ "radius_m": 150_000, "cell_m": 10 })).await;
    assert!(large.contains("million cells") && large.contains("would do"), "{large}");
    assert!(why(json!({ "sites": ["nowhere"] })).await.contains("no gateway and no planned site has this name"));
    assert!(why(json!({ "receiver": "pocket" })).await.contains("no kind of receiver has this name"));
    assert!(why(json!({ "reliability": 1.5 })).await.contains("reliability"));
    let two = why(json!({ "shadowing_db": 99, "cell_m": 1 })).await;
    assert!(two.contains("shadowing_db") && two.contains("cell_m"), "{two}");

    // A large one is stopped while it is computed; another that waits behind it is not.
    let long: Forecast =
        service.post("forecasts", json!({ "radius_m": 30_000, "cell_m": 35, "sites": ["chapel-rise"] })).await;
    let next: Forecast = service.post("forecasts", small(&["chapel-rise"])).await;
    until("it is computed", async || {
        (service.get::<Forecast>(&format!("forecasts/{}", long.id)).await.state == ForecastState::Running).then_some(())
    })
    .await;
    // No more than five of an estate wait; who asks for more is told.
    for _ in 0..3 {
        let _: Forecast = service.post("forecasts", small(&["gull-tower"])).await;
    }
    let (status, problem) = service.refused(Method::POST, "forecasts", small(&["gull-tower"])).await;
    assert!(status == 409 && problem.to_string().contains("5 are waiting"), "{problem}");
    let (status, stopped) =
        service.call(Method::DELETE, &format!("/estates/tarnsey/forecasts/{}", long.id), None).await;
    assert_eq!((status, &stopped["state"]), (StatusCode::OK, &json!("cancelled")));
    assert_eq!(ended(&service, &next.id).await.state, ForecastState::Done);
    assert_eq!(ended(&service, &long.id).await.state, ForecastState::Cancelled);
    let (status, problem) =
        service.call(Method::GET, &format!("/estates/tarnsey/forecasts/{}/layers", long.id), None).await;
    assert_eq!((status, &problem["code"]), (StatusCode::CONFLICT, &json!("not_ready")));
}

#[tokio::test(flavor = "multi_thread")]
async fn without_ground_it_says_that_all_is_flat_and_a_site_off_the_ground_is_named() {
    let service = Service::first_start().await;
    let site = json!({ "name": "far-skerry", "latitude_deg": 57.0, "longitude_deg": 1.0 });
    let _: Site = service.post("sites", site.clone()).await;
    let flat = forecast(&service, small(&["far-skerry"])).await;
    assert!(flat.state == ForecastState::Done && flat.note.contains("no files of the ground"), "{}", flat.note);
    let island = island().await;
    let _: Site = island.post("sites", site).await;
    let off = forecast(&island, small(&["far-skerry"])).await;
    assert!(off.note.contains("far-skerry") && off.note.contains("flat sea"), "{}", off.note);
    let (_, problem) = Service::first_start().await.refused(Method::POST, "forecasts", small(&[])).await;
    assert!(problem.to_string().contains("needs a site with a place"), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn planned_sites_are_ranked_by_what_they_add_and_a_layer_is_taken_away() {
    let service = island().await;
    // One far from both gateways, and one beside the first.
    for (name, latitude_deg, longitude_deg) in [("beside", 54.7125, 3.885), ("far-quay", 54.681, 3.966)] {
        let new = json!({ "name": name, "latitude_deg": latitude_deg, "longitude_deg": longitude_deg });
        let _: Site = service.post("sites", new).await;
    }
    let made = forecast(&service, small(&["chapel-rise", "gull-tower", "beside", "far-quay"])).await;
    let ranking: Ranking = service.get(&format!("forecasts/{}/ranking", made.id)).await;
    assert_eq!(ranking.base, ["chapel-rise", "gull-tower"], "the gateways are there");
    let order = |all: &[SiteWorth]| all.iter().map(|one| one.site.clone()).collect::<Vec<_>>();
    assert_eq!(order(&ranking.add), ["far-quay", "beside"]);
    let (far, beside) = (&ranking.add[0].more, &ranking.add[1].more);
    assert!(far.once.area_km2 > 10.0 && beside.once.area_km2 < far.once.area_km2 / 2.0, "{ranking:?}");
    assert!(beside.twice.area_km2 > far.twice.area_km2, "it only doubles what is there: {ranking:?}");
    let all = format!("forecasts/{}/ranking?base=chapel-rise,gull-tower,beside,far-quay", made.id);
    let all: Ranking = service.get(&all).await;
    assert!(all.add.is_empty() && all.remove[3].more.once.area_km2 > all.remove[0].more.once.area_km2, "{all:?}");
    let covered = made.figures.unwrap().covered.area_km2;
    assert!((all.heard.once.area_km2 - covered).abs() < 0.05, "{} {covered}", all.heard.once.area_km2);
    let path = format!("/estates/tarnsey/forecasts/{}/ranking?base=nowhere", made.id);
    let (status, problem) = service.call(Method::GET, &path, None).await;
    assert!(status == 422 && problem.to_string().contains("the forecast's sites are"), "{problem}");

    // A layer in each form; GeoTIFF is opened by another program.
    service.sign_heron_in();
    let folder = tempfile::tempdir().unwrap();
    let written = |name: &str| {
        let file = folder.path().join(name);
        service.heron_says(&["forecast", "export", &made.id, "--layer", "uplink", "--output", file.to_str().unwrap()]);
        (std::fs::read(&file).unwrap(), file)
    };
    let (_, tif) = written("uplink.tif");
    let told = std::process::Command::new("gdalinfo").args(["-json", "-stats"]).arg(&tif).output().unwrap();
    let told: Value = serde_json::from_slice(&told.stdout).unwrap();
    let band = &told["bands"][0];
    assert_eq!(
        (&band["type"], told["coordinateSystem"]["wkt"].as_str().unwrap().contains("WGS 84")),
        (&json!("Float32"), true)
    );
    assert!((-160.0..-60.0).contains(&band["mean"].as_f64().unwrap()), "{band}");
    assert!(written("uplink.png").0.starts_with(b"\x89PNG"));
    let contours: Value = serde_json::from_slice(&written("uplink.geojson").0).unwrap();
    assert_eq!(contours["features"].as_array().unwrap().len(), 6);
    let lines = String::from_utf8(written("uplink.csv").0).unwrap().lines().count();
    assert!(lines > 1_000, "{lines}");
    let refused = service.heron(&["forecast", "export", &made.id, "--output", "uplink.kml"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains(".png, .kmz or .html"));

    // Read by others: an overlay and a workbook by GDAL, a page by a browser, from the file.
    let ogrinfo = |file: &str| {
        let out = std::process::Command::new("ogrinfo").args(["-q", "-al", file]).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    let (_, kmz) = written("uplink.kmz");
    let overlay = ogrinfo(&kmz.display().to_string());
    assert!(overlay.contains("layer.png") && overlay.contains("(String) = chapel-rise"), "{overlay}");
    let report = |name: &str| {
        let file = folder.path().join(name).display().to_string();
        service.heron_says(&["forecast", "report", &made.id, "--output", &file]);
        file
    };
    let book = ogrinfo(&report("report.xlsx"));
    for sheet in ["Layer name: Parameters", "Layer name: Sites", "Layer name: Figures", "Layer name: Links"] {
        assert!(book.contains(sheet), "{sheet}: {book}");
    }
    let browser = Browser::open(1280, 900).await.unwrap();
    browser.window.goto(format!("file://{}", written("uplink.html").1.display())).await.unwrap();
    browser.text_when("#title", |text| text.contains("Received by the best site")).await;
    let point =
        "document.getElementById('map').dispatchEvent(new PointerEvent('pointermove', { clientX: 450, clientY: 420 }))";
    browser.window.execute(point, Vec::new()).await.unwrap();
    browser.text_when("#under", |text| text.contains("dBm")).await;
    browser.text_when("#about", |text| text.contains("path model")).await;
    browser.window.goto(format!("file://{}", report("report.html"))).await.unwrap();
    browser.text_when("table", |text| text.contains("reliability")).await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_devices_links_are_compared_with_what_was_measured() {
    let mut bench = Bench::set_up().await;
    let found = async |service: &Service| {
        let links: Vec<DeviceLink> = service.list("links").await;
        let coverage: DeviceCoverage = service.get(&format!("devices/{DEV_EUI}/coverage")).await;
        (links, coverage)
    };
    // Nothing has a place, and nothing was heard.
    let (links, coverage) = found(&bench.service).await;
    assert_eq!((links, coverage.verdict), (Vec::new(), CoverageVerdict::Unknown));
    let place = json!({ "place": { "latitude_deg": 54.70, "longitude_deg": 3.90, "height_m": 2 } });
    let path = format!("/estates/tarnsey/devices/{DEV_EUI}");
    let _: Value = bench.service.done(Method::PATCH, &path, Some(place)).await;
    let at = json!({ "latitude_deg": 54.70, "longitude_deg": 3.93 });
    let gateway = format!("/estates/tarnsey/gateways/{}", crate::scenes::GATEWAY);
    let _: Value = bench.service.done(Method::PATCH, &gateway, Some(at)).await;
    let (links, coverage) = found(&bench.service).await;
    assert!(links.len() == 1 && links[0].assigned && links[0].measured.is_none(), "{links:?}");
    assert_eq!(coverage.verdict, CoverageVerdict::NotHeard, "{}", coverage.words);

    bench.join().await;
    for _ in 0..3 {
        bench.uplink(&[1], false).await;
    }
    let heard = until("three uplinks", async || {
        let (links, coverage) = found(&bench.service).await;
        links[0].measured.is_some_and(|one| one.heard == 3).then_some((links, coverage))
    });
    let (links, coverage) = heard.await;
    let measured = links[0].measured.unwrap();
    // The stand-in gateway hears all at -80 dBm with 9 dB: the signal is 0.5 dB less than what is received.
    assert_eq!((measured.rssi_dbm, measured.snr_db, measured.of), (-80.0, 9.0, 3));
    let residual = links[0].residual_db.unwrap();
    assert!((residual - (-80.5 - links[0].forecast_dbm)).abs() < 0.1, "{residual}");
    assert_eq!(
        (coverage.verdict, coverage.best.as_deref(), coverage.second),
        (CoverageVerdict::OneGateway, Some("bench"), None)
    );
    // SF7 needs -7.5 dB.
    assert_eq!(coverage.margin_db, Some(16.5));

    // A deep lid is part of what is forecast.
    let place =
        json!({ "place": { "latitude_deg": 54.70, "longitude_deg": 3.90, "height_m": 2, "penetration_loss_db": 30 } });
    let _: Value = bench.service.done(Method::PATCH, &path, Some(place)).await;
    let (deeper, _) = found(&bench.service).await;
    assert!((links[0].forecast_dbm - deeper[0].forecast_dbm - 30.0).abs() < 0.01);
    // A gateway and a device that no link can be computed for cost no other its links, nor the answer to why.
    let dish = json!({ "eui": "02a1f00000000098", "name": "dish", "latitude_deg": 54.7, "longitude_deg": 3.95,
        "antenna_gain_dbi": 29 });
    let _: Value = bench.service.post("gateways", dish).await;
    let peak = json!({ "dev_eui": "02b00900000000aa", "join_eui": "02aa000000000009", "name": "peak", "fleet": "bench",
        "app_key": "7d14b209e65a813cf0279b4ed8631ac5",
        "place": { "latitude_deg": 54.7, "longitude_deg": 3.9, "height_m": 5000 } });
    let _: Value = bench.service.post("devices", peak).await;
    let (still, coverage) = found(&bench.service).await;
    assert_eq!((still.len(), coverage.verdict), (1, CoverageVerdict::OneGateway), "{still:?}");
    let why: Value = bench.service.get("devices/peak/why").await;
    assert!(why["findings"].is_array(), "{why}");
    let (status, problem) = bench.service.call(Method::GET, "/estates/tarnsey/coverage?gateway=dish", None).await;
    assert!(status == 422 && problem.to_string().contains("gateway"), "what it does not go by is refused: {problem}");

    bench.service.sign_heron_in();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("links.xlsx");
    bench.service.heron_says(&["link", "export", "--output", file.to_str().unwrap()]);
    assert!(std::fs::read(&file).unwrap().starts_with(b"PK"));
    let refused = bench.service.heron(&["link", "export", "--output", "links.pdf"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains(".csv or .xlsx"));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_asks_for_a_forecast_draws_it_and_explains_a_place() {
    let service = island().await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/coverage", service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("No forecast here yet")).await;
    browser.click(By::XPath("//button[text()='New forecast']")).await;
    browser.text_when("[data-add]", |text| text.contains("chapel-rise") && text.contains("gull-tower")).await;
    browser.fill("input[name=radius]", "4").await.unwrap();
    browser.fill("input[name=cell]", "100").await.unwrap();
    browser.click(By::XPath("//button[text()='Forecast']")).await;
    browser.text_when("[data-forecast=done]", |text| text.contains("done")).await;
    browser.text_when("[data-covered]", |text| text.contains("km²")).await;
    browser
        .text_when("[data-where-next]", |text| text.contains("No planned site") && text.contains("gull-tower"))
        .await;
    browser.text_when("[data-legend=margin]", |text| text.contains("40 dB or more")).await;
    let script = "const all = [...document.querySelectorAll('.over img')];
        return all.every((tile) => tile.classList.contains('leaflet-tile-loaded')) ? all.length : 0";
    until("tiles of the layer", async || {
        let loaded = browser.window.execute(script, Vec::new()).await.ok()?;
        loaded.json().as_u64().filter(|count| *count > 1)
    })
    .await;
    // Under the pointer, and at a click in the middle of the map.
    let click = "const map = document.querySelector('.map'), box = map.getBoundingClientRect();
        for (const kind of ['mousemove', 'mousedown', 'mouseup', 'click'])
            map.dispatchEvent(new MouseEvent(kind, { clientX: box.left + box.width / 2, clientY: box.top + box.height / 2, bubbles: true }));";
    browser.window.execute(click, Vec::new()).await.unwrap();
    browser.text_when("[data-under]", |text| text.contains("Under the pointer: ") && text.contains("dB")).await;
    let report = browser.text_when("[data-place-report]", |text| text.contains("line of sight")).await;
    assert!(report.contains("chapel-rise") && report.contains("dBm"), "{report}");
    browser.click(By::Css("select[name=layer] option[value=best_site]")).await;
    browser.text_when("[data-legend=best_site]", |text| text.contains("gull-tower")).await;

    // A site is planned by a click on the map.
    browser.tab("sites").await;
    browser.text_when("tr[data-site='chapel-rise']", |text| text.contains("gateway")).await;
    browser.window.execute(click, Vec::new()).await.unwrap();
    browser.fill("input[name=name]", "beacon-hill").await.unwrap();
    browser.click(By::XPath("//button[text()='Plan']")).await;
    browser.text_when("tr[data-site='beacon-hill']", |text| text.contains("planned")).await;
    browser.tab("devices").await;
    browser.text_when("main", |text| text.contains("No device here yet")).await;
    browser.close().await.unwrap();
}

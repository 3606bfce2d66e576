//! The survey: coverage as uplinks tell it, drive tests, changes of signal, and forecasts held against it.

use api::coverage::calibration::Calibration;
use api::coverage::comparison::{ForecastComparison, SurveyComparison};
use api::coverage::forecast::{Forecast, PlaceForecast};
use api::coverage::survey::{
    ChangedKind, SignalChange, SignalHistory, Survey, SurveyArea, SurveyAreaKind, SurveyHexagons, SurveyImport,
    SurveyImportEffect, SurveyPlace, SurveyQuantity,
};
use api::diagnosis::watch::Watch;
use chrono::{DateTime, TimeDelta, Utc};
use e2e::browser::Browser;
use e2e::service::Service;
use e2e::wait::until;
use lorawan::Eui64;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use store::{HeardRow, ObservationRow};
use thirtyfour::By;
use ulid::Ulid;

use crate::console::sign_in;
use crate::planning::{forecast, island};
use crate::scenes::{Bench, DEV_EUI, GATEWAY, registration};

/// Its payload is a position: each coordinate in 100,000ths of a degree, four bytes.
const WITH_POSITION: &str = r"
function decodeUplink(input) {
  const i32 = (at) => input.bytes.slice(at, at + 4).reduce((all, byte) => (all << 8) | byte, 0);
  return { data: { position: { latitude: i32(0) / 1e5, longitude: i32(4) / 1e5 } } };
}";

fn position(latitude_deg: f64, longitude_deg: f64) -> Vec<u8> {
    [latitude_deg, longitude_deg].iter().flat_map(|deg| ((deg * 1e5).round() as i32).to_be_bytes()).collect()
}

async fn surveyed(service: &Service, uplinks: u64) -> Survey {
    until("the survey has the uplinks", async || {
        let survey: Survey = service.get("survey").await;
        (survey.uplinks >= uplinks).then_some(survey)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn uplinks_with_a_position_are_surveyed_once_also_after_a_kill() {
    let mut bench = Bench::with_decoder(WITH_POSITION).await;
    bench.join().await;
    for n in 0..6 {
        bench.uplink(&position(54.70 + f64::from(n) * 1e-4, 3.90), false).await;
    }
    // What has no position, and what cannot have moved so far.
    bench.uplink(&position(0.0, 0.0), false).await;
    bench.uplink(&position(10.0, 3.9), false).await;
    let survey = surveyed(&bench.service, 6).await;
    assert_eq!((survey.uplinks, survey.devices, survey.placed), (6, 1, 6), "{survey:?}");
    let left_out = until("what cannot be is counted", async || {
        let survey: Survey = bench.service.get("survey").await;
        (survey.refused.iter().map(|left| left.count).sum::<u64>() == 2).then_some(survey.refused)
    });
    let reasons: Vec<String> = left_out.await.into_iter().map(|left| left.reason).collect();
    assert_eq!(reasons, ["no position", "a jump"]);
    assert_eq!(survey.gateways[0].gateway, "bench");

    let said: SurveyPlace = bench.service.get("survey/place?latitude_deg=54.7002&longitude_deg=3.9").await;
    let margin = said.values.iter().find(|value| value.quantity == SurveyQuantity::Margin).unwrap();
    assert!(margin.hexagon.uplinks >= 5 && margin.hexagon.words.ends_with(" dB"), "{said:?}");
    assert_eq!((said.devices, said.gateways[0].unheard), (vec!["probe-1".to_owned()], 0));
    let tile = "/estates/tarnsey/survey/tiles/11/1046/650?quantity=rssi";
    let answer = bench.service.request(Method::GET, tile).send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "image/png");
    let picture = image::load_from_memory(&answer.bytes().await.unwrap()).unwrap().into_rgba8();
    assert!(picture.pixels().any(|pixel| pixel.0[3] == 255), "a hexagon is drawn");
    let all: SurveyHexagons = bench.service.get("survey/hexagons?quantity=count&resolution=8").await;
    assert_eq!(all.hexagons.iter().map(|one| one.uplinks).sum::<u32>(), 6);

    // A kill loses none and doubles none.
    bench.service.kill();
    bench.service.start_again();
    let survey = surveyed(&bench.service, 6).await;
    assert_eq!(survey.uplinks, 6);
    for filter in ["data_rate=5", "device=probe-1", "gateway=bench", "since=2020-01-01T00:00:00Z"] {
        let survey: Survey = bench.service.get(&format!("survey?{filter}")).await;
        assert_eq!(survey.uplinks, 6, "{filter}");
    }
    for filter in ["data_rate=2", "until=2020-01-01T00:00:00Z"] {
        let survey: Survey = bench.service.get(&format!("survey?{filter}")).await;
        assert_eq!(survey.uplinks, 0, "{filter}");
    }
    for (path, status) in [
        ("survey?device=nobody", 404),
        ("survey/hexagons?resolution=15", 422),
        ("survey/place?latitude_deg=95&longitude_deg=3.9", 422),
        ("survey/tiles/40/0/0", 404),
    ] {
        assert_eq!(bench.service.refused(Method::GET, path, Value::Null).await.0, status, "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sharer_sees_the_survey_of_what_is_shared() {
    let mut bench = Bench::with_decoder(WITH_POSITION).await;
    let other = Eui64(DEV_EUI.0 + 1);
    let _: Value = bench.service.post("fleets", json!({ "slug": "other" })).await;
    let mut new = registration(other, "probe-2", Some("probe"));
    new["fleet"] = json!("other");
    let _: Value = bench.service.post("devices", new).await;
    bench.join().await;
    bench.uplink(&position(54.70, 3.90), false).await;
    surveyed(&bench.service, 1).await;
    for (fleet, uplinks) in [("bench", 1), ("other", 0)] {
        let share = json!({ "share": { "scope": { "fleet": fleet }, "may": "read" } });
        let token = bench.service.invited(share, fleet).await;
        let (status, survey) = bench.service.by(&token, Method::GET, "/estates/tarnsey/survey", None).await;
        assert_eq!((status, &survey["uplinks"]), (StatusCode::OK, &json!(uplinks)), "{survey}");
        let (_, place) = bench
            .service
            .by(&token, Method::GET, "/estates/tarnsey/survey/place?latitude_deg=54.7&longitude_deg=3.9", None)
            .await;
        assert_eq!(place["devices"].as_array().unwrap().len(), uplinks, "{place}");
        let (status, _) = bench.service.by(&token, Method::GET, "/estates/tarnsey/survey/imports", None).await;
        assert_eq!(status, StatusCode::FORBIDDEN, "drive tests are the whole estate's");
        let signal = "/estates/tarnsey/survey/signal?device=probe-1&gateway=bench";
        let (status, _) = bench.service.by(&token, Method::GET, signal, None).await;
        assert_eq!(status.as_u16(), if uplinks == 1 { 200 } else { 404 });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drive_test_joins_the_survey_and_leaves_it_again() {
    let service = Service::first_start().await;
    let _: Value = service.post("gateways", json!({ "eui": GATEWAY, "name": "bench" })).await;
    let csv = "when,lat,lon,gateway,signal,snr,sf\n\
        2026-05-04T09:12:00Z,54.70,3.90,bench,-101,4.5,9\n\
        2026-05-04T09:12:30Z,54.7001,3.9,,,,9\n\
        2026-05-04T09:13:00Z,54.7002,3.9,nowhere,-101,4.5,9\n";
    let new = |preview: bool| json!({ "name": "harbour", "csv": csv, "columns": { "when": "time", "signal": "rssi_dbm" }, "preview": preview });
    let effect: SurveyImportEffect = service.post("survey/imports", new(true)).await;
    assert_eq!((effect.import.uplinks, effect.import.heard, effect.left_out, effect.done), (2, 1, 1, false));
    assert_eq!(effect.wrong[0].line, 4);
    assert!(effect.wrong[0].problem.to_string().contains("nowhere"), "{:?}", effect.wrong);
    assert!(service.list::<SurveyImport>("survey/imports").await.is_empty());
    let effect: SurveyImportEffect = service.post("survey/imports", new(false)).await;
    assert!(effect.done);
    let survey: Survey = service.get("survey").await;
    assert_eq!((survey.uplinks, survey.lost), (1, 1));
    let said: SurveyPlace = service.get("survey/place?latitude_deg=54.7&longitude_deg=3.9").await;
    assert_eq!(said.devices, ["drive test harbour"]);
    let heard = said.values.iter().find(|value| value.quantity == SurveyQuantity::Heard).unwrap();
    assert_eq!((heard.hexagon.words.as_str(), heard.hexagon.unheard), ("50 %", 1));

    let (status, problem) = service.refused(Method::POST, "survey/imports", new(false)).await;
    assert!(status == 422 && problem.to_string().contains("another import has this name"), "{problem}");
    for (change, field) in [
        (json!({ "columns": {} }), "csv"),
        (json!({ "columns": { "when": "clock" } }), "columns"),
        (json!({ "csv": "time,lat,lon,sf\nyesterday,1,2,9\n" }), "csv"),
        (json!({ "name": "" }), "name"),
    ] {
        let mut bad = new(false);
        bad["name"] = json!("another");
        change.as_object().unwrap().iter().for_each(|(name, value)| bad[name] = value.clone());
        let (status, problem) = service.refused(Method::POST, "survey/imports", bad).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some(field)), "{change}: {problem}");
    }
    let done = service.call(Method::DELETE, "/estates/tarnsey/survey/imports/harbour", None).await;
    assert_eq!(done.0, StatusCode::NO_CONTENT);
    let survey: Survey = service.get("survey").await;
    assert_eq!((survey.uplinks, survey.lost), (0, 0));
}

/// Twenty days of uplinks, one an hour, of devices at the second gateway; since the twelfth day it hears them less well.
fn twenty_days(estate_id: u32, now: DateTime<Utc>, devices: &[Eui64]) -> Vec<ObservationRow> {
    let row = |hour: i64, n: usize, dev_eui: Eui64| {
        let at = now - TimeDelta::hours(480 - hour);
        let fading = ((hour * 31 + n as i64 * 17) % 11) as f32 / 2.0 - 2.5;
        let weaker = if hour >= 12 * 24 { 8.0 } else { 0.0 };
        let level = |gateway: Eui64, lost: f32| HeardRow { gateway, rssi_dbm: -95.0 + fading - lost, snr_db: 9.0 };
        ObservationRow {
            estate_id,
            id: Ulid::from_parts(at.timestamp_millis().unsigned_abs(), n as u128),
            dev_eui,
            import_id: None,
            told_place: None,
            data_rate: 5,
            needed_snr_db: -7.5,
            power_dbm: Some(14.0),
            uplinks: 3,
            lost: 0,
            heard: vec![level(GATEWAY, 0.0), level(Eui64(GATEWAY.0 + 1), weaker)],
        }
    };
    (0..480).flat_map(|hour| devices.iter().enumerate().map(move |(n, eui)| row(hour, n, *eui))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_hears_less_is_found_with_the_day() {
    let mut service = Service::first_start().await;
    for (eui, name) in [(GATEWAY, "bench"), (Eui64(GATEWAY.0 + 1), "mast")] {
        let _: Value = service.post("gateways", json!({ "eui": eui, "name": name })).await;
    }
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let devices: Vec<Eui64> = (0..4).map(|n| Eui64(DEV_EUI.0 + n)).collect();
    for (n, eui) in devices.iter().enumerate() {
        let mut new = registration(*eui, &format!("probe-{n}"), None);
        new["place"] = json!({ "latitude_deg": 54.70 + n as f64 * 0.01, "longitude_deg": 3.9 });
        let _: Value = service.post("devices", new).await;
    }
    let now = Utc::now();
    service.store().await.add_observations(&twenty_days(1, now, &devices), None).await.unwrap();
    service.stop();
    service.start_again();
    let changes: Vec<SignalChange> = until("changes were looked for", async || {
        Some(service.list("survey/changes").await).filter(|all: &Vec<SignalChange>| !all.is_empty())
    })
    .await;
    let [change] = changes.as_slice() else { panic!("{changes:?}") };
    assert_eq!((change.kind, change.name.as_str(), change.links, change.of), (ChangedKind::Gateway, "mast", 4, 4));
    assert!((change.change_db + 8.0).abs() < 1.0, "{change:?}");
    let off = change.since - (now - TimeDelta::days(8));
    assert!(off.abs() < TimeDelta::hours(30), "{off}");
    let watch: Watch = service.get("watch").await;
    let told = watch.concerns.iter().find(|one| one.what == change.what).unwrap();
    assert!(told.next_step.contains("antenna") && told.since == Some(change.since), "{told:?}");
    let signal: SignalHistory = service.get("survey/signal?device=probe-2&gateway=mast").await;
    assert_eq!((signal.points.len(), signal.steps.len()), (480, 1), "{:?}", signal.steps);
    let signal: SignalHistory = service.get("survey/signal?device=probe-2&gateway=bench").await;
    assert_eq!(signal.steps, []);

    // Where only one gateway hears, it says so; and the client says the same.
    let areas: Vec<SurveyArea> = service.list("survey/areas?gateway=mast").await;
    assert!(areas.iter().all(|area| area.kind != SurveyAreaKind::Dark), "{areas:?}");
    service.sign_heron_in();
    let out = service.heron(&["survey", "changes"]);
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert!(out.status.code() == Some(1) && said.contains("mast") && said.contains("4 of 4"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn old_observations_are_deleted_and_others_stay() {
    let service = Service::first_start().await;
    let store = service.store().await;
    let now = Utc::now();
    let rows = twenty_days(1, now, &[DEV_EUI]);
    store.add_observations(&rows, Some("01KBA7Q2V9ZB3W4X5Y6Z7A8B9C")).await.unwrap();
    // The same once more: each stays one.
    store.add_observations(&rows[..100], None).await.unwrap();
    assert_eq!(store.survey_mark().await.unwrap().as_deref(), Some("01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"));
    let read = async |most: u32| {
        let mut all = Vec::new();
        let cut = store.observations(1, most, |row| all.push(row)).await.unwrap();
        (all, cut)
    };
    let (all, cut) = read(1_000).await;
    assert_eq!((all.len(), cut), (480, false));
    assert!(all.windows(2).all(|pair| pair[0].id < pair[1].id), "oldest first");
    assert_eq!(all[0], rows[0], "as it was written");
    let (latest, cut) = read(100).await;
    assert_eq!((latest.len(), cut, latest[99].id), (100, true, rows[479].id));
    assert_eq!(store.prune_observations(now - TimeDelta::days(5)).await.unwrap(), 360);
    assert_eq!(store.prune_observations(now - TimeDelta::days(5)).await.unwrap(), 0);
    assert_eq!(read(1_000).await.0.len(), 120);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_imports_a_drive_test_and_lays_a_forecast_beside_it() {
    let service = island().await;
    let made: Forecast = forecast(&service, json!({ "name": "small", "radius_m": 3000, "cell_m": 100 })).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/coverage?tab=survey", service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("Nothing is surveyed here yet")).await;

    // An unknown column is mapped by hand, and the preview shows what would be imported.
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tarnsey/drive-test.csv");
    let chooser = browser.window.find(By::Css("[data-import] input[type=file]")).await.unwrap();
    chooser.send_keys(std::fs::canonicalize(file).unwrap().to_str().unwrap()).await.unwrap();
    browser.text_when("[data-effect]", |text| text.contains("of which 0 were heard")).await;
    browser.click(By::XPath("//label[contains(., 'signal')]//option[@value='rssi_dbm']")).await;
    browser.text_when("[data-effect]", |text| !text.contains("of which 0 were heard")).await;
    browser.click(By::XPath("//button[contains(., 'Import')]")).await;
    browser.text_when("tr[data-drive-test='drive-test']", |text| text.contains("owner")).await;
    browser.text_when("[data-survey]", |text| text.contains("uplinks")).await;
    browser.text_when("tr[data-noise-of='chapel-rise']", |text| text.contains("dBm")).await;

    // Beside a forecast, with one view; as a difference; against the survey there is nothing of the last week.
    browser.window.goto(format!("{}/coverage?forecast={}", service.http, made.id)).await.unwrap();
    browser.click(By::Css("select[name=with] option[value=survey]")).await;
    browser.text_when("[data-middle]", |text| text.contains("0 hexagons and gateways")).await;
    browser
        .text_when("[data-compare=beside]", |text| text.contains("Forecast: small") && text.contains("Survey"))
        .await;
    let maps = browser.window.find_all(By::Css("[data-compare] .map")).await.unwrap().len();
    assert_eq!(maps, 2);
    browser.click(By::XPath("//button[normalize-space()='Difference']")).await;
    browser.text_when("[data-legend=difference]", |text| text.contains("less than -20 dB")).await;

    // It leaves the survey again.
    browser.window.goto(format!("{}/coverage?tab=survey", service.http)).await.unwrap();
    browser.text_when("tr[data-drive-test='drive-test']", |text| text.contains("Remove")).await;
    browser.click(By::XPath("//tr[@data-drive-test]//button[normalize-space()='Remove']")).await;
    browser.click(By::XPath("//button[normalize-space()='Remove the drive test']")).await;
    browser.text_when("main", |text| text.contains("Nothing is surveyed here yet")).await;
    browser.close().await.unwrap();
}

/// Uplinks of one device on its way to and fro over an area, 300 m apart.
fn fifty_thousand(estate_id: u32, now: DateTime<Utc>) -> Vec<ObservationRow> {
    const ROWS: i64 = 200;
    const COLUMNS: i64 = 252;
    let row = |n: i64| {
        let (y, x) = (n / COLUMNS, n % COLUMNS);
        // To and fro, for nothing jumps.
        let x = if y % 2 == 0 { x } else { COLUMNS - 1 - x };
        let at = now - TimeDelta::minutes(ROWS * COLUMNS - n);
        ObservationRow {
            estate_id,
            id: Ulid::from_parts(at.timestamp_millis().unsigned_abs(), n as u128),
            dev_eui: DEV_EUI,
            import_id: None,
            told_place: Some((54.43 + y as f64 * 0.0027, 3.30 + x as f64 * 0.00466)),
            data_rate: 5,
            needed_snr_db: -7.5,
            power_dbm: Some(14.0),
            uplinks: 1,
            lost: 0,
            heard: vec![HeardRow {
                gateway: GATEWAY,
                rssi_dbm: -90.0 - (n % 30) as f32,
                snr_db: (n % 17) as f32 - 6.0,
            }],
        }
    };
    (0..ROWS * COLUMNS).map(row).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_draws_fifty_thousand_hexagons_as_pictures() {
    let service = Service::first_start().await;
    let gateway = json!({ "eui": GATEWAY, "name": "bench", "latitude_deg": 54.7, "longitude_deg": 3.9 });
    let _: Value = service.post("gateways", gateway).await;
    let _: Value = service.post("fleets", json!({ "slug": "bench" })).await;
    let _: Value = service.post("devices", registration(DEV_EUI, "probe-1", None)).await;
    service.store().await.add_observations(&fifty_thousand(1, Utc::now()), None).await.unwrap();
    let (status, problem) = service.refused(Method::GET, "survey/hexagons?resolution=12", Value::Null).await;
    assert!(status == 422 && problem.to_string().contains("ask for larger ones"), "{problem}");
    let all: SurveyHexagons = service.get("survey/hexagons?resolution=8").await;
    assert!(all.hexagons.len() > 5_000, "{}", all.hexagons.len());

    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/coverage?tab=survey", service.http)).await.unwrap();
    browser.text_when("[data-survey]", |text| text.contains("50,400 uplinks")).await;
    browser.text_when("[data-legend=margin]", |text| text.contains("20 dB or more")).await;
    let script = "const all = [...document.querySelectorAll('.over img')];
        return all.length > 1 && all.every((tile) => tile.classList.contains('leaflet-tile-loaded')) ? document.querySelectorAll('.map *').length : 0";
    let elements = until("tiles of the survey", async || {
        let loaded = browser.window.execute(script, Vec::new()).await.ok()?;
        loaded.json().as_u64().filter(|count| *count > 0)
    })
    .await;
    assert!(elements < 300, "the map has {elements} elements: it draws no hexagon by itself");
    let click = "const map = document.querySelector('.map'), box = map.getBoundingClientRect();
        for (const kind of ['mousemove', 'mousedown', 'mouseup', 'click'])
            map.dispatchEvent(new MouseEvent(kind, { clientX: box.left + box.width / 2 + 40, clientY: box.top + box.height / 2, bubbles: true }));";
    browser.window.execute(click, Vec::new()).await.unwrap();
    browser.text_when("[data-under]", |text| text.contains("Under the pointer: ") && text.contains("dB")).await;
    let report = browser.text_when("[data-survey-place]", |text| text.contains("Sent by")).await;
    assert!(report.contains("probe-1") && report.contains("bench"), "{report}");
    browser.click(By::Css("select[name=quantity] option[value=best_gateway]")).await;
    browser.text_when("[data-legend=best_gateway]", |text| text.contains("bench")).await;
    browser.click(By::Css("select[name=rate] option[value='2']")).await;
    browser.text_when("[data-survey]", |text| text.contains("0 uplinks")).await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_model_is_calibrated_on_a_drive_test_and_forecasts_are_held_against_it() {
    let service = island().await;
    let few = json!({ "name": "autumn" });
    let (status, problem) = service.refused(Method::POST, "calibrations", few.clone()).await;
    assert!(status == 422 && problem.to_string().contains("0 measured points are too few"), "{problem}");
    let csv = include_str!("../../../../demo/tarnsey/drive-test.csv");
    let new = json!({ "name": "harbour", "csv": csv, "columns": { "signal": "rssi_dbm" } });
    let effect: SurveyImportEffect = service.post("survey/imports", new).await;
    // Two of the four gateways that heard it are not here.
    assert!(effect.import.uplinks > 60 && effect.left_out > 10, "{effect:?}");

    let made: Calibration = service.post("calibrations", few).await;
    assert!(made.points > 100 && made.unheard > 0 && made.by_gateway.len() == 2, "{made:?}");
    assert!(made.after.middle_db.abs() < 3.0, "{made:?}");
    let open: Calibration = service.post("calibrations", json!({ "name": "open", "model": "hata_open" })).await;
    assert!(open.before.spread_db > open.after.spread_db && open.offset_db < -5.0, "{open:?}");
    let all: Vec<Calibration> = service.list("calibrations").await;
    assert_eq!(all.iter().map(|one| one.wanted.name.as_str()).collect::<Vec<_>>(), ["autumn", "open"]);
    for (bad, field) in
        [(json!({ "name": "open" }), "name"), (json!({ "name": "x", "time_percent": 0 }), "time_percent")]
    {
        let (status, problem) = service.refused(Method::POST, "calibrations", bad).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some(field)), "{problem}");
    }

    // A forecast can only use a calibration of its own model, and it names it.
    let wanted = |calibration: Option<&str>| json!({ "radius_m": 4000, "cell_m": 100, "model": "hata_open", "calibration": calibration });
    for (name, why) in
        [("autumn", "can only use a calibration of its own model"), ("none", "no calibration has this name")]
    {
        let (status, problem) = service.refused(Method::POST, "forecasts", wanted(Some(name))).await;
        assert!(status == 422 && problem.to_string().contains(why), "{problem}");
    }
    let plain: Forecast = forecast(&service, wanted(None)).await;
    let calibrated: Forecast = forecast(&service, wanted(Some("open"))).await;
    assert_eq!((calibrated.sites_reused, calibrated.calibration.as_ref()), (2, Some(&open)), "its losses are the same");
    let at = |forecast: &Forecast| format!("forecasts/{}/place?latitude_deg=54.70&longitude_deg=3.87", forecast.id);
    let (before, after): (PlaceForecast, PlaceForecast) =
        (service.get(&at(&plain)).await, service.get(&at(&calibrated)).await);
    assert!(after.links[0].uplink_dbm < before.links[0].uplink_dbm - 3.0, "{:?}", after.links[0]);
    assert!(after.links[0].parts.iter().any(|part| part.what == "calibration"));

    // It is nearer to the survey, and beside the plain one it says what is lost.
    let since = "since=2026-10-01T00:00:00Z";
    let off: SurveyComparison = service.get(&format!("forecasts/{}/survey?{since}", plain.id)).await;
    let near: SurveyComparison = service.get(&format!("forecasts/{}/survey?{since}", calibrated.id)).await;
    assert!(off.middle_db.unwrap() < near.middle_db.unwrap() - 3.0, "{off:?} {near:?}");
    assert!(off.compared > 20 && off.legend.len() == 7, "{off:?}");
    let path = format!("forecasts/{}/comparison?with={}", calibrated.id, plain.id);
    let compared: ForecastComparison = service.get(&path).await;
    assert_eq!(compared.parameters.iter().map(|one| one.name.as_str()).collect::<Vec<_>>(), ["calibration"]);
    assert!(compared.middle_db.unwrap() < -3.0 && compared.gained.area_km2 <= compared.lost.area_km2, "{compared:?}");
    for query in [format!("with={}", plain.id), since.to_owned(), format!("{since}&gateway=gull-tower")] {
        let path = format!("/estates/tarnsey/forecasts/{}/differences/11/1046/650?{query}", calibrated.id);
        let answer = service.request(Method::GET, &path).send().await.unwrap();
        let picture = image::load_from_memory(&answer.bytes().await.unwrap()).unwrap().into_rgba8();
        assert!(picture.pixels().any(|pixel| pixel.0[3] == 255), "{query}");
    }
    for (query, field) in [("with=nothing", "with"), ("layer=best_site", "layer"), ("", "with")] {
        let path = format!("forecasts/{}/comparison?{query}", plain.id);
        let (status, problem) = service.refused(Method::GET, &path, Value::Null).await;
        assert_eq!((status, problem.field.as_deref()), (422, Some(field)), "{query}: {problem}");
    }
}

//! Frames, regions and airtime: by the client, over HTTP and in the console.

use api::Page;
use api::calculator::airtime::AirtimeTable;
use api::calculator::frame::FrameReport;
use api::calculator::region::{RegionDetail, RegionSummary};
use api::message::{Body, Message};
use e2e::browser::Browser;
use e2e::service::Service;
use e2e::wait::until;
use lorawan::region::Region;
use lorawan::wire::{DataRepr, JoinRequestRepr, UplinkFlags};
use lorawan::{AesKey, DevAddr, crypto};
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, DEV_EUI, JOIN_EUI};

/// A data frame of nobody registered, with its keys.
fn foreign() -> (Vec<u8>, AesKey, AesKey) {
    let (nwk, app) = (AesKey([0x11; 16]), AesKey([0x22; 16]));
    let frame = DataRepr::uplink(DevAddr(0x0300_0001), 70_000, UplinkFlags::default(), Some((5, b"hello")))
        .with_fopts(&[0x02])
        .emit(&crypto::MicKey::new(&nwk), &crypto::PayloadKey::new(&app))
        .unwrap();
    (frame, nwk, app)
}

#[tokio::test]
async fn a_frame_is_held_against_the_device_it_comes_from() {
    let mut bench = Bench::set_up().await;
    let ask = |frame: String| json!({ "frame": frame });

    // Before it has joined, its join-request can be checked under its root key.
    let request = bench.device.join_request();
    let report: FrameReport = bench.service.post("frame", ask(hex::encode(&request.phy_payload))).await;
    assert_eq!(report.device.as_ref().map(|d| d.name.as_str()), Some("probe-1"));
    assert_eq!((report.verdicts[0].key.as_str(), report.verdicts[0].agrees), ("AppKey", true));
    let other = JoinRequestRepr { join_eui: JOIN_EUI, dev_eui: DEV_EUI, dev_nonce: 1 };
    let other = other.emit(&crypto::MicKey::new(&AesKey([9; 16])));
    let report: FrameReport = bench.service.post("frame", ask(hex::encode(other))).await;
    assert_eq!(report.verdicts[0].note, "the device has another AppKey");

    bench.join().await;
    let uplink = bench.device.uplink(2, &[0x0a, 0x1b], false).unwrap();
    let report: FrameReport = bench.service.post("frame", ask(hex::encode(&uplink.phy_payload))).await;
    assert_eq!(report.device.map(|d| d.dev_eui), Some(DEV_EUI));
    assert_eq!(report.payload.as_deref(), Some("0a1b"));
    let counter = &report.verdicts[0].counters[0];
    assert_eq!((counter.counter, counter.origin.as_str(), counter.agrees), (0, "next", true));

    // The client, which takes the device's name as well.
    bench.service.sign_heron_in();
    let hex = hex::encode(&uplink.phy_payload);
    let said = bench.service.heron_says(&["frame", "show", &hex, "--device", "probe-1"]);
    assert!(said.contains("Compared with probe-1") && said.contains("Payload in the clear: 0a 1b"), "{said}");

    // What was heard is kept with its message, and says the same when it is taken apart later.
    bench.uplink(&[0x0c, 0x1d], true).await;
    let heard = until("the uplink", async || {
        let page: Page<Message> = bench.service.get("traffic?type=uplink,join,downlink").await;
        page.items.iter().any(|m| matches!(&m.body, Body::Uplink(u) if u.frame.payload == "0c1d")).then_some(page.items)
    })
    .await;
    let bytes_of =
        |kind: &str| heard.iter().find(|m| m.body.kind() == kind).and_then(|m| m.body.phy_payload()).unwrap();
    let report: FrameReport = bench.service.post("frame", ask(bytes_of("uplink").into())).await;
    assert_eq!(
        (report.payload.as_deref(), report.verdicts[0].counters[1].origin.as_str()),
        (Some("0c1d"), "seen before")
    );
    let report: FrameReport = bench.service.post("frame", ask(bytes_of("join").into())).await;
    assert!(report.verdicts[0].agrees);
    let report: FrameReport =
        bench.service.post("frame", json!({ "frame": bytes_of("downlink"), "device": DEV_EUI })).await;
    assert_eq!(report.message_type.as_deref(), Some("join-accept"));
    assert!(report.summary.contains("DevAddr") && report.verdicts[0].agrees, "{}", report.summary);
    let said = bench.service.heron_says(&["traffic", "list", "--bytes"]);
    assert!(said.contains(&format!("    frame: {}", bytes_of("uplink"))), "{said}");

    let (frame, ..) = foreign();
    let report: FrameReport = bench.service.post("frame", ask(hex::encode(&frame))).await;
    assert_eq!((report.device, report.verdicts.len(), report.payload), (None, 0, None), "nobody's");
    let (status, problem) =
        bench.service.refused(Method::POST, "frame", json!({ "frame": "00", "device": "02b0090000000077" })).await;
    assert_eq!((status, problem.code.as_str()), (404, "not_found"));
}

#[tokio::test]
async fn the_client_needs_no_service_to_take_a_frame_apart() {
    let service = Service::first_start().await;
    let (frame, nwk, app) = foreign();
    let nowhere = tempfile::tempdir().unwrap();
    let heron = |args: &[&str]| {
        let output = service
            .heron_command(args)
            .env_remove("HERON_TOKEN")
            .env("HERON_URL", "http://127.0.0.1:1")
            .env("HERON_CONFIG", nowhere.path())
            .output()
            .unwrap();
        (output.status.code(), String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap())
    };
    let (nwk, app) = (nwk.to_hex(), app.to_hex());
    let hex = hex::encode(&frame);
    let (code, said, _) = heron(&["frame", "show", &hex, "--nwk-s-key", &nwk, "--app-s-key", &app]);
    assert_eq!(code, Some(0));
    assert!(said.contains("counter 70000 (found by search): agrees"), "{said}");
    assert!(said.contains("· LinkCheckReq  asks how well it is heard"), "{said}");
    assert!(said.contains("Payload in the clear: 68 65 6c 6c 6f"), "{said}");
    let (_, json, _) = heron(&["frame", "show", &hex, "--nwk-s-key", &nwk, "--json"]);
    let report: FrameReport = serde_json::from_str(&json).unwrap();
    assert_eq!((report.bytes, report.verdicts[0].agrees), (hex.clone(), true));
    let (_, said, _) = heron(&["frame", "show", &hex[..20]]);
    assert!(said.contains("From byte 8 on it makes no sense"), "{said}");

    for (args, part) in [
        (vec!["frame", "show", "zz"], "neither hex digits nor base64"),
        (vec!["frame", "show", &hex, "--app-s-key", "0102"], "app_s_key: This value cannot be used"),
        (vec!["frame", "show", &hex, "--data-rate", "16"], "0 to 15 are allowed"),
        (vec!["frame", "show", &hex, "--device", "probe-1"], "sign in first"),
        (vec!["airtime", "calc", "--payload-bytes", "243"], "0 to 242 bytes are allowed"),
    ] {
        let (code, _, error) = heron(&args);
        assert_eq!(code, Some(1), "{args:?}");
        assert!(error.contains(part) && !error.contains("0102"), "{args:?}: {error}");
    }
    let (code, _, error) = heron(&["region", "show", "EU999"]);
    assert_eq!(code, Some(2));
    assert!(error.contains("EU868, US915"), "{error}");

    let (_, said, _) = heron(&["region", "list"]);
    assert_eq!(said.lines().count(), 1 + Region::ALL.len());
    for region in Region::ALL {
        let (code, said, error) = heron(&["region", "show", region.name()]);
        assert_eq!((code, error.as_str()), (Some(0), ""));
        for part in ["Uplink channels", "Join channels", "Data rates", "Receive windows", "SUB-BAND", "ChMaskCntl 7"] {
            assert!(said.contains(part), "{region} does not say {part}");
        }
    }
    let (_, said, _) = heron(&["airtime", "calc", "--payload-bytes", "13", "--interval", "10min"]);
    assert!(said.contains("DR5   SF7/125 kHz") && said.contains("61.7 ms"), "{said}");
}

#[tokio::test]
async fn regions_and_airtime_over_http() {
    let service = Service::first_start().await;
    let regions: api::Page<RegionSummary> = service.done(Method::GET, "/regions", None).await;
    let regions = regions.items;
    assert_eq!(regions.iter().map(|r| r.name).collect::<Vec<_>>(), Region::ALL);
    let us: RegionDetail = service.done(Method::GET, "/regions/US915", None).await;
    assert_eq!((us.uplinks.len(), us.downlinks.len(), us.rx2_bandwidth_khz), (72, 8, 500));
    assert_eq!((us.blocks[1].channels.as_str(), us.blocks[1].mask, us.blocks.len()), ("8-15, 65", 2, 8));
    let table: AirtimeTable =
        service.done(Method::GET, "/regions/as923-1/airtime?payload_bytes=11&interval_s=60&dwell_off=true", None).await;
    assert_eq!((table.region, table.dwell_ms, table.rows[0].fits), (Region::As923_1, None, true));
    let same: Value = service.done(Method::GET, "/regions/EU868/airtime?payload_bytes=11", None).await;
    let said: Value = service.heron_json(&["airtime", "calc", "--payload-bytes", "11"]);
    assert_eq!(same, said, "one definition");

    for (path, status, part) in [
        ("/regions/EU999", 404, "EU868, US915"),
        ("/regions/EU868/airtime", 422, "payload_bytes"),
        ("/regions/EU868/airtime?payload_bytes=300", 422, "0 to 242 bytes"),
        ("/regions/EU868/airtime?payload_bytes=1&interval_s=0", 422, "interval_s"),
        ("/regions/EU868/airtime?payload_bytes=1&colour=red", 422, "colour"),
    ] {
        let (given, body) = service.call(Method::GET, path, None).await;
        assert_eq!(given, status, "{path}");
        assert!(body.to_string().contains(part), "{path}: {body}");
    }
    for (body, part) in [
        (json!({ "frame": "zz" }), "neither hex digits nor base64"),
        (json!({ "frame": "00".repeat(600) }), "600 bytes are more than the 512"),
        (json!({ "frame": "00", "app_key": "12" }), "app_key"),
        (json!({ "frame": "00", "app_key": "12", "device": "02b0090000000001" }), "not both"),
        (json!({ "frame": "00", "region": "EU999" }), "EU999"),
        (json!({ "frame": "00", "colour": "red" }), "colour"),
    ] {
        let (status, problem) = service.refused(Method::POST, "frame", body).await;
        assert_eq!(status, 422);
        assert!(problem.to_string().contains(part), "{problem}");
    }
    let (status, _) = service.call(Method::POST, "/estates/elsewhere/frame", Some(json!({ "frame": "00" }))).await;
    assert_eq!(status, 404);
    let anonymous = reqwest::get(format!("{}/api/v1/regions", service.http)).await.unwrap();
    assert_eq!(anonymous.status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tools_in_the_console() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let uplink = bench.device.uplink(2, &[0x0a, 0x1b], false).unwrap();
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &bench.service).await;

    browser.click(By::LinkText("Traffic")).await;
    browser.click(By::XPath("//li[contains(., 'joined')]//a[text()='show the frame']")).await;
    let section = browser.text_when("section", |text| text.contains("Compared with probe-1")).await;
    assert!(section.contains("with AppKey") && section.contains("the device has this key"), "{section}");

    browser.window.goto(format!("{}/tools", bench.service.http)).await.unwrap();
    browser.text_when("h1", |text| text == "What is in this frame?").await;
    browser.click(By::XPath("//button[text()='a downlink that sets channels']")).await;
    browser.text_when("table[aria-label=Fields]", |text| text.contains("of all channels: 8-15, 65 on")).await;
    browser.fill("textarea", &hex::encode(&uplink.phy_payload)).await.unwrap();
    let section = browser.text_when("section", |text| text.contains("Compared with probe-1")).await;
    assert!(section.contains("agrees") && section.contains("Payload in the clear: 0a 1b"), "{section}");
    browser.fill("textarea", "40 67 4").await.unwrap();
    browser.text_when("[role=alert]", |text| text.contains("a digit is missing or one too many")).await;
    browser.fill("textarea", "4067452303859c0102").await.unwrap();
    browser.text_when("section", |text| text.contains("From byte 8 on it makes no sense")).await;
    let address = browser.window.current_url().await.unwrap();
    assert!(address.query().unwrap().contains("frame=4067452303859c0102"), "{address}");

    browser.click(By::LinkText("Regions")).await;
    browser.click(By::LinkText("US915")).await;
    browser.text_when("table[aria-label='Data rates']", |text| text.contains("SF10/125 kHz up 11")).await;
    let drawn = browser.window.find_all(By::Css("svg[role=img] rect title")).await.unwrap().len();
    assert_eq!(drawn, 72 + 8 + 1 + 8, "every channel, RX2 and the beacon's");

    browser.click(By::Css("a[href='/tools/airtime']")).await;
    browser.text_when("tr[data-rate='0']", |text| text.contains("within limits")).await;
    browser.fill("input[max='242']", "60").await.unwrap();
    browser.text_when("tr[data-rate='0']", |text| text.contains("too long")).await;
    browser.text_when("tr[data-rate='5']", |text| text.contains("within limits")).await;
    browser.close().await.unwrap();
}

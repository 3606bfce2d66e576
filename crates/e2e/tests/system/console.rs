//! The console in a headless browser.

use std::collections::HashMap;

use api::gateway::Gateway;
use e2e::browser::Browser;
use e2e::service::Service;
use simulator::device::Downlink;
use simulator::world::{What, World};
use thirtyfour::By;

use crate::scenes::tarnsey;

pub(crate) async fn sign_in(browser: &Browser, service: &Service) {
    browser.window.goto(&service.http).await.unwrap();
    browser.text_when("h1", |text| text == "Keen Heron").await;
    browser.fill("input[name=password]", "not this one").await.unwrap();
    browser.click(By::Css("form button")).await;
    browser.text_when("[role=alert]", |text| text.contains("Name or password is wrong")).await;
    browser.fill("input[name=password]", &service.password).await.unwrap();
    browser.click(By::Css("form button")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    browser.window.goto(format!("{}/gateways", service.http)).await.unwrap();
    browser.text_when("h1", |text| text == "Gateways").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_a_command_that_arrives() {
    let service = Service::first_start().await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    let empty = browser.text_when("main", |text| text.contains("No gateway is registered yet")).await;
    assert!(empty.contains("UDP port 1700") && empty.contains("ready to adopt"), "an empty page teaches the next step");

    let scenario = tarnsey(&["sluice-07", "collar-19"]);
    service.register(&scenario).await;
    let world = World::start(&scenario, service.udp, &HashMap::new()).await.unwrap();
    let mut events = world.events();

    // Registered elsewhere, it shows up here without a refresh.
    let row = browser.text_when("tr[data-gateway=chapel-rise]", |text| text.contains("listening")).await;
    assert!(row.contains("02a1 f000 0000 0001"), "{row}");
    browser.text_when("main", |text| text.contains("02c7 e000 0000 00ff")).await;

    // Somebody else's gateway, adopted: the form knows its EUI, and a MAC address would do as well.
    browser.click(By::Css("button[aria-label='Adopt 02c7e000000000ff']")).await;
    browser
        .text_when("form[aria-label='Register a gateway']", |text| text.contains("It connects from 127.0.0.1"))
        .await;
    browser.fill("form input[name=name]", "lantern-point").await.unwrap();
    browser.fill("form input[name=eui]", "02:c7:e0:00:00:ff").await.unwrap();
    browser.click(By::XPath("//button[text()='Adopt' and not(@aria-label)]")).await;
    let offers = browser.text_when("[data-offers]", |text| text.contains("02c7 e0ff fe00 00ff")).await;
    assert!(offers.contains("02c7 e0ff ff00 00ff"), "{offers}");
    browser.fill("form input[name=eui]", "02c7 e000 0000 00ff").await.unwrap();
    browser.click(By::XPath("//button[text()='Adopt' and not(@aria-label)]")).await;
    let row = browser.text_when("tr[data-gateway=lantern-point]", |text| text.contains("listening")).await;
    assert!(row.contains("02c7 e000 0000 00ff"), "{row}");
    browser.text_when("main", |text| text.contains("No strangers.")).await;

    // One gateway: what it reports, and where its own GPS puts it.
    browser.click(By::LinkText("chapel-rise")).await;
    browser.text_when("[data-report]", |text| text.contains("with a wrong CRC") && text.contains("54.71200")).await;
    browser.tab("setup").await;
    browser.fill("form input[name=latitude]", "1").await.unwrap();
    browser.click(By::XPath("//button[text()='Use its GPS position']")).await;
    browser.click(By::XPath("//button[text()='Save']")).await;
    browser.text_when("form [role=status]", |text| text == "Saved.").await;
    let placed: Gateway = service.get("gateways/02a1f00000000001").await;
    assert_eq!((placed.latitude_deg, placed.beacons), (Some(54.712), true), "what was not touched stays");

    // Without a refresh: the join and the refusal appear as they happen.
    browser.click(By::LinkText("Devices")).await;
    browser.text_when("tr[data-device='sluice-07']", |text| text.contains("active")).await;
    browser.text_when("main", |text| text.contains("the AppKey in the device differs") && text.contains("Next:")).await;

    // What does not work leads the page that is opened first.
    browser.click(By::LinkText("Watch")).await;
    let worst = browser.text_when("[data-concerns] li", |text| text.contains("collar-19")).await;
    assert!(worst.contains("the AppKey in the device differs") && worst.contains("Next:"), "{worst}");
    service.sign_heron_in();
    let watch = service.heron(&["watch"]);
    assert_eq!(watch.status.code(), Some(1), "something needs attention");
    let said = String::from_utf8(watch.stdout).unwrap();
    assert!(said.contains("x device collar-19: ") && said.contains("1 of 2 devices are active"), "{said}");
    browser.click(By::LinkText("Devices")).await;
    browser.click(By::LinkText("sluice-07")).await;
    browser.text_when("[data-reading=opening]", |text| text.contains("0 %")).await;
    browser.tab("outbox").await;
    browser.fill("input[name=payload]", "28").await.unwrap();
    browser.click(By::XPath("//button[text()='Add to outbox']")).await;
    loop {
        let event = events.recv().await.unwrap();
        if let What::Received(Downlink::Data { port: Some(10), payload, .. }) = event.what {
            assert_eq!((event.device.as_str(), &payload[..]), ("sluice-07", &[0x28][..]));
            break;
        }
    }
    browser.text_when("[data-outbox]", |text| text.contains("sent")).await;
    browser.tab("now").await;
    browser.text_when("[data-reading=opening]", |text| text.contains("40 %")).await;
    browser.text_when("[data-signal]", |text| text.contains("Best SNR") && text.contains("DR5")).await;

    // A wrong payload is refused in words, where it was typed.
    browser.tab("outbox").await;
    browser.fill("input[name=payload]", "2x").await.unwrap();
    browser.click(By::XPath("//button[text()='Add to outbox']")).await;
    browser.text_when("[role=alert]", |text| text.contains("payload") && text.contains("not a hex digit")).await;

    browser.click(By::LinkText("Traffic")).await;
    browser.text_when("main ul", |text| text.contains("opening 40 %")).await;
    let before = browser.text_when("main ul li", |_| true).await;
    browser.text_when("main ul li", |text| text != before).await;

    browser.click(By::XPath("//button[text()='Sign out']")).await;
    browser.text_when("h1", |text| text == "Keen Heron").await;
    browser.window.goto(format!("{}/devices", service.http)).await.unwrap();
    browser.text_when("form", |text| text.contains("Password")).await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn it_fits_a_phone() {
    let service = Service::first_start().await;
    let scenario = tarnsey(&["tide-01"]);
    service.register(&scenario).await;
    let world = World::start(&scenario, service.udp, &HashMap::new()).await.unwrap();
    let browser = Browser::open(390, 844).await.unwrap();
    sign_in(&browser, &service).await;
    for path in [
        "/watch",
        "/gateways",
        "/gateways/02a1f00000000001",
        "/gateways/02a1f00000000001?tab=connection",
        "/gateways/02a1f00000000001?tab=setup",
        "/airtime",
        "/outlets",
        "/outlets/connect",
        "/coverage",
        "/coverage?tab=devices",
        "/coverage?tab=sites",
        "/devices",
        "/devices/profiles",
        "/devices/02b0010000000001",
        "/devices/02b0010000000001?tab=traffic",
        "/devices/02b0010000000001?tab=outbox",
        "/devices/02b0010000000001?tab=setup",
        "/traffic",
        "/tools/frame?frame=4067452303859c0102",
        "/tools/regions/US915",
        "/tools/airtime",
    ] {
        browser.window.goto(format!("{}{path}", service.http)).await.unwrap();
        browser.text_when("h1", |text| !text.is_empty()).await;
        let fits =
            "const all = document.documentElement; all.style.width = '390px'; document.body.style.width = '390px';
            return document.querySelector('main').scrollWidth <= 390;";
        let wide = browser.window.execute(fits, Vec::new()).await.unwrap();
        assert_eq!(wide.json(), &serde_json::Value::Bool(true), "{path} is wider than its window");
    }
    drop(world);
    browser.close().await.unwrap();
}

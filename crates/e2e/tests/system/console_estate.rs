//! Rounds, moving a device and the ends of an estate and an account, in a headless browser.

use api::Page;
use api::device::Device;
use e2e::browser::Browser;
use lorawan::Eui64;
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, DEV_EUI, registration};

const SWITCH: &str = "function decodeUplink(i) { return {data: {level: i.bytes[0]}} }
    function encodeDownlink(i) { return {fPort: 10, bytes: [i.data.opening]} }";

async fn choose(browser: &Browser, name: &str, value: &str) {
    browser.click(By::Css(format!("select[name={name}] option[value='{value}']"))).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_is_previewed_begun_watched_and_stopped() {
    let bench = Bench::with_decoder(SWITCH).await;
    let service = &bench.service;
    let _: Value = service.post("devices", registration(Eui64(DEV_EUI.0 + 1), "dumb", None)).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, service).await;

    // A fleet's page leads to the form, which says who is meant and who cannot be sent it.
    browser.window.goto(format!("{}/devices/fleets/bench", service.http)).await.unwrap();
    browser.click(By::LinkText("Send to all of them")).await;
    browser.text_when("[data-round-form]", |text| text.contains("Send to many devices")).await;
    choose(&browser, "form", "values").await;
    browser.fill("input[name=payload]", "{\"opening\": ").await.unwrap();
    browser.text_when("[role=alert]", |text| text.contains("not a JSON object yet")).await;
    browser.fill("input[name=payload]", "{\"opening\": 40}").await.unwrap();
    browser.fill("input[name=port]", "").await.unwrap();
    let told = browser.text_when("[data-round-check]", |text| text.contains("1 device is sent it")).await;
    assert!(told.contains("1 cannot be sent it") && told.contains("dumb: ") && told.contains("has no model"), "{told}");

    // The device has not joined, so that its downlink waits until the round is stopped.
    browser.click(By::XPath("//button[normalize-space()='Send to 1 device']")).await;
    browser.text_when("h1", |text| text == "To fleet bench").await;
    browser.text_when("tr[data-device='probe-1']", |text| text.contains("waiting")).await;
    let refused = browser.text_when("tr[data-device='dumb']", |text| text.contains("not sent")).await;
    assert!(refused.contains("has no model"), "{refused}");
    let about = browser.text_when("[data-round=running]", |_| true).await;
    assert!(about.contains("{\"opening\":40}") && about.contains("1 failed"), "{about}");
    browser.click(By::XPath("//button[text()='Stop']")).await;
    browser.click(By::XPath("//button[text()='Stop the round']")).await;
    browser.text_when("[data-round=cancelled]", |text| text.contains("2 failed")).await;

    // It stays in the list; chosen devices can be sent one as well.
    browser.click(By::LinkText("Rounds")).await;
    browser.text_when("tr[data-round]", |text| text.contains("fleet bench") && text.contains("cancelled")).await;
    browser.window.goto(format!("{}/devices", service.http)).await.unwrap();
    browser.click(By::Css("input[name=all]")).await;
    browser.text_when("[data-round-form]", |text| text.contains("Send to 2 chosen devices")).await;
    choose(&browser, "form", "payload").await;
    browser.fill("input[name=payload]", "01").await.unwrap();
    browser.text_when("[data-round-check]", |text| text.contains("2 devices are sent it")).await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_moves_to_another_estate_and_the_first_one_ends() {
    let bench = Bench::set_up().await;
    let service = &bench.service;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, service).await;

    // The only estate stays; and as long as there is no other, nothing is offered to move to.
    browser.window.goto(format!("{}/people", service.http)).await.unwrap();
    browser.text_when("[data-remove-estate]", |text| text.contains("It has 1 device and 1 gateway")).await;
    let button = browser.window.find(By::XPath("//button[text()='Remove the estate']")).await.unwrap();
    assert!(!button.is_enabled().await.unwrap(), "its name has to be typed");
    browser.fill("input[name=confirm_estate]", "tarnsey").await.unwrap();
    browser.click(By::XPath("//button[text()='Remove the estate']")).await;
    browser.text_when("[data-remove-estate] [role=alert]", |text| text.contains("it is the only one")).await;

    let new = json!({ "slug": "saltholm", "owner": "the same" });
    let made: Value = service.done(Method::POST, "/installation/estates", Some(new)).await;
    let taken = json!({ "code": made["owner"]["code"] });
    let _: Value = service.done(Method::POST, "/invitations/take", Some(taken)).await;
    let _: Value = service.done(Method::POST, "/estates/saltholm/fleets", Some(json!({ "slug": "meadow" }))).await;

    // The page begins with the first estate by name.
    browser.window.goto(format!("{}/watch", service.http)).await.unwrap();
    browser.click(By::Css("select[aria-label=Estate] option[value=tarnsey]")).await;
    browser.text_when("main", |text| text.contains("1 device")).await;
    browser.window.goto(format!("{}/devices/{DEV_EUI}?tab=setup", service.http)).await.unwrap();
    browser.text_when("[data-move]", |text| text.contains("It need not join again")).await;
    browser.text_when("select[name=to_fleet]", |text| text.contains("meadow")).await;
    browser.click(By::XPath("//button[text()='Move']")).await;
    browser.click(By::XPath("//button[text()='Move probe-1']")).await;
    let told = browser.text_when("[data-move]", |text| text.contains("probe-1 is in saltholm now")).await;
    assert!(told.contains("messages: they stay where they were heard"), "{told}");
    browser.click(By::XPath("//button[text()='Show it there']")).await;
    browser.text_when("h1", |text| text == "probe-1").await;
    browser.text_when("select[aria-label=Estate]", |_| true).await;
    let moved: Page<Device> = service.done(Method::GET, "/estates/saltholm/devices", None).await;
    assert_eq!(moved.items.iter().map(|device| device.fleet.as_str()).collect::<Vec<_>>(), ["meadow"]);

    // Now the first one can end, and with it what is in it.
    browser.click(By::Css("select[aria-label=Estate] option[value=tarnsey]")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    browser.window.goto(format!("{}/people", service.http)).await.unwrap();
    browser.text_when("[data-remove-estate]", |text| text.contains("It has 0 devices and 1 gateway")).await;
    browser.fill("input[name=confirm_estate]", "tarnsey").await.unwrap();
    browser.click(By::XPath("//button[text()='Remove the estate']")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    assert_eq!(service.call(Method::GET, "/estates/tarnsey", None).await.0, 404);

    // The installation keeps somebody who looks after it.
    browser.window.goto(format!("{}/account", service.http)).await.unwrap();
    browser.fill("input[name=remove_password]", &service.password).await.unwrap();
    browser.click(By::XPath("//button[text()='Remove the account']")).await;
    browser.text_when("[data-remove-account] [role=alert]", |text| text.contains("keeps")).await;
    browser.close().await.unwrap();
}

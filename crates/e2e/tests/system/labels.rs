//! Labels: printed, photographed, and read back.

use api::device::DeviceDetail;
use api::device::label::LabelInPhoto;
use api::problem::Problem;
use e2e::browser::Browser;
use e2e::service::{ESTATE, Service};
use reqwest::Method;
use serde_json::json;
use tempfile::TempDir;
use thirtyfour::By;

use crate::console::sign_in;

const KEY: &str = "7d14b209e65a813cf0279b4ed8631ac5";

async fn read(service: &Service, photo: Vec<u8>) -> Result<LabelInPhoto, Problem> {
    let path = format!("/estates/{ESTATE}/labels/read");
    let response = service.request(Method::POST, &path).body(photo).send().await.unwrap();
    match response.status().is_success() {
        true => Ok(response.json().await.unwrap()),
        false => Err(response.json().await.unwrap()),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_printed_label_registers_the_device_it_is_of() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    service.heron_says(&["fleet", "add", "tide"]);
    let new = json!({ "dev_eui": "02b0010000000001", "join_eui": "02aa000000000001", "app_key": KEY, "fleet": "tide",
        "name": "gauge & <co>" });
    let _: DeviceDetail = service.post("devices", new).await;
    let folder = TempDir::new().unwrap();
    let sheet = folder.path().join("sheet.svg");
    service.heron_says(&["device", "labels", "-o", sheet.to_str().unwrap(), "--fleet", "tide"]);
    let pdf = folder.path().join("sheet.pdf");
    service.heron_says(&["device", "labels", "-o", pdf.to_str().unwrap()]);
    assert!(std::fs::read(&pdf).unwrap().starts_with(b"%PDF-"));
    let none = service.heron(&["device", "labels", "-o", pdf.to_str().unwrap(), "--tag", "nobody"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("no label to print"));
    assert!(!service.heron(&["device", "labels", "-o", "sheet.docx"]).status.success());

    // The browser is the printer and the camera.
    let browser = Browser::open(1280, 900).await.unwrap();
    browser.window.goto(format!("file://{}", sheet.display())).await.unwrap();
    let photo = folder.path().join("photo.png");
    std::fs::write(&photo, browser.window.screenshot_as_png().await.unwrap()).unwrap();
    let found = read(&service, std::fs::read(&photo).unwrap()).await.unwrap();
    assert!(found.code.starts_with("LW:D0:02AA000000000001:02B0010000000001:FFFF0000:C"), "{}", found.code);

    // Somebody finds the device with its label and registers it again.
    service.heron_says(&["device", "remove", "02b0010000000001", "--yes"]);
    let photo = photo.to_str().unwrap();
    let said =
        service.heron_says(&["device", "add", "--photo", photo, "--fleet", "tide", "--app-key", KEY, "--dry-run"]);
    assert!(said.contains("02b0010000000001") && said.contains("02aa000000000001"), "{said}");
    sign_in(&browser, &service).await;
    browser.window.goto(format!("{}/devices", service.http)).await.unwrap();
    browser.click(By::XPath("//button[text()='Register device']")).await;
    browser.text_when("form[aria-label='Register a device'] h2", |text| text == "Register a device").await;
    browser.window.find(By::Css("input[name=photo]")).await.unwrap().send_keys(photo).await.unwrap();
    browser.click(By::Css("select[name=fleet] option[value=tide]")).await;
    browser.fill("input[name=app_key]", KEY).await.unwrap();
    browser.text_when("[data-read-back]", |text| text.contains("02b0 0100 0000 0001")).await;
    browser.click(By::XPath("//button[text()='Register']")).await;
    browser.text_when("h1", |text| text == "02b0010000000001").await;

    // Pictures of something else.
    browser.window.goto(format!("{}/devices", service.http)).await.unwrap();
    let page = browser.window.screenshot_as_png().await.unwrap();
    let why = read(&service, page).await.unwrap_err();
    assert_eq!((why.code.as_str(), why.field.as_deref()), ("no_code", Some("photo")));
    assert_eq!(read(&service, b"text".to_vec()).await.unwrap_err().code, "bad_photo");
    let large = service.request(Method::POST, &format!("/estates/{ESTATE}/labels/read")).body(vec![0; 17 << 20]);
    assert_eq!(large.send().await.unwrap().status().as_u16(), 413);
    browser.close().await.unwrap();
}

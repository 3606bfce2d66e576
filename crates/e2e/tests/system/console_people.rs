//! People, tokens and the audit log in a headless browser, and what a viewer is offered.

use e2e::browser::Browser;
use e2e::service::{ESTATE, Service};
use reqwest::Method;
use serde_json::{Value, json};
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::Bench;

/// Notes from now on what the page was kept from by its content security policy.
const WATCH_POLICY: &str = "window.kept = []; document.addEventListener('securitypolicyviolation', \
    (e) => window.kept.push(`${e.violatedDirective} ${e.blockedURI} ${e.sourceFile}`));";

async fn kept(browser: &Browser) -> Value {
    browser.window.execute("return window.kept", vec![]).await.unwrap().json().clone()
}

async fn go(browser: &Browser, link: &str, title: &str) {
    browser.click(By::LinkText(link)).await;
    browser.text_when("h1", |text| text == title).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_owner_lets_a_viewer_in_who_is_offered_what_she_may() {
    let bench = Bench::with_decoder("function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }").await;
    let service = &bench.service;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, service).await;
    browser.text_when("body", |text| text.contains("You still use the password printed")).await;
    browser.window.execute(WATCH_POLICY, vec![]).await.unwrap();
    go(&browser, "People", "People").await;
    browser.text_when("[data-member=owner]", |text| text.contains("(you)")).await;
    let roles = browser.text_when("[data-roles]", |text| text.contains("see and export keys")).await;
    assert!(roles.contains("viewer") && roles.contains("engineer"), "{roles}");

    browser.fill("[data-invite] input[name=for_whom]", "Marit <img src=x onerror=alert(1)>").await.unwrap();
    browser.click(By::XPath("//button[text()='Create invitation']")).await;
    let shown = browser.text_when("[data-shown-once]", |text| text.contains("/invitation#")).await;
    let link = shown.lines().find(|line| line.contains("/invitation#")).unwrap().to_owned();
    browser
        .text_when("[data-invitations]", |text| text.contains("Marit <img src=x") && text.contains("to be viewer"))
        .await;

    // A token of one fleet.
    browser.click(By::LinkText("Access tokens")).await;
    browser.fill("[data-make-token] input[name=name]", "dashboard").await.unwrap();
    browser.click(By::Css("[data-make-token] select[name=reaches] option[value=fleet]")).await;
    browser.click(By::Css("[data-make-token] select[name=fleet] option[value=bench]")).await;
    browser.click(By::XPath("//button[text()='Create token']")).await;
    let secret = browser.text_when("[data-shown-once]", |text| text.contains("khr_")).await;
    let secret = secret.lines().find(|line| line.starts_with("khr_")).unwrap().to_owned();
    let (status, _) = service.by(&secret, Method::GET, &format!("/estates/{ESTATE}/devices"), None).await;
    assert_eq!(status, 200);
    browser.text_when("[data-tokens]", |text| text.contains("dashboard") && text.contains("fleet bench")).await;

    // A key is hidden until it is asked for; the look is in the audit log.
    go(&browser, "Devices", "Devices").await;
    browser.click(By::LinkText("probe-1")).await;
    browser.tab("setup").await;
    browser.text_when("[data-keys]", |text| text.contains("Hidden. Each view")).await;
    assert!(!browser.window.source().await.unwrap().contains(&crate::scenes::APP_KEY.to_hex()));
    browser.click(By::XPath("//button[text()='Show keys']")).await;
    browser.text_when("[data-keys]", |text| text.contains(&crate::scenes::APP_KEY.to_hex())).await;
    go(&browser, "People", "People").await;
    browser.click(By::LinkText("Audit log")).await;
    let entry = browser.text_when("[data-entry=show_keys]", |text| text.contains("secret")).await;
    assert!(
        entry.contains("owner") && entry.contains("keys of device probe-1") && entry.contains("127.0.0.1"),
        "{entry}"
    );
    browser.click(By::Css("select[name=kind] option[value=secret]")).await;
    browser.text_when("[data-audit]", |text| !text.contains("add invitation")).await;
    // Pages that bring much of their own: an editor, a map, charts.
    for (link, title) in
        [("Decoders", "Decoders"), ("Airtime", "Airtime"), ("Gateways", "Gateways"), ("Watch", "Watch")]
    {
        go(&browser, link, title).await;
    }
    browser.click(By::LinkText("Decoders")).await;
    browser.click(By::Css("a[href='/decoders/probe']")).await;
    browser.text_when(".cm-content", |text| text.contains("decodeUplink")).await;
    assert_eq!(kept(&browser).await, json!([]), "the policy is in nobody's way");
    browser.click(By::XPath("//button[text()='Sign out']")).await;
    browser.text_when("form", |text| text.contains("Password")).await;

    // The link makes an account, and what she may not do is not offered.
    browser.window.goto(&link).await.unwrap();
    browser
        .text_when("[data-invitation]", |text| {
            text.contains("owner invites Marit <img") && text.contains("to be viewer")
        })
        .await;
    browser.fill("input[name=name]", "marit").await.unwrap();
    browser.fill("input[name=password]", "password1234").await.unwrap();
    browser.click(By::XPath("//button[text()='Create account and accept']")).await;
    browser.text_when("[role=alert]", |text| text.contains("tried first")).await;
    browser.fill("input[name=password]", "reed bed lantern ocean").await.unwrap();
    browser.click(By::XPath("//button[text()='Create account and accept']")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    go(&browser, "Devices", "Devices").await;
    browser.text_when("tr[data-device='probe-1']", |_| true).await;
    let page = browser.text_when("main", |text| text.contains("Export")).await;
    assert!(!page.contains("Import"), "{page}");
    browser.click(By::LinkText("probe-1")).await;
    browser.tab("outbox").await;
    let page = browser.text_when("main", |text| text.contains("No downlink has been sent")).await;
    assert!(!page.contains("Add to outbox"), "{page}");
    browser.tab("setup").await;
    let page = browser.text_when("main", |text| text.contains("Identity and session")).await;
    assert!(!page.contains("Show keys") && !page.contains("Registered as"), "{page}");
    go(&browser, "People", "People").await;
    let page = browser.text_when("[data-members]", |text| text.contains("marit (you)")).await;
    assert!(!page.contains("Remove"), "{page}");
    assert!(browser.window.find(By::Css("[data-invite]")).await.is_err());
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_sets_up_its_second_step_and_ends_sign_ins() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.click(By::LinkText("owner")).await;
    browser.text_when("[data-sign-ins]", |text| text.contains("heron/") && text.contains("this sign-in")).await;
    browser.fill("[data-two-step] input[name=password]", &service.password).await.unwrap();
    browser.click(By::XPath("//button[text()='Set up']")).await;
    let secret = browser.text_when("[data-secret]", |text| text.len() == 32).await;
    browser.fill("[data-two-step] input[name=code]", &crate::people::code(&secret, 0)).await.unwrap();
    browser.click(By::XPath("//button[text()='Turn on']")).await;
    browser.text_when("[data-two-step]", |text| text.contains("recovery codes")).await;
    browser.click(By::XPath("//button[text()='Done']")).await;
    browser.click(By::XPath("//button[text()='Sign out all others']")).await;
    browser.text_when("[data-sign-ins]", |text| !text.contains("heron/")).await;
    assert!(!service.heron(&["estate", "list"]).status.success());
    browser.click(By::XPath("//button[text()='Sign out']")).await;
    browser.fill("input[name=password]", &service.password).await.unwrap();
    browser.click(By::Css("form button")).await;
    browser.text_when("form", |text| text.contains("Code from the app")).await;
    browser.fill("input[name=code]", &crate::people::code(&secret, 1)).await.unwrap();
    browser.click(By::Css("form button")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn one_with_two_estates_chooses_and_one_with_a_share_sees_that() {
    let (service, runa) = crate::rights::two_estates().await;
    let written: Value =
        service.post("invitations", json!({ "for_whom": "Runa", "offer": { "role": "viewer" } })).await;
    let take = json!({ "code": written["code"] });
    assert_eq!(service.by(&runa, Method::POST, "/invitations/take", Some(take)).await.0, 204);
    let browser = Browser::open(1280, 900).await.unwrap();
    let enter = async |name: &str, password: &str| {
        browser.window.goto(format!("{}/sign-in", service.http)).await.unwrap();
        browser.text_when("form", |text| text.contains("Password")).await;
        browser.fill("input[name=name]", name).await.unwrap();
        browser.fill("input[name=password]", password).await.unwrap();
        browser.click(By::Css("form button")).await;
        browser.text_when("h1", |text| text == "Watch").await;
    };
    enter("runa", "runa reed lantern ocean").await;
    go(&browser, "Devices", "Devices").await;
    let own = browser.text_when("main table", |text| text.contains("probe-1")).await;
    assert!(!own.contains("probe-2"), "{own}");
    browser.click(By::Css("select[aria-label=Estate] option[value=tarnsey]")).await;
    browser.text_when("h1", |text| text == "Watch").await;
    go(&browser, "Devices", "Devices").await;
    browser.text_when("main table", |text| text.contains("probe-2")).await;
    let page = browser.text_when("main", |text| text.contains("Export")).await;
    assert!(!page.contains("Import"), "she is a viewer there");
    browser.click(By::XPath("//button[text()='Sign out']")).await;
    browser.text_when("form", |text| text.contains("Password")).await;

    let share = json!({ "share": { "scope": { "fleet": "bench" }, "may": "read" } });
    let _ = service.invited(share, "ylva").await;
    enter("ylva", "ylva reed lantern ocean").await;
    let nav = browser.text_when("nav[aria-label=Main]", |text| text.contains("Devices")).await;
    assert!(!nav.contains("Gateways") && !nav.contains("People"), "{nav}");
    go(&browser, "Devices", "Devices").await;
    let shared = browser.text_when("main table", |text| text.contains("probe-1")).await;
    assert!(!shared.contains("probe-2"), "{shared}");
    browser.close().await.unwrap();
}

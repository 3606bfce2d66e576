//! Joins that explain themselves: devices never heard, strangers and their adoption, answers that are not heard.

use api::device::DeviceDetail;
use api::device::join::{DeviceStranger, JoinCheck, Verdict};
use api::diagnosis::device::{DeviceWhy, Weight};
use api::find::{Found, FoundKind};
use api::message::Body;
use e2e::browser::Browser;
use e2e::gateway::emission;
use e2e::wait::until;
use lorawan::crypto::MicKey;
use lorawan::wire::JoinRequestRepr;
use lorawan::{AesKey, Eui64};
use simulator::device::Emission;
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{APP_KEY, Bench, DEV_EUI, GATEWAY, JOIN_EUI, registration};

const STRANGER: Eui64 = Eui64(0x02b0_0900_0000_0777);

fn request(dev_eui: Eui64, join_eui: Eui64, key: AesKey, dev_nonce: u16) -> Emission {
    emission(JoinRequestRepr { join_eui, dev_eui, dev_nonce }.emit(&MicKey::new(&key)))
}

fn failed(checks: &[JoinCheck]) -> Option<&JoinCheck> {
    checks.iter().find(|check| check.verdict == Verdict::Failed)
}

#[tokio::test]
async fn what_a_device_not_heard_needs_is_said_in_order() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
    let so = |why: &DeviceWhy| why.conditions.iter().map(|c| (c.verdict, c.known.clone())).collect::<Vec<_>>();
    let first = so(&why);
    assert_eq!(first[2].0, Verdict::Passed, "the bench's gateway listens: {first:?}");
    assert_eq!(first[3].0, Verdict::Doubtful, "nothing was heard yet: {first:?}");
    assert!(first[4].1.contains("868.1, 868.3, 868.5 MHz"), "{first:?}");
    // Another region's device has no gateway; and a slip in the DevEUI is found by what asks to join.
    let mut far = registration(Eui64(0x02b0_0900_0000_0002), "far", None);
    far["region"] = "US915".into();
    let _: DeviceDetail = bench.service.post("devices", far).await;
    let slip = Eui64(DEV_EUI.0 ^ 0x0010_0000);
    bench.gateway.push(&request(slip, JOIN_EUI, APP_KEY, 1), bench.clock_us).await;
    let said = until("the slip is noticed", async || {
        let said = bench.service.heron_says(&["device", "why", "probe-1"]);
        said.contains("nearly the same").then_some(said)
    })
    .await;
    assert!(said.contains("Before it can be heard") && said.contains(&slip.to_string()), "{said}");
    let said = bench.service.heron_says(&["device", "why", "far"]);
    assert!(said.contains("✗ 3. A gateway near it listens to US915: None of the 1 registered gateways"), "{said}");
    // Once it has joined, there is nothing more to say of this.
    bench.join().await;
    until("no conditions", async || {
        let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
        why.conditions.is_empty().then_some(())
    })
    .await;
}

#[tokio::test]
async fn each_request_has_the_verdict_of_each_check() {
    let mut bench = Bench::set_up().await;
    let wrong_key = request(DEV_EUI, JOIN_EUI, AesKey([1; 16]), 1);
    let swapped = request(JOIN_EUI, DEV_EUI, APP_KEY, 2);
    let off_plan = Emission { frequency_hz: 868_800_000, ..request(DEV_EUI, JOIN_EUI, APP_KEY, 3) };
    for (n, emission) in [wrong_key, swapped, off_plan].iter().enumerate() {
        bench.gateway.push(emission, bench.clock_us.wrapping_add(n as u32 * 20_000_000)).await;
    }
    let why = until("three requests in the timeline", async || {
        let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
        let checked = why.timeline.iter().filter(|m| matches!(m.body, Body::Join(_) | Body::Refused(_)));
        (checked.count() == 3).then_some(why)
    })
    .await;
    let mut found = Vec::new();
    for message in &why.timeline {
        match &message.body {
            Body::Join(join) => {
                let doubtful = join.checks.iter().find(|check| check.verdict == Verdict::Doubtful).unwrap();
                found.push(doubtful.found.clone().unwrap());
            }
            Body::Refused(refused) => found.push(failed(&refused.checks).unwrap().found.clone().unwrap()),
            _ => {}
        }
    }
    assert!(found.iter().any(|f| f.contains("the AppKey differs")), "{found:?}");
    assert!(found.iter().any(|f| f.contains("are swapped")), "{found:?}");
    assert!(found.iter().any(|f| f.contains("868.8 MHz is not a channel for join-requests in EU868")), "{found:?}");
    bench.service.sign_heron_in();
    let said = bench.service.heron_says(&["device", "why", "probe-1"]);
    assert!(said.contains("✓✓✓✓✗···  4 of 8 checks passed") && said.contains("heard by bench"), "{said}");
}

#[tokio::test]
async fn accepts_that_are_not_heard_are_noticed() {
    let mut bench = Bench::set_up().await;
    for _ in 0..2 {
        let request = bench.device.join_request();
        bench.clock_us = bench.clock_us.wrapping_add(20_000_000);
        let early = bench.gateway.push(&request, bench.clock_us).await;
        let (token, _) = bench.next_downlink(early).await;
        // It leaves the gateway, and the device hears nothing.
        bench.gateway.report(token, Ok(())).await;
    }
    let finding = until("that it hears no answer", async || {
        let why: DeviceWhy = bench.service.get(&format!("devices/{DEV_EUI}/why")).await;
        why.findings.into_iter().find(|f| f.about == "join" && f.what.contains("2 went out"))
    })
    .await;
    assert_eq!(finding.weight, Weight::Trouble);
    assert!(finding.what.contains("asked to join 2 times") && finding.what.contains("2 in RX1"), "{}", finding.what);
    let step = finding.next_step.unwrap();
    assert!(step.contains("The signal is good") && step.contains("869.525 MHz with DR0"), "{step}");
}

#[tokio::test]
async fn a_stranger_is_adopted_with_what_was_heard() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    for nonce in 1..3 {
        bench.gateway.push(&request(STRANGER, JOIN_EUI, APP_KEY, nonce), bench.clock_us).await;
    }
    let stranger = until("the stranger", async || {
        let strangers: Vec<DeviceStranger> = bench.service.list("devices/strangers").await;
        strangers.into_iter().find(|s| s.requests == 2)
    })
    .await;
    assert_eq!((stranger.dev_eui, stranger.join_eui), (STRANGER, JOIN_EUI));
    assert_eq!(stranger.heard_by[0].gateway, GATEWAY);
    assert!(bench.service.heron_says(&["device", "strangers"]).contains("heron device adopt DEVEUI"));
    let found: Vec<Found> = bench.service.heron_json(&["find", "0777"]);
    assert_eq!((found.len(), found[0].kind), (1, FoundKind::DeviceStranger));
    let adopt = ["device", "adopt", "02B00900:00000777", "--fleet", "bench", "--name", "found", "--app-key"];
    let key = APP_KEY.to_hex();
    let said = bench.service.heron_says(&[&adopt[..], &[&key]].concat());
    assert!(said.contains(&JOIN_EUI.to_string()) && said.contains("EU868"), "{said}");
    let strangers: Vec<DeviceStranger> = bench.service.list("devices/strangers").await;
    assert_eq!(strangers, []);
    let none = bench.service.heron(&["device", "adopt", "02b0090000000888", "--fleet", "bench"]);
    assert_eq!(none.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&none.stderr).contains("no unregistered device asks to join as 02b0090000000888"));
    // Now its request is a good one.
    let early = bench.gateway.push(&request(STRANGER, JOIN_EUI, APP_KEY, 9), bench.clock_us).await;
    bench.next_downlink(early).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_finds_adopts_and_changes_many() {
    let mut bench = Bench::set_up().await;
    for n in 2..5 {
        let dev_eui = Eui64(DEV_EUI.0 + n);
        let _: DeviceDetail = bench.service.post("devices", registration(dev_eui, &format!("probe-{n}"), None)).await;
    }
    bench.gateway.push(&request(STRANGER, JOIN_EUI, APP_KEY, 1), bench.clock_us).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &bench.service).await;

    // From anywhere, by a part of its EUI, to the form that knows what was heard.
    browser.fill("[role=search] input", "0777").await.unwrap();
    browser.text_when("[data-found=device_stranger]", |text| text.contains("unregistered device")).await;
    browser.click(By::Css("[data-found=device_stranger] a")).await;
    browser.text_when("form[aria-label='Register a device'] h2", |text| text.contains("Adopt")).await;
    let value = |css: &'static str| {
        let browser = &browser;
        async move { browser.window.find(By::Css(css)).await.unwrap().prop("value").await.unwrap().unwrap() }
    };
    assert_eq!(value("input[name=join_eui]").await, JOIN_EUI.to_string());
    browser.click(By::Css("select[name=fleet] option[value=bench]")).await;
    browser.fill("input[name=app_key]", &APP_KEY.to_hex()).await.unwrap();
    browser.fill("input[name=name]", "found").await.unwrap();
    browser.text_when("[data-read-back]", |text| text.contains("found, EU868")).await;
    browser.click(By::XPath("//button[text()='Register']")).await;
    browser.text_when("h1", |text| text == "found").await;
    browser.text_when("[data-conditions]", |text| text.contains("Its DevEUI is 02b0090000000777")).await;

    // Three of them in one go, looked at first.
    browser.window.goto(format!("{}/devices?find=probe", bench.service.http)).await.unwrap();
    for n in 2..5 {
        browser.click(By::Css(format!("input[aria-label='Choose probe-{n}']"))).await;
    }
    browser.text_when("form[aria-label='Change the chosen devices'] h2", |text| text == "Change 3 devices").await;
    browser.fill("input[name=bulk_add]", "pier").await.unwrap();
    browser.click(By::XPath("//button[text()='Preview']")).await;
    let effect = browser.text_when("[data-effect]", |text| text.contains("3 would become different")).await;
    assert!(effect.contains("tags: none → pier"), "{effect}");
    browser.click(By::XPath("//button[text()='Apply']")).await;
    browser.text_when("[data-effect]", |text| text.contains("Saved.")).await;
    browser.text_when("tr[data-device=probe-3]", |text| text.contains("pier")).await;

    // A device's own radio, and what it would be told.
    browser.window.goto(format!("{}/devices/{DEV_EUI}?tab=setup", bench.service.http)).await.unwrap();
    browser.click(By::Css("[data-radio] summary")).await;
    browser.fill("[data-radio] input[name=rx_delay_s]", "3").await.unwrap();
    browser.click(By::XPath("//details//button[text()='Preview']")).await;
    browser
        .text_when("[data-radio] [data-effect]", |text| text.contains("5 s → 3 s; it is sent RXTimingSetupReq"))
        .await;
    browser.close().await.unwrap();
}

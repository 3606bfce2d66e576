//! Outlets in a headless browser.

use e2e::browser::Browser;
use e2e::mosquitto::Mosquitto;
use e2e::sink::{Reply, Sink};
use thirtyfour::By;

use super::bench;
use crate::console::sign_in;

#[tokio::test(flavor = "multi_thread")]
async fn one_is_added_tested_watched_and_its_dead_letters_are_tried_again() {
    let (mut bench, sink) = (bench().await, Sink::start().await);
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &bench.service).await;
    browser.click(By::LinkText("Outlets")).await;
    browser.text_when("h2", |text| text == "No outlet yet").await;
    browser.click(By::XPath("//button[text()='Add outlet']")).await;
    browser.fill("input[name=slug]", "harbour").await.unwrap();
    browser.fill("input[name=url]", &sink.url()).await.unwrap();
    browser.click(By::Css("[data-credentials] summary")).await;
    browser.fill("input[name=bearer]", "quay-token").await.unwrap();
    browser.click(By::Css("input[name=types][value=uplink]")).await;
    browser.click(By::Css("[data-more] summary")).await;
    browser.fill("input[name=retry]", "0.0003").await.unwrap();
    browser.click(By::XPath("//button[text()='Add outlet' and not(@aria-expanded)]")).await;
    browser.text_when("h1", |text| text == "harbour").await;

    browser.click(By::Css("[data-test]")).await;
    let tried = browser.text_when("[data-tried=true]", |text| text.contains("was taken")).await;
    assert!(tried.contains("authorization: (hidden)") && tried.contains("answered 200"), "{tried}");

    sink.answer(|_| Reply::status(422));
    bench.uplink(&[24], false).await;
    browser.text_when("[data-deliveries]", |text| text.contains("not taken (422)")).await;
    browser.tab("letters").await;
    let letters = browser.text_when("[data-dead-letters]", |text| text.contains("probe-1")).await;
    assert!(letters.contains("it answers 422 Unprocessable Entity"), "{letters}");
    sink.answer(|_| Reply::status(200));
    browser.click(By::Css("[data-replay-all]")).await;
    browser.text_when("main", |text| text.contains("There are none.")).await;

    // While the other side is away it is failing, here and on the watch page.
    sink.answer(|_| Reply::status(503));
    bench.uplink(&[25], false).await;
    let status = browser.text_when("[data-status=failing]", |text| text.contains("it answers 503")).await;
    assert!(status.contains("The next try is at"), "{status}");
    browser.click(By::LinkText("Watch")).await;
    browser.text_when("[data-concerns]", |text| text.contains("Failing: it answers 503")).await;
    browser.click(By::LinkText("harbour")).await;
    browser.click(By::XPath("//button[text()='Pause']")).await;
    browser.text_when("[data-status=paused]", |text| text.contains("owner paused it")).await;
    sink.answer(|_| Reply::status(200));
    browser.click(By::XPath("//button[text()='Resume']")).await;
    browser.text_when("[data-status=delivering]", |_| true).await;
    browser.tab("settings").await;
    browser.click(By::XPath("//button[text()='Remove this outlet']")).await;
    browser.click(By::XPath("//button[text()='Remove it']")).await;
    browser.text_when("h2", |text| text == "No outlet yet").await;
    browser.close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_broker_is_set_up_with_a_script_and_commands_come_back() {
    let (mut bench, broker) = (bench().await, Mosquitto::open().await);
    bench.uplink(&[24], false).await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &bench.service).await;
    browser.click(By::LinkText("Outlets")).await;
    browser.click(By::XPath("//button[text()='Add outlet']")).await;
    browser.fill("input[name=slug]", "quay-panel").await.unwrap();
    browser.choose("select[name=kind]", "mqtt").await;
    browser.fill("input[name=url]", &broker.url()).await.unwrap();
    browser.fill("input[name=topic]", "quay/{device}/{model}").await.unwrap();
    browser.click(By::Css("input[name=types][value=uplink]")).await;
    browser.click(By::Css("input[name=takes-commands]")).await;
    browser.fill("input[name=commands]", "quay/{device}/command").await.unwrap();
    browser.fill("input[name=answers]", "quay/{device}/answer/of/it").await.unwrap();
    browser.click(By::Css("[data-shape] summary")).await;
    browser.choose("select[name=shape]", "script").await;
    browser
        .fill("textarea[name=script]", "function transform(m) { return { dm: m.readings.level.value * 10 }; }")
        .await
        .unwrap();
    browser.click(By::Css("[data-try-shape]")).await;
    browser.text_when("[data-tried-shape]", |text| text.contains("\"dm\": 24")).await;
    browser.click(By::XPath("//button[text()='Add outlet' and not(@aria-expanded)]")).await;
    // It would take its own messages for commands.
    browser.text_when("[data-outlet-form]", |text| text.contains("would be taken for commands")).await;
    browser.fill("input[name=topic]", "quay/{device}/of/{type}").await.unwrap();
    browser.click(By::XPath("//button[text()='Add outlet' and not(@aria-expanded)]")).await;
    browser.text_when("h1", |text| text == "quay-panel").await;
    browser.text_when("[data-listening=true]", |text| text.contains("Commands are taken")).await;

    let heard = broker.listen("quay/#", &[]).await;
    bench.uplink(&[7], false).await;
    let published = heard.wait_for(1).await;
    assert_eq!((published[0].topic.as_str(), published[0].payload.as_str()), ("quay/probe-1/of/uplink", "{\"dm\":7}"));
    broker.publish("quay/probe-1/command", "{\"port\": 10, \"payload\": \"28\"}", &[]);
    browser.tab("commands").await;
    let commands = browser.text_when("[data-commands]", |text| text.contains("quay/probe-1/command")).await;
    assert!(commands.contains("yes") && commands.contains("\"taken\":true"), "{commands}");
    browser.tab("connect").await;
    let lines = browser.text_when("[data-snippet='Listen']", |text| text.contains("mosquitto_sub")).await;
    assert!(lines.contains("quay/+/of/+"), "{lines}");

    browser.window.goto(format!("{}/outlets/connect", bench.service.http)).await.unwrap();
    browser.choose("select[name=fleet]", "bench").await;
    browser.text_when("[data-snippet='Listen']", |text| text.contains("fleet=bench")).await;
    browser.click(By::Css("[data-make-token]")).await;
    browser.text_when("[data-shown-once]", |text| text.contains("export HERON_TOKEN=")).await;
    browser.close().await.unwrap();
}

//! Outlets in a headless browser.

use e2e::browser::Browser;
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
    browser.fill("input[name=bearer]", "quay-token").await.unwrap();
    browser.click(By::Css("input[name=types][value=uplink]")).await;
    browser.click(By::Css("details summary")).await;
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

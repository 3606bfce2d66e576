//! A decoder fixed against stored uplinks, its editions, stored uplinks decoded again, and rehearsals.

use api::Page;
use api::device::LastReading;
use api::diagnosis::watch::{About, DecodeFailures, Watch};
use api::job::{Job, JobState};
use api::message::{Body, Message, Uplink};
use api::model::Model;
use api::model::draft::{Tried, UplinkChange};
use api::model::edition::Edition;
use e2e::browser::Browser;
use e2e::service::ESTATE;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, DEV_EUI};

/// It cannot read what the newest firmware sends: two bytes of level after a marker.
const BROKEN: &str = "function decodeUplink(input) {
  if (input.bytes.length > 2) throw new Error('unknown layout ' + input.bytes[0]);
  return { data: { level: (input.bytes[0] * 256 + input.bytes[1]) / 100 } };
}";
const FIXED: &str = "function decodeUplink(input) {
  const at = input.bytes.length > 2 ? 1 : 0;
  return { data: { level: (input.bytes[at] * 256 + input.bytes[at + 1]) / 100, marked: at === 1 } };
}";

async fn uplinks(bench: &Bench) -> Vec<(Message, Uplink)> {
    let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
    let heard = |message: Message| match message.body.clone() {
        Body::Uplink(of) => (message, *of),
        other => panic!("{other:?}"),
    };
    page.items.into_iter().map(heard).collect()
}

/// A bench whose device has sent five uplinks, two of which its decoder cannot read.
async fn with_failures() -> Bench {
    let mut bench = Bench::with_decoder(BROKEN).await;
    bench.service.sign_heron_in();
    bench.join().await;
    for (n, payload) in [&[1, 0][..], &[9, 1, 50], &[1, 40], &[9, 1, 60], &[1, 80]].into_iter().enumerate() {
        bench.uplink(payload, false).await;
        // No device sends twice within a millisecond.
        until("the uplink", async || (uplinks(&bench).await.len() > n).then_some(())).await;
    }
    until("five uplinks to be read, or not", async || {
        let all = uplinks(&bench).await;
        let through = |(_, u): &(Message, Uplink)| !u.readings.is_empty() || u.decode_error.is_some();
        (all.len() == 5 && all.iter().all(through)).then_some(())
    })
    .await;
    bench
}

async fn readings(bench: &Bench) -> BTreeMap<String, LastReading> {
    let detail: api::device::DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    detail.readings
}

#[tokio::test]
async fn a_decoder_is_fixed_against_stored_uplinks_and_history_follows() {
    let bench = with_failures().await;
    let service = &bench.service;
    let failures: Vec<DecodeFailures> = service.list("decode-failures").await;
    assert_eq!((failures.len(), failures[0].failures, failures[0].device.eui), (1, 2, DEV_EUI));
    assert!(failures[0].why.contains("unknown layout 9 (line 2"), "{}", failures[0].why);
    let watch: Watch = service.get("watch").await;
    let concern = watch.concerns.iter().find(|concern| concern.about == About::Decoder).unwrap();
    assert_eq!((concern.model.as_deref(), &concern.message), (Some("probe"), &Some(failures[0].first_message.clone())));
    let said = service.heron(&["watch"]).stdout;
    assert!(String::from_utf8_lossy(&said).contains("heron decoder try --model probe --message"));

    // The first that failed, as it is; then a draft on all that is stored.
    let one = service.heron_says(&["decoder", "try", "--model", "probe", "--message", &failures[0].first_message]);
    assert!(one.contains("current: port 2, 3 bytes: decodeUplink threw") || one.contains("unknown layout 9"), "{one}");
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("draft.js");
    std::fs::write(&file, FIXED).unwrap();
    let file = file.to_str().unwrap();
    let said = service.heron_says(&["decoder", "try", "--model", "probe", file]);
    assert!(said.contains("5 uplinks: 2 fixed, 3 changed"), "{said}");
    let marked: Vec<&str> = said.lines().filter(|line| line.starts_with("marked")).collect();
    assert_eq!(marked[0].split_whitespace().collect::<Vec<_>>(), ["marked", "5", "–", "–", "–"]);
    let tried: Tried =
        service.heron_json(&["decoder", "try", "--model", "probe", file, "--payload", "09 01 32", "--port", "2"]);
    assert_eq!(tried.uplinks[0].change, UplinkChange::Fixed);
    assert_eq!(tried.uplinks[0].after.tried_bytes["level"], [1, 2], "found by trying");

    // One that breaks what works is not put in use by mistake, nor is one that does not load.
    std::fs::write(file, FIXED.replace("bytes.length > 2 ? 1", "bytes.length > 1 ? (() => { throw 1 })()")).unwrap();
    let refused = service.heron(&["decoder", "try", "--model", "probe", file, "--save"]);
    let why = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && why.contains("3 uplinks could be decoded before"), "{why}");
    std::fs::write(file, "function decodeUplink(input) {\n  return {data: }\n}").unwrap();
    let refused = service.heron(&["decoder", "try", "--model", "probe", file, "--save"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("(line 2, column"), "{refused:?}");

    // What works is kept as a test, and a draft that fails it is not put in use either.
    let said = service.heron_says(&[
        "decoder",
        "test",
        "add",
        "probe",
        "--name",
        "neap tide",
        "--payload",
        "01 32",
        "--port",
        "2",
    ]);
    assert_eq!(said.trim(), "Kept: port 2 [01 32] must give level = 3.06.");
    std::fs::write(file, FIXED.replace("/ 100", "/ 10").replace(", marked: at === 1", "")).unwrap();
    let refused = service.heron(&["decoder", "try", "--model", "probe", file, "--save"]);
    let why = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(why.contains("fails its test \"neap tide\": level is 30.6, 3.06 expected"), "{why}");
    let model: Model = service.get("models/probe").await;
    let mut about = serde_json::to_value(model.about).unwrap();
    about["tests"] = json!([]);
    let _: Model =
        service.done(Method::PUT, &format!("/estates/{ESTATE}/models/probe?note=no%20test"), Some(about)).await;

    std::fs::write(file, FIXED).unwrap();
    service.heron_says(&["decoder", "try", "--model", "probe", file, "--save", "--note", "the layout of 2.0"]);
    assert!(service.list::<DecodeFailures>("decode-failures").await.is_empty(), "counted again");
    let stored = uplinks(&bench).await;
    assert_eq!(stored.iter().filter(|(_, u)| u.decode_error.is_some()).count(), 2, "history stays as it was");

    // Editions: what was, what changed.
    let editions: Page<Edition> = service.get("models/probe/editions").await;
    let told: Vec<(u32, &str)> = editions.items.iter().map(|e| (e.number, e.note.as_str())).collect();
    let notes = [(4, "the layout of 2.0"), (3, "no test"), (2, "test \"neap tide\" kept"), (1, "")];
    assert_eq!(told, notes);
    assert_eq!(
        (editions.items[0].changed.as_slice(), editions.items[0].saved_by.as_str()),
        (&["decoder".to_owned()][..], "owner")
    );
    let said = service.heron_says(&["decoder", "edition", "compare", "probe"]);
    assert!(
        said.contains("    2 - ") && said.contains("unknown layout") && said.contains("    2 +   const at"),
        "{said}"
    );

    // History decoded again, by the current decoder.
    let job: Job = service.heron_json(&["decoder", "redecode", "probe", "--since", "1h"]);
    assert_eq!((job.state, job.done, job.total, job.failed), (JobState::Done, 5, 5, 0), "{job:?}");
    let stored = uplinks(&bench).await;
    assert!(stored.iter().all(|(_, uplink)| uplink.decode_error.is_none() && uplink.readings.contains_key("marked")));
    assert_eq!(stored[1].1.readings["level"].to_string(), "3.16 m");
    let points =
        service.query("SELECT COUNT(*) FROM history h JOIN series s ON s.id = h.series_id WHERE s.name = 'level'");
    assert_eq!(points.trim(), "5");

    // And back, by number: readings that no longer exist are gone with it.
    service.heron_says(&["decoder", "edition", "restore", "probe", "1", "--yes"]);
    let model: Model = service.get("models/probe").await;
    assert_eq!(model.about.decoder.as_deref(), Some(BROKEN));
    let job: Job = service.heron_json(&["decoder", "redecode", "probe", "--since", "1h", "--device", "probe-1"]);
    assert_eq!((job.done, job.failed), (5, 2));
    assert!(job.note.contains("2 of them could not be read"), "{}", job.note);
    assert_eq!(readings(&bench).await.keys().collect::<Vec<_>>(), ["level"]);
    let failures: Vec<DecodeFailures> = service.list("decode-failures").await;
    assert_eq!(failures[0].failures, 2, "they are told of again");
}

#[tokio::test]
async fn what_makes_no_sense_to_try_or_to_do_is_refused() {
    let bench = Bench::with_decoder(BROKEN).await;
    let service = &bench.service;
    let field = async |path: &str, body: Value| {
        let (status, problem) = service.refused(Method::POST, path, body).await;
        (status, problem.field.unwrap_or(problem.code))
    };
    let is = |status, field: &str| (status, field.to_owned());
    assert_eq!(field("models/none/try", json!({})).await, is(404, "not_found"));
    assert_eq!(field("models/probe/try", json!({ "last": 501 })).await, is(422, "last"));
    assert_eq!(field("models/probe/try", json!({ "version": "firmware 9" })).await, is(422, "version"));
    assert_eq!(field("models/probe/try", json!({ "messages": ["nobody"] })).await, is(404, "not_found"));
    assert_eq!(
        field("models/probe/try", json!({ "last": 1, "device": "02b0090000000999" })).await,
        is(404, "not_found")
    );
    let from = "2026-01-01T00:00:00Z";
    assert_eq!(field("jobs", json!({ "model": "none", "from": from })).await, is(404, "not_found"));
    let backwards = json!({ "model": "probe", "from": from, "until": "2025-01-01T00:00:00Z" });
    assert_eq!(field("jobs", backwards).await, is(422, "from"));
    assert_eq!(field("models/probe/editions/7/restore", Value::Null).await, is(404, "not_found"));
    assert_eq!(field("models/probe/editions/x/restore", Value::Null).await, is(422, "edition"));
    let rehearse = format!("devices/{DEV_EUI}/rehearse");
    assert_eq!(field(&rehearse, json!({})).await, is(422, "payload"));
    assert_eq!(field(&rehearse, json!({ "again": "nobody" })).await, is(404, "not_found"));
    assert_eq!(field(&rehearse, json!({ "payload": "01", "rssi_dbm": -90 })).await, is(422, "gateway"));
    assert_eq!(field(&rehearse, json!({ "payload": "01", "gateway": "nowhere" })).await, is(404, "not_found"));
    // A job that is done is not stopped any more.
    let job: Job = service.post("jobs", json!({ "model": "probe", "from": from })).await;
    let id = &job.id;
    until("the job to be done", async || {
        let job: Job = service.get(&format!("jobs/{id}")).await;
        (job.state == JobState::Done).then_some(())
    })
    .await;
    let (status, problem) = service.refused(Method::DELETE, &format!("jobs/{id}"), Value::Null).await;
    assert_eq!((status, problem.code.as_str()), (409, "ended"));
}

#[tokio::test]
async fn a_rehearsal_goes_everywhere_and_touches_nothing() {
    let mut bench = with_failures().await;
    let before = (
        bench.service.dump_of(&["counters", "airtime", "messages", "history", "last_readings", "decode_failures"]),
        readings(&bench).await,
    );
    let mut live = bench.service.heron_command(&["traffic", "follow", "--json", "--limit", "1"]);
    let mut live = live.stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(live.stdout.take().unwrap()));
    lines.next().unwrap().unwrap();

    // It may take a moment until the client listens; a rehearsal says how many do.
    let said = until("somebody to listen", async || {
        let said = bench.service.heron_says(&[
            "rehearse",
            "probe-1",
            "--payload",
            "01 2c",
            "--port",
            "2",
            "--rssi",
            "-117",
            "--snr",
            "-9",
        ]);
        said.contains("1 listener").then_some(said)
    })
    .await;
    assert!(said.contains("REHEARSED by owner") && said.contains("level 3 m") && said.contains("-117 dBm"), "{said}");
    let heard: Message = serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap();
    let Body::Uplink(uplink) = heard.body else { panic!() };
    assert_eq!(uplink.rehearsed.as_ref().map(|r| r.by.as_str()), Some("owner"));
    assert_eq!((uplink.readings["level"].to_string().as_str(), uplink.heard_by[0].rssi_dbm), ("3 m", -117.0));

    // A stored one again: as it was, but marked.
    let stored = uplinks(&bench).await;
    let (message, failed) = stored.iter().find(|(_, uplink)| uplink.decode_error.is_some()).unwrap();
    let said = bench.service.heron_says(&["rehearse", "probe-1", "--again", &message.id]);
    assert!(said.contains(&format!("#{} port 2", failed.frame.counter)) && said.contains("not decoded"), "{said}");
    live.kill().unwrap();
    live.wait().unwrap();

    let after = (
        bench.service.dump_of(&["counters", "airtime", "messages", "history", "last_readings", "decode_failures"]),
        readings(&bench).await,
    );
    assert_eq!(before, after);
    // The next real one is taken as if nothing had been.
    bench.uplink(&[2, 0], false).await;
    until("the next uplink", async || (uplinks(&bench).await.len() == 6).then_some(())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_workbench_in_the_console() {
    let bench = with_failures().await;
    let browser = Browser::open(1280, 1000).await.unwrap();
    sign_in(&browser, &bench.service).await;
    browser.window.goto(format!("{}/watch", bench.service.http)).await.unwrap();
    browser.text_when("[data-concerns]", |text| text.contains("failed on 2 uplinks of probe-1")).await;
    browser.click(By::LinkText("Open it in the workbench")).await;
    browser.text_when("[data-tried]", |text| text.contains("2 fails") && text.contains("3 the same")).await;
    browser.text_when("main", |text| text.contains("unknown layout 9 (line 2")).await;

    // The draft is tried while it is written.
    browser.click(By::Css(".cm-content")).await;
    let typed = format!(
        "window.editor = document.querySelector('.cm-content').cmTile?.view ?? document.querySelector('.cm-content').cmView.view; editor.dispatch({{changes: {{from: 0, to: editor.state.doc.length, insert: {}}}}})",
        json!(FIXED)
    );
    browser.window.execute(&typed, vec![]).await.unwrap();
    browser.text_when("[data-tried]", |text| text.contains("2 fixed") && text.contains("3 changed")).await;
    browser.text_when("[data-readings-change]", |text| text.contains("marked 5")).await;
    browser.text_when("[data-drafted]", |text| text.contains("not in use")).await;
    // Pointing at a reading lights its bytes.
    let row = browser.window.find(By::Css("tr[data-reading=level]")).await.unwrap();
    row.scroll_into_view().await.unwrap();
    browser.window.action_chain().move_to_element_center(&row).perform().await.unwrap();
    until("bytes to be lit", async || {
        let lit = browser.window.find_all(By::Css("[data-ruler] [data-lit]")).await.ok()?;
        (lit.len() == 2).then_some(())
    })
    .await;
    browser.fill("input[name=note]", "the layout of 2.0").await.unwrap();
    browser.click(By::XPath("//button[text()='Save and use']")).await;
    browser.text_when("[data-saved]", |text| text.contains("decodes every new uplink")).await;
    browser.text_when("[data-editions]", |text| text.contains("the layout of 2.0")).await;
    browser.click(By::XPath("//button[text()='changes']")).await;
    browser.text_when("[data-comparison]", |text| text.contains("const at")).await;
    browser.click(By::XPath("//button[text()='Decode again']")).await;
    browser.text_when("[data-job=done]", |text| text.contains("5 uplinks were decoded again")).await;

    // On the device's page: readings with words, and a rehearsal that is marked as one.
    browser.window.goto(format!("{}/devices/{DEV_EUI}", bench.service.http)).await.unwrap();
    browser.text_when("div[data-reading=level]", |text| text.contains("3.36 m")).await;
    browser.tab("outbox").await;
    browser.fill("form[aria-label=Rehearse] input[name=payload]", "09 01 90").await.unwrap();
    browser.click(By::XPath("//form[@aria-label='Rehearse']//button")).await;
    browser
        .text_when("[data-rehearsal]", |text| text.contains("rehearsed by owner") && text.contains("level 4 m"))
        .await;
    browser.tab("now").await;
    browser.click(By::LinkText("over time")).await;
    browser.text_when("main", |text| text.contains("Every value is a point")).await;
    until("a chart to be drawn", async || browser.window.find(By::Css("[data-chart=ready] canvas")).await.ok()).await;
    let path = format!("/estates/{ESTATE}/models/probe");
    let model: Model = bench.service.done(Method::GET, &path, None).await;
    assert_eq!(model.about.decoder.as_deref(), Some(FIXED));
    browser.close().await.unwrap();
}

#[tokio::test]
async fn a_job_that_a_kill_cut_off_begins_again_and_one_that_is_stopped_changes_nothing() {
    let mut bench = with_failures().await;
    let path = format!("/estates/{ESTATE}/models/probe");
    let fixed = json!({ "maker": "M", "name": "N", "decoder": FIXED });
    let _: Model = bench.service.done(Method::PUT, &path, Some(fixed)).await;
    // As a service leaves it that was killed in the middle: some results stand aside.
    bench.service.kill();
    let id = "01M8D1B551G2Q8BW2ZX3SNP2BY";
    let wanted =
        json!({ "model": "probe", "device": null, "from": "2026-01-01T00:00:00Z", "until": chrono::Utc::now() });
    bench.service.query(&format!(
        "INSERT INTO jobs (id, estate_id, wanted, state, done, total, failed, note, begun_by, begun_at)
         SELECT '{id}', id, '{wanted}', 'running', 3, 5, 1, '', 'owner', UTC_TIMESTAMP(6) FROM estates;
         INSERT INTO redecoded SELECT '{id}', id, body FROM messages WHERE kind = 'uplink' LIMIT 3"
    ));
    bench.service.start_again();
    let job = until("the job to be done", async || {
        let job: Job = bench.service.get(&format!("jobs/{id}")).await;
        (job.state == JobState::Done).then_some(job)
    })
    .await;
    assert_eq!((job.done, job.failed), (5, 0), "from its beginning");
    assert!(uplinks(&bench).await.iter().all(|(_, of)| of.readings.contains_key("marked")));
    assert_eq!(bench.service.query("SELECT COUNT(*) FROM redecoded").trim(), "0");

    // One that waits behind another is stopped: nothing of it comes to be.
    let stopped = "01M8D1B551G2Q8BW2ZX3SNP2BZ";
    bench.service.kill();
    bench.service.query(&format!(
        "INSERT INTO jobs (id, estate_id, wanted, state, done, total, failed, note, begun_by, begun_at)
         SELECT '{stopped}', id, '{wanted}', 'cancelled', 3, 5, 1, 'stopped', 'owner', UTC_TIMESTAMP(6) FROM estates"
    ));
    bench.service.start_again();
    bench.service.sign_heron_in();
    let said = bench.service.heron_says(&["decoder", "job", "list"]);
    let states: Vec<bool> = [id, stopped].iter().map(|id| said.lines().any(|line| line.starts_with(id))).collect();
    assert!(states == [true, true] && said.contains("cancelled") && said.contains("done"), "{said}");
    let refused = bench.service.heron(&["decoder", "job", "remove", stopped]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("cancelled"), "{refused:?}");
}

/// Takes all the time that it may.
const RUNAWAY: &str = "function decodeUplink() { for (;;) {} }";
/// Takes too long to be called on the spot, and comes to an end.
const SLOW: &str = "function decodeUplink(input) {
  let n = 0;
  for (let i = 0; i < 150000; i++) n = (n + i) % 7;
  return { data: { level: input.bytes[0], n } };
}";

#[tokio::test]
async fn a_script_without_end_does_not_hold_up_another_fleet() {
    let mut bench = Bench::with_decoder(RUNAWAY).await;
    let slow = json!({ "maker": "M", "name": "N", "decoder": SLOW });
    let _: Model = bench.service.done(Method::PUT, &format!("/estates/{ESTATE}/models/slow"), Some(slow)).await;
    let _: Value = bench.service.post("fleets", json!({ "slug": "other" })).await;
    let other_eui = lorawan::Eui64(0x02b0_0900_0000_0002);
    let mut registration = crate::scenes::registration(other_eui, "other-1", Some("slow"));
    registration["fleet"] = json!("other");
    let _: Value = bench.service.post("devices", registration).await;
    bench.join().await;
    let runaway = std::mem::replace(&mut bench.device, crate::scenes::device(other_eui));
    bench.join().await;
    // Both have shown that they are not quick, so that they wait in their lines.
    let decoded = async |bench: &Bench| -> Vec<Message> {
        let all = uplinks(bench).await;
        let through = |of: &Uplink| !of.readings.is_empty() || of.decode_error.is_some();
        all.into_iter().filter(|(_, of)| through(of)).map(|(message, _)| message).collect()
    };
    let other = std::mem::replace(&mut bench.device, runaway);
    for n in 0..24 {
        bench.uplink(&[n], false).await;
    }
    bench.device = other;
    bench.uplink(&[77], false).await;
    // The one of the other fleet came last, and is not the last to be read.
    let ahead = until("the other fleet's uplink", async || {
        let through = decoded(&bench).await;
        let own = through.iter().any(|message| message.fleet.as_deref() == Some("other"));
        own.then_some(through.len())
    })
    .await;
    assert!(ahead < 25, "{ahead} of 25 had been read by then");
    let through = until("all of them", async || Some(decoded(&bench).await).filter(|all| all.len() == 25)).await;
    let stopped = through.iter().filter(|message| {
        matches!(&message.body, Body::Uplink(of) if of.decode_error.as_ref().is_some_and(|why| why.contains("endless loop")))
    });
    assert_eq!(stopped.count(), 24);
    let failures: Vec<DecodeFailures> = bench.service.list("decode-failures").await;
    assert_eq!((failures.len(), failures[0].failures), (1, 24));
}

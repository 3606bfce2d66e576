//! What readings mean, and their history: totals, doubts, charts, exports, and an end for what is old.

use std::io::Read as _;

use api::Page;
use api::message::{Body, Message, ReadingValue};
use api::model::Model;
use api::reading::ReadingKind;
use api::reading::chart::{Chart, DeviceReading};
use chrono::{DateTime, TimeDelta, Utc};
use e2e::browser::Browser;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};
use store::HOUR_MS;
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, DEV_EUI};

const COUNTER: &str = "function decodeUplink({bytes}) {
  return { data: { litres: bytes[0], temperature: bytes[1] * 2, open: bytes[2] === 1 } };
}";

async fn now(bench: &Bench) -> Vec<DeviceReading> {
    bench.service.list(&format!("devices/{DEV_EUI}/readings")).await
}

#[tokio::test]
async fn totals_go_on_words_show_and_ten_times_too_much_is_asked_about() {
    let mut bench = Bench::with_decoder(COUNTER).await;
    bench.service.sign_heron_in();
    let heron = |args: &[&str]| bench.service.heron_says(&[&["model", "reading", "set", "probe"], args].concat());
    heron(&["litres", "--unit", "l", "--kind", "total"]);
    heron(&["open", "--kind", "state", "--word", "true=open", "--word", "false=closed"]);
    let said = heron(&["temperature", "--unit", "°C", "--max", "400", "--min=-40"]);
    assert!(said.contains("temperature in °C, -40 to 400"), "{said}");
    let wrong = bench.service.heron(&["model", "reading", "set", "probe", "litres", "--scale", "0"]);
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("readings.litres.scale"), "{wrong:?}");

    bench.join().await;
    let total = |readings: &[DeviceReading], litres: f64| {
        let found = readings.iter().find(|reading| reading.name == "litres");
        found.is_some_and(|reading| reading.reading.value == ReadingValue::Number(litres))
    };
    // One after the other: of two in one millisecond the history keeps one.
    for (payload, litres) in [([5, 90, 1], 5.0), ([9, 100, 1], 9.0)] {
        bench.uplink(&payload, false).await;
        until("the uplink", async || total(&now(&bench).await, litres).then_some(())).await;
    }
    // What a total goes on from outlives the service, and the device restarts its count.
    bench.service.kill();
    bench.service.start_again();
    bench.service.sign_heron_in();
    bench.uplink(&[2, 110, 0], false).await;
    let readings = until("the total to go on", async || Some(now(&bench).await).filter(|all| total(all, 11.0))).await;
    let one = |name: &str| readings.iter().find(|reading| reading.name == name).unwrap();
    assert_eq!((one("litres").kind, one("litres").reading.raw), (ReadingKind::Total, Some(2.0)));
    assert_eq!((one("open").kind, one("open").reading.to_string().as_str()), (ReadingKind::State, "closed"));
    assert_eq!(one("temperature").doubt, None, "its model says that it can be so hot");
    let said = bench.service.heron_says(&["traffic", "list"]);
    assert!(
        said.contains("litres fell from 9 to 2: its device restarted its count, and the total goes on from 9"),
        "{said}"
    );

    // Without what the model says of it, such heat looks wrong.
    bench.service.heron_says(&["model", "reading", "remove", "probe", "temperature", "--yes"]);
    bench.service.heron_says(&["model", "reading", "set", "probe", "temperature", "--unit", "°C"]);
    let said = bench.service.heron_says(&["readings", "list", "probe-1"]);
    assert!(
        said.contains("temperature: all 3 values of the last day are between 180 and 220 °C; a factor of 10?"),
        "{said}"
    );
    let doubts: Vec<Value> = bench.service.list("models/probe/doubts").await;
    assert_eq!((&doubts[0]["reading"], &doubts[0]["factor"]), (&json!("temperature"), &json!(0.1)));
    bench.service.heron_says(&["model", "reading", "set", "probe", "temperature", "--scale", "0.1", "--decimals", "1"]);
    bench.uplink(&[3, 105, 0], false).await;
    until("a value of the right size", async || {
        let all = now(&bench).await;
        all.iter().any(|r| r.name == "temperature" && r.reading.value == ReadingValue::Number(21.0)).then_some(())
    })
    .await;
    let model: Model = bench.service.get("models/probe").await;
    assert_eq!(model.about.readings["temperature"].scale, Some(0.1));
}

/// A value every ten minutes for some days until a moment: a ramp, with a day of silence in it.
const LOGGER: &str = "function decodeUplink({bytes, recvTime}) {
  const at = recvTime.getTime();
  const level = Array.from(bytes).map((value, n) => ({ value, time: new Date(at - n * 3600000) }));
  return { data: { level, door: { value: bytes[0] > 4, time: at - 60000 }, clock: { value: 1, time: 0 } } };
}";

#[tokio::test]
async fn a_logger_s_values_stand_at_the_times_when_they_were_measured() {
    let mut bench = Bench::with_decoder(LOGGER).await;
    bench.service.sign_heron_in();
    bench.join().await;
    bench.uplink(&[5, 4, 3], false).await;
    let message = until("the uplink", async || {
        let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
        page.items.into_iter().find(|message| matches!(&message.body, Body::Uplink(u) if !u.readings.is_empty()))
    })
    .await;
    let Body::Uplink(logged) = &message.body else { panic!("an uplink is expected") };
    let level = &logged.readings["level"];
    let hours: Vec<_> =
        level.earlier.iter().map(|e| (e.value.clone(), (message.time - e.time).num_minutes())).collect();
    assert_eq!(level.value, ReadingValue::Number(5.0));
    assert_eq!(hours, [(ReadingValue::Number(3.0), 120), (ReadingValue::Number(4.0), 60)], "oldest first");
    assert!(!logged.readings.contains_key("clock"), "a clock that was never set is of no use");
    assert!(logged.decode_warnings[0].contains("measured at 1970"), "{:?}", logged.decode_warnings);
    let readings = until("readings", async || Some(now(&bench).await).filter(|all| all.len() == 2)).await;
    let door = readings.iter().find(|reading| reading.name == "door").unwrap();
    assert_eq!((message.time - door.time).num_seconds(), 60);

    // In the history each stands at its own time, and the hours that were over are summed up again.
    let csv = bench.service.heron_says(&["readings", "export", "--device", "probe-1", "--reading", "level"]);
    assert_eq!(csv.lines().count(), 4, "{csv}");
    let hours =
        "SELECT COUNT(*) FROM (SELECT series_id, hour FROM late_hours UNION SELECT series_id, hour FROM hourly) h
        JOIN series s ON s.id = h.series_id WHERE s.name = 'level'";
    assert_eq!(bench.service.query(hours).trim(), "2", "noted, or done already");
    // Decoded again, it is the same.
    bench.service.heron_says(&["decoder", "redecode", "probe", "--since", "1h"]);
    let again = bench.service.heron_says(&["readings", "export", "--device", "probe-1", "--reading", "level"]);
    assert_eq!(again, csv);
}

fn year(until_ms: i64, days: i64) -> Vec<(i64, f64)> {
    let begin = until_ms - days * 24 * HOUR_MS;
    let silent = until_ms - 10 * 24 * HOUR_MS..until_ms - 9 * 24 * HOUR_MS;
    (0..days * 144).map(|n| (begin + n * HOUR_MS / 6, n as f64)).filter(|(at, _)| !silent.contains(at)).collect()
}

/// Writes values into the history of the bench's device, as old uplinks would have.
fn fill(bench: &Bench, name: &str, values: &[(i64, f64)]) {
    let id = bench.service.query(&format!(
        "INSERT IGNORE INTO series (dev_eui, name) VALUES (x'{DEV_EUI}', '{name}'); SELECT id FROM series WHERE dev_eui = x'{DEV_EUI}' AND name = '{name}'"
    ));
    let id = id.trim();
    for part in values.chunks(2000) {
        let rows: Vec<String> = part.iter().map(|(at, value)| format!("({id},{at},{value})")).collect();
        bench.service.query(&format!("INSERT INTO history (series_id, at_ms, value) VALUES {}", rows.join(",")));
    }
    // As if the service had not looked yet.
    bench.service.query("DELETE FROM history_mark");
    let last = values.last().unwrap();
    bench.service.query(&format!(
        "REPLACE INTO last_readings (dev_eui, name, reading, time, interval_s) VALUES (x'{DEV_EUI}', '{name}', '{{\"value\":{},\"unit\":\"m\"}}', FROM_UNIXTIME({}), 600)",
        last.1, last.0 / 1000
    ));
}

async fn chart(bench: &Bench, name: &str, hours: i64, points: u32) -> Chart {
    let from = Utc::now() - TimeDelta::hours(hours);
    let body = json!({ "lines": [{ "device": DEV_EUI, "reading": name }], "from": from, "points": points });
    bench.service.post("chart", body).await
}

#[tokio::test]
async fn a_chart_shows_values_near_and_means_from_afar_with_gaps() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let until_ms = Utc::now().timestamp_millis() / 1000 * 1000;
    let values = year(until_ms, 40);
    fill(&bench, "level", &values);
    let store = bench.service.store().await;
    let hour = u32::try_from(until_ms / HOUR_MS).unwrap();
    store.sum_up(hour).await.unwrap();
    store.sum_up(hour).await.unwrap();
    let summed = bench.service.query("SELECT SUM(count) FROM hourly");
    let until_hour = i64::from(hour) * HOUR_MS;
    assert_eq!(summed.trim(), values.iter().filter(|(at, _)| *at < until_hour).count().to_string(), "each once");

    // A day: every value. A month: means, and the day of silence is a gap.
    let near = chart(&bench, "level", 24, 400).await.lines.remove(0);
    assert_eq!((near.step_s, near.unit.as_deref()), (None, Some("m")));
    assert!((143..=145).contains(&near.points.len()), "{}", near.points.len());
    let far = chart(&bench, "level", 30 * 24, 100).await.lines.remove(0);
    assert_eq!(far.step_s, Some(43_200));
    let gaps: Vec<i64> =
        far.points.iter().filter(|p| p.value.is_none()).map(|p| (until_ms - p.at_ms) / HOUR_MS).collect();
    assert!(gaps.len() == 1 && (9 * 24..=10 * 24).contains(&gaps[0]), "{gaps:?}");
    let whole = far.points.iter().find(|point| point.least.is_some_and(|least| least > 3000.0)).unwrap();
    let (least, mean, most) = (whole.least.unwrap(), whole.value.unwrap(), whole.most.unwrap());
    assert!((most - least - 71.0).abs() < 1e-9 && (mean - f64::midpoint(least, most)).abs() < 1e-9, "{whole:?}");
    // The last, which has no summary yet, is in it.
    let newest = far.points.iter().filter_map(|point| point.most).fold(0.0, f64::max);
    assert_eq!(newest, values.last().unwrap().1);
    let said =
        bench.service.heron_says(&["readings", "chart", "probe-1", "level", "--since", "30d", "--points", "100"]);
    assert!(said.contains("no values") && said.contains("each stands for") && said.contains('●'), "{said}");

    // A value that comes too late is summed up again.
    let (at, hours) = (until_ms - 30 * 24 * HOUR_MS, until_ms / HOUR_MS - 30 * 24);
    bench.service.query(&format!("UPDATE history SET value = 99999 WHERE at_ms BETWEEN {at} AND {}", at + HOUR_MS - 1));
    bench.service.query(&format!("INSERT INTO late_hours SELECT id, {hours} FROM series; INSERT INTO late_hours SELECT id, {hours} + 1 FROM series"));
    while store.sum_up_late(hour).await.unwrap() {}
    assert!(chart(&bench, "level", 40 * 24, 50).await.lines[0].points.iter().any(|p| p.most == Some(99_999.0)));

    let (status, problem) =
        bench.service.refused(Method::POST, "chart", json!({ "lines": [], "from": Utc::now() })).await;
    assert_eq!((status, problem.field.as_deref()), (422, Some("lines")));
    let other = json!({ "lines": [{ "device": DEV_EUI, "reading": "none" }], "from": "2026-01-01T00:00:00Z" });
    assert_eq!(bench.service.refused(Method::POST, "chart", other).await.0, 404);
}

#[tokio::test]
async fn every_value_can_be_had_as_a_file() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let until_ms = Utc::now().timestamp_millis() / 1000 * 1000;
    let values = year(until_ms, 50);
    fill(&bench, "level", &values);
    fill(&bench, "salinity", &values[values.len() - 3..]);
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let read = |name: &str| {
        let mut text = String::new();
        std::fs::File::open(folder.path().join(name)).unwrap().read_to_string(&mut text).unwrap();
        text
    };
    bench.service.heron_says(&["readings", "export", "-o", &file("all.csv"), "--since", "60d"]);
    let text = read("all.csv");
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len(), 1 + values.len() + 3);
    let first =
        DateTime::from_timestamp_millis(values[0].0).unwrap().to_rfc3339_opts(chrono::SecondsFormat::Millis, true);
    assert_eq!(lines[1], format!("{first},probe-1,{DEV_EUI},level,0,,m"));
    bench.service.heron_says(&[
        "readings",
        "export",
        "--output",
        &file("s.jsonl"),
        "--reading",
        "salinity",
        "--device",
        "probe-1",
    ]);
    let text = read("s.jsonl");
    assert_eq!(
        text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()["reading"].clone()).collect::<Vec<_>>(),
        ["salinity"; 3]
    );
    bench.service.heron_says(&["readings", "export", "-o", &file("all.parquet"), "--since", "60d"]);
    let bytes = std::fs::read(folder.path().join("all.parquet")).unwrap();
    assert!(bytes.starts_with(b"PAR1") && bytes.ends_with(b"PAR1"));
    assert!(!folder.path().join("all.part").exists());
    let (status, problem) = bench.service.call(Method::GET, "/estates/tarnsey/readings/export?form=xls", None).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("form")));
}

#[tokio::test]
async fn what_a_fleet_does_not_keep_is_taken_out_and_so_is_what_is_left_of_removed_devices() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let store = bench.service.store().await;
    let now = Utc::now();
    store.arrange_months(now - TimeDelta::days(100), now).await.unwrap();
    let parts = || {
        bench.service.query("SELECT COUNT(*) FROM information_schema.PARTITIONS WHERE TABLE_NAME = 'history' AND TABLE_SCHEMA = DATABASE()").trim().parse::<u32>().unwrap()
    };
    let months = parts();
    assert!((7..=9).contains(&months), "{months}");
    store.arrange_months(now - TimeDelta::days(100), now).await.unwrap();
    assert_eq!(parts(), months, "done again, it changes nothing");
    fill(&bench, "level", &year(now.timestamp_millis(), 100));
    store.sum_up(u32::try_from(now.timestamp_millis() / HOUR_MS).unwrap()).await.unwrap();

    let values = || bench.service.query("SELECT COUNT(*) FROM history").trim().parse::<i64>().unwrap();
    let before = values();
    store.prune(now).await.unwrap();
    assert_eq!(values(), before, "for ever, unless somebody says otherwise");
    let refused =
        bench.service.heron(&["fleet", "set", "bench", "--keep-values", "30", "--keep-summaries", "20", "--yes"]);
    assert!(String::from_utf8_lossy(&refused.stderr).contains("summaries_days"), "{refused:?}");
    let said =
        bench.service.heron_says(&["fleet", "set", "bench", "--keep-values", "30", "--keep-summaries", "60", "--yes"]);
    assert!(said.contains("values for 30 days, summaries for 60 days, messages for ever"), "{said}");
    store.prune(now).await.unwrap();
    let kept = values();
    assert!((29 * 144 - 145..=30 * 144).contains(&kept), "{kept}");
    assert!(parts() < months, "whole months go at once");
    let days: i64 = bench.service.query("SELECT COUNT(*) FROM daily").trim().parse().unwrap();
    assert!((57..=60).contains(&days), "{days}");

    bench.service.heron_says(&["device", "remove", "probe-1", "--yes"]);
    assert_eq!(bench.service.query("SELECT COUNT(*) FROM series").trim(), "0");
    store.prune(now).await.unwrap();
    assert_eq!((values(), bench.service.query("SELECT COUNT(*) FROM hourly").trim()), (0, "0"));
}

#[tokio::test]
async fn a_made_up_history_is_there_to_measure_charts_by() {
    let bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    let made: i64 =
        bench.service.herond_says(&["make-history", "--days", "40", "--interval-s", "3600"]).trim().parse().unwrap();
    assert!((900..=960).contains(&made), "{made}: a value an hour, less some that are missing");
    assert_eq!(bench.service.query("SELECT COUNT(*) FROM history").trim(), made.to_string());
    let again = bench.service.herond_says(&["make-history", "--days", "1", "--reading", "salinity", "--unit", "g/kg"]);
    assert!(again.trim().parse::<i64>().unwrap() > 100);
    let charts: Value = bench.service.heron_json(&["bench", "charts", "--charts", "2"]);
    let kinds = charts.as_array().unwrap();
    assert_eq!(kinds.len(), 5);
    assert!(kinds.iter().take(4).all(|kind| kind["points"].as_u64().unwrap() > 10), "{charts}");
    let year = chart(&bench, "water_level", 365 * 24, 400).await.lines.remove(0);
    // The last uplink's value is later than the newest of these; what there is lies between the lowest and the highest.
    let values: Vec<f64> = year.points.iter().filter_map(|point| point.value).collect();
    assert!(values.iter().all(|value| (0.7..=4.1).contains(value)), "{values:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_reading_means_is_said_in_the_console() {
    let mut bench = Bench::with_decoder(COUNTER).await;
    bench.service.sign_heron_in();
    bench.service.heron_says(&["model", "reading", "set", "probe", "temperature", "--unit", "°C"]);
    bench.join().await;
    for payload in [[5, 90, 1], [9, 110, 1]] {
        bench.uplink(&payload, false).await;
    }
    until("two uplinks", async || (now(&bench).await.len() == 3).then_some(())).await;
    let browser = Browser::open(1280, 1000).await.unwrap();
    sign_in(&browser, &bench.service).await;
    browser.window.goto(format!("{}/devices/{DEV_EUI}", bench.service.http)).await.unwrap();
    browser.text_when("[data-doubt]", |text| text.contains("a factor of 10?")).await;
    browser.click(By::LinkText("Set unit or scale")).await;

    // One click takes the factor over, as a draft that shows what it does to stored uplinks.
    browser.text_when("[data-rule=temperature] [data-doubt]", |text| text.contains("between 180 and 220 °C")).await;
    browser.click(By::XPath("//button[text()='Multiply by 0.1']")).await;
    browser.text_when("[data-rule=temperature]", |text| text.contains("× 0.1") && !text.contains("factor")).await;
    browser.text_when("[data-tried]", |text| text.contains("2 changed")).await;
    browser.text_when("tr[data-reading=temperature]", |text| text.contains("22 °C") && text.contains("220 °C")).await;
    browser.click(By::XPath("//button[text()='Save and use']")).await;
    browser.text_when("[data-saved]", |text| text.contains("decodes every new uplink")).await;
    bench.uplink(&[12, 105, 1], false).await;
    browser.window.goto(format!("{}/devices/{DEV_EUI}", bench.service.http)).await.unwrap();
    browser.text_when("div[data-reading=temperature]", |text| text.contains("21 °C")).await;

    // A script for elsewhere is told the line that makes it decode here, and takes it with one click.
    browser.window.goto(format!("{}/decoders/probe", bench.service.http)).await.unwrap();
    browser.text_when("[data-tried]", |text| text.contains("3 the same")).await;
    let script = "function Decode(fPort, bytes) { return { litres: bytes[0] }; }";
    let typed = format!(
        "const place = document.querySelector('.cm-content'); const view = place.cmTile?.view ?? place.cmView.view;
         view.dispatch({{changes: {{from: 0, to: view.state.doc.length, insert: {}}}}})",
        json!(script)
    );
    browser.window.execute(&typed, vec![]).await.unwrap();
    browser.text_when("[data-problem]", |text| text.contains("add this line")).await;
    browser.click(By::XPath("//button[text()='Add the line']")).await;
    browser.text_when("[data-tried]", |text| text.contains("3 changed")).await;

    // Several readings stand in one chart, and each can be taken out.
    browser.window.goto(format!("{}/devices/chart?line={DEV_EUI}~litres&last=6h", bench.service.http)).await.unwrap();
    browser.text_when("main", |text| text.contains("Every value is a point")).await;
    let option = format!("option[value='{DEV_EUI}']");
    browser.click(By::Css(&option)).await;
    browser.click(By::XPath("//button[text()='+ temperature']")).await;
    browser.click(By::Css("button[aria-label='Take litres out']")).await;
    let at = until("the address to follow", async || {
        let at = browser.window.current_url().await.ok()?.to_string();
        (at.contains("temperature") && !at.contains("litres")).then_some(at)
    })
    .await;
    assert!(at.contains("last=6h"), "{at}");
    browser.close().await.unwrap();
}

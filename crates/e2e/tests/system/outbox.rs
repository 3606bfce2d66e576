//! Adding to an outbox: in which form, in which order, and when it goes.

use api::Page;
use api::device::DeviceDetail;
use api::device::outbox::{OutboxItem, OutboxReadBack, OutboxState};
use api::device::round::{Round, RoundDevice, RoundState};
use api::message::Message;
use api::model::{Model, TestCommand};
use e2e::browser::Browser;
use e2e::service::ESTATE;
use e2e::wait::until;
use gateway_link::udp::TxPacket;
use lorawan::Eui64;
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::Downlink;
use thirtyfour::By;

use crate::console::sign_in;
use crate::scenes::{Bench, DEV_EUI, registration};

const GATE: &str = "function decodeUplink(i) { return {data: {opening: i.bytes[0]}} }
function encodeDownlink({ data }) {
  if (!(data.opening >= 0 && data.opening <= 100)) return {errors: ['opening is 0 to 100']};
  return {bytes: [data.opening], fPort: 10, warnings: data.opening > 90 ? ['the gate sticks'] : []};
}
function decodeDownlink({ bytes, fPort }) {
  if (fPort > 12) return {errors: ['nothing listens on port ' + fPort]};
  return {data: {opening: Math.min(bytes[0], 99)}};
}";

fn path() -> String {
    format!("devices/{DEV_EUI}/outbox")
}

impl Bench {
    async fn put(&self, new: Value) -> OutboxItem {
        self.service.post(&path(), new).await
    }

    async fn waiting(&self) -> Vec<OutboxItem> {
        let page: Page<OutboxItem> = self.service.get(&path()).await;
        let mut waiting: Vec<_> = page.items.into_iter().filter(|i| i.state == OutboxState::Waiting).collect();
        waiting.sort_by_key(|item| item.ahead);
        waiting
    }

    /// Port and payload of what goes down with an uplink.
    async fn exchanged(&mut self) -> (u8, Vec<u8>) {
        let early = self.uplink(&[1], false).await;
        let (token, packet): (u16, TxPacket) = self.next_downlink(early).await;
        self.gateway.report(token, Ok(())).await;
        match self.device.receive(&packet.phy_payload) {
            Some(Downlink::Data { port: Some(port), payload, .. }) => (port, payload),
            other => panic!("data are expected: {other:?}"),
        }
    }
}

#[tokio::test]
async fn downlinks_come_as_bytes_text_or_values_and_go_in_order() {
    let mut bench = Bench::with_decoder(GATE).await;
    bench.service.sign_heron_in();
    let heron = |args: &[&str]| bench.service.heron(&[&["outbox", "add", "probe-1"], args].concat());
    let refused = |args: &[&str]| String::from_utf8_lossy(&heron(args).stderr).into_owned();
    let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    assert_eq!(detail.commands, Some(vec![]), "it can encode, and has no examples");

    let said = bench.service.heron_says(&["outbox", "add", "probe-1", "--value", "opening=95", "--dry-run"]);
    assert!(said.contains("5f (1 byte)") && said.contains("the gate sticks") && said.contains("to join"), "{said}");
    assert!(said.contains("reads as        opening = 95"), "{said}");
    let said = bench.service.heron_says(&["outbox", "add", "probe-1", "--port", "13", "--payload", "c0", "--dry-run"]);
    assert!(said.contains("cannot read this downlink: the script reports: nothing listens on port 13"), "{said}");
    let said = bench.service.heron_says(&["outbox", "add", "probe-1", "--value", "opening=100", "--dry-run"]);
    assert!(said.contains("was given opening = 100, and the decoder reads 99 out of it"), "{said}");
    assert_eq!(bench.waiting().await, [], "nothing is added by looking");
    assert!(refused(&["--value", "opening=101"]).contains("opening is 0 to 100"));
    assert!(refused(&["--text", "x"]).contains("port"));
    assert!(refused(&["--port", "9"]).contains("--payload"));
    assert!(refused(&["--port", "9", "--base64", "??"]).contains("payload_base64"));

    bench.join().await;
    let by_name = bench.put(json!({ "values": { "opening": 40 } })).await;
    assert_eq!((by_name.port, by_name.payload.as_str(), by_name.ahead), (10, "28", Some(0)));
    let text = bench.put(json!({ "port": 11, "text": "ebb" })).await;
    let base64 = bench.put(json!({ "port": 12, "payload_base64": "Af8=" })).await;
    let first = bench.put(json!({ "port": 13, "payload": "c0ffee", "first": true })).await;
    let order = |items: &[OutboxItem]| items.iter().map(|i| i.port).collect::<Vec<_>>();
    assert_eq!((first.ahead, order(&bench.waiting().await)), (Some(0), vec![13, 10, 11, 12]));
    bench.service.heron_says(&["outbox", "set", "probe-1", &base64.id, "--before", &text.id]);
    let said = bench.service.heron_says(&["outbox", "set", "probe-1", &first.id, "--last"]);
    assert_eq!(said.trim(), "3 go before it.");
    assert_eq!(order(&bench.waiting().await), [10, 12, 11, 13]);
    // It is written down, and comes back so.
    until("the order to be stored", async || {
        let stored = bench.service.query("SELECT port FROM outbox WHERE state = 'waiting' ORDER BY place");
        (stored.split_whitespace().collect::<Vec<_>>() == ["10", "12", "11", "13"]).then_some(())
    })
    .await;

    assert_eq!(bench.exchanged().await, (10, vec![40]));
    let place = format!("{}/{}", path(), by_name.id);
    let (status, problem) = until("the first to be done", async || {
        let answer = bench.service.refused(Method::PATCH, &place, json!({ "place": "first" })).await;
        answer.1.detail.as_deref().is_some_and(|why| why.contains("sent")).then_some(answer)
    })
    .await;
    assert_eq!((status, problem.code.as_str()), (409, "not_waiting"));
    let place = format!("{}/{}", path(), text.id);
    let (_, problem) = bench.service.refused(Method::PATCH, &place, json!({ "place": { "before": by_name.id } })).await;
    assert_eq!(problem.field.as_deref(), Some("before"));
    for payload in [(12, vec![1, 255]), (11, b"ebb".to_vec()), (13, vec![0xc0, 0xff, 0xee])] {
        assert_eq!(bench.exchanged().await, payload);
    }
}

#[tokio::test]
async fn when_a_downlink_goes_is_told_by_the_devices_usual_interval() {
    let mut bench = Bench::set_up().await;
    bench.service.sign_heron_in();
    bench.service.heron_says(&["device", "radio", "set", "probe-1", "--uplink-interval-s", "600"]);
    bench.join().await;
    bench.uplink(&[1], false).await;
    until("the uplink to be known", async || {
        let page: Page<Message> = bench.service.get("traffic?type=uplink").await;
        (!page.items.is_empty()).then_some(())
    })
    .await;
    let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    let heard = detail.device.last_heard.unwrap();
    let check: OutboxReadBack =
        bench.service.post(&format!("{}/check", path()), json!({ "port": 10, "payload": "01" })).await;
    assert_eq!((check.expected_at.unwrap() - heard).num_seconds(), 600);
    let [one, two] = [
        bench.put(json!({ "port": 10, "payload": "01" })).await,
        bench.put(json!({ "port": 10, "payload": "02" })).await,
    ];
    assert_eq!((two.expected_at.unwrap() - one.expected_at.unwrap()).num_seconds(), 600);
    assert_eq!(two.note.as_deref(), Some("waits for the one before it"));
    let said = bench.service.heron_says(&["outbox", "list", "probe-1"]);
    let lines: Vec<&str> = said.lines().collect();
    assert!(lines[1].contains("next uplink") && lines[1].ends_with("expected in about 9 min"), "{said}");
    assert!(lines[2].ends_with("expected in about 19 min"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_encodes_and_orders() {
    let mut bench = Bench::with_decoder(GATE).await;
    let model = json!({ "maker": "Benchwright", "name": "Probe", "decoder": GATE, "commands": [
        { "name": "half open", "values": { "opening": 50 }, "port": 10, "bytes": "32" }] });
    let model_path = format!("/estates/{ESTATE}/models/probe");
    let _: Value = bench.service.done(Method::PUT, &model_path, Some(model)).await;
    bench.join().await;
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &bench.service).await;
    browser.window.goto(format!("{}/devices/{DEV_EUI}?tab=outbox", bench.service.http)).await.unwrap();
    browser.click(By::XPath("//button[text()='half open']")).await;
    browser.text_when("[data-outbox-check]", |text| text.contains("32") && text.contains("port 10")).await;
    browser.click(By::XPath("//button[text()='Add to outbox']")).await;
    browser.text_when("[data-outbox]", |text| text.contains("waiting")).await;
    browser.fill("input[name=payload]", r#"{"opening": 200}"#).await.unwrap();
    browser.text_when("[role=alert]", |text| text.contains("opening is 0 to 100")).await;
    browser.fill("input[name=payload]", r#"{"opening": "#).await.unwrap();
    browser.text_when("[role=alert]", |text| text.contains("not a JSON object yet")).await;
    browser.click(By::Css("select[name=form] option[value=text]")).await;
    browser.fill("input[name=payload]", "ebb").await.unwrap();
    browser.fill("input[name=port]", "11").await.unwrap();
    browser.text_when("[data-outbox-check]", |text| text.contains("65 62 62") && text.contains("the one before")).await;
    browser.click(By::XPath("//button[text()='Add to outbox']")).await;
    browser.click(By::Css("button[aria-label=Earlier]")).await;
    browser.text_when("[data-outbox]", |text| text.contains("port 11")).await;
    let order = bench.waiting().await;
    assert_eq!(order.iter().map(|item| item.port).collect::<Vec<_>>(), [11, 10]);
    assert_eq!(bench.exchanged().await, (11, b"ebb".to_vec()));
    browser.close().await.unwrap();
}

/// How a round stands once it is as wanted.
async fn round_when(bench: &Bench, id: &str, right: impl Fn(&Round) -> bool) -> Round {
    until("the round", async || Some(bench.service.get::<Round>(&format!("rounds/{id}")).await).filter(&right)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_sends_to_each_of_a_fleet_and_tells_each_outcome() {
    let mut bench = Bench::with_decoder(GATE).await;
    bench.service.sign_heron_in();
    bench.join().await;
    let mut about = bench.service.get::<Model>("models/probe").await.about;
    let values = json!({ "opening": 40 }).as_object().unwrap().clone();
    let command =
        TestCommand { name: "open to 40 %".into(), values, port: Some(10), bytes: Some("28".into()), fails: false };
    about.commands.push(command);
    let _: Value =
        bench.service.done(Method::PUT, &format!("/estates/{ESTATE}/models/probe"), Some(json!(about))).await;
    for (n, name, model) in [(2, "probe-2", Some("probe")), (3, "dumb", None)] {
        let _: Value = bench.service.post("devices", registration(Eui64(DEV_EUI.0 + n), name, model)).await;
    }

    // A look first: how many, how long, and who cannot be sent it.
    let said =
        bench.service.heron_says(&["round", "add", "--fleet", "bench", "--command", "open to 40 %", "--dry-run"]);
    assert!(said.contains("2 devices would be sent this") && said.contains("1 cannot be sent it"), "{said}");
    assert!(said.contains("dumb") && said.contains("has no model"), "{said}");
    let none = bench.service.heron(&["round", "add", "--tag", "nobody", "--port", "1", "--payload", "00"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("no device is like that"), "{none:?}");
    let unknown = bench.service.heron(&["outbox", "add", "probe-1", "--command", "dance"]);
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("the model probe has open to 40 %"), "{unknown:?}");
    let unasked = bench.service.heron(&["round", "add", "--fleet", "bench", "--command", "open to 40 %"]);
    assert!(String::from_utf8_lossy(&unasked.stderr).contains("Say --yes"), "{unasked:?}");

    let add = ["round", "add", "--fleet", "bench", "--command", "open to 40 %", "--over", "1s", "--yes"];
    let round: Round = bench.service.heron_json(&add);
    assert_eq!((round.devices, round.failed, round.over_s), (3, 1, 1.0));
    round_when(&bench, &round.id, |round| round.open == 2).await;
    assert_eq!(bench.exchanged().await, (10, vec![40]));
    round_when(&bench, &round.id, |round| (round.done, round.open, round.failed) == (1, 1, 1)).await;
    let said = bench.service.heron_says(&["round", "show", &round.id]);
    for told in ["probe-1", "sent", "probe-2", "waiting", "dumb", "refused", "has no model"] {
        assert!(said.contains(told), "{told}: {said}");
    }
    // Stopped: what waits is cancelled, what was sent stays sent.
    bench.service.heron_says(&["round", "remove", &round.id, "--yes"]);
    let stopped = round_when(&bench, &round.id, |round| round.failed == 2).await;
    assert_eq!((stopped.state, stopped.done), (RoundState::Cancelled, 1));
    let (status, problem) = bench.service.refused(Method::DELETE, &format!("rounds/{}", round.id), Value::Null).await;
    assert_eq!((status, problem.code.as_str()), (409, "ended"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_goes_on_after_a_restart_and_ends_with_its_last_device() {
    let mut bench = Bench::with_decoder(GATE).await;
    bench.join().await;
    let _: Value = bench.service.post("devices", registration(Eui64(DEV_EUI.0 + 2), "probe-2", None)).await;
    let both = json!({ "devices": [DEV_EUI.to_string(), Eui64(DEV_EUI.0 + 2).to_string()], "over_s": 3600.0,
        "downlink": { "port": 9, "payload": "07" } });
    let round: Round = bench.service.post("rounds", both).await;
    round_when(&bench, &round.id, |round| (round.open, round.planned) == (1, 1)).await;
    bench.service.kill();
    bench.service.start_again();
    let still = round_when(&bench, &round.id, |_| true).await;
    assert_eq!((still.state, still.open, still.planned), (RoundState::Running, 1, 1));
    let one = json!({ "devices": [DEV_EUI.to_string()], "downlink": { "port": 9, "payload": "08" } });
    let last: Round = bench.service.post("rounds", one).await;
    round_when(&bench, &last.id, |round| round.open == 1).await;
    bench.gateway.pull().await;
    assert_eq!(bench.exchanged().await, (9, vec![7]));
    assert_eq!(bench.exchanged().await, (9, vec![8]));
    let ended = round_when(&bench, &last.id, |round| round.state == RoundState::Done).await;
    assert!(ended.ended_at.is_some() && ended.done == 1);
    // A device that is removed before its turn is told, and keeps nobody waiting.
    let _: Value = bench.service.done(Method::DELETE, &format!("/estates/{ESTATE}/rounds/{}", round.id), None).await;
    let devices: Vec<RoundDevice> = bench.service.list(&format!("rounds/{}/devices", round.id)).await;
    let notes: Vec<_> = devices.iter().filter_map(|device| device.note.as_deref()).collect();
    assert_eq!(notes, ["the round was stopped"]);
}

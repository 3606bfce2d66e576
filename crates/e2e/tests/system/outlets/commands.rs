//! Commands that come back from a broker, and how each is answered.

use api::device::outbox::OutboxItem;
use api::outlet::{CommandAnswer, CommandTaken, Outlet};
use e2e::mosquitto::{Heard, Mosquitto, Published};
use reqwest::Method;
use serde_json::{Value, json};

use super::{bench, shown};
use crate::scenes::{Bench, DEV_EUI, registration};

const ENCODER: &str = "function decodeUplink(i) { return {data: {level: i.bytes[0] / 10}} }
function encodeDownlink(i) { return {bytes: [i.data.opening], fPort: 10} }";

/// A bench with an outlet that takes commands, a broker, and somebody who hears the answers and the stages.
async fn with_commands() -> (Bench, Mosquitto, Heard) {
    let (bench, broker) = (bench().await, Mosquitto::open().await);
    let model = json!({ "maker": "Benchwright", "name": "Probe", "decoder": ENCODER });
    let _: Value = bench.service.done(Method::PUT, "/estates/tarnsey/models/probe", Some(model)).await;
    let commands = json!({ "topic": "quay/{fleet}/{device}/command", "answers": "quay/{fleet}/{device}/answer" });
    let mqtt = json!({ "url": broker.url(), "topic": "quay/{fleet}/{device}/told/{type}", "commands": commands });
    let new = json!({ "slug": "harbour", "fleet": "bench", "types": ["downlink"], "to": { "mqtt": mqtt } });
    let _: Outlet = bench.service.post("outlets", new).await;
    listening(&bench).await;
    let heard = broker.listen("quay/+/+/#", &["-V", "5"]).await;
    (bench, broker, heard)
}

async fn listening(bench: &Bench) {
    let on = async || shown(&bench.service).await.status.commands.filter(|commands| commands.listening).map(drop);
    e2e::wait::until("the outlet to take commands", on).await;
}

/// The answer with a reference.
async fn answer(heard: &Heard, reference: &str) -> CommandAnswer {
    let is = |one: &Published| one.topic.ends_with("/answer") && one.payload.contains(reference);
    let found = e2e::wait::until_or_tell(
        || format!("the answer to {reference}: {:?}", heard.all()),
        async || heard.all().into_iter().find(is),
    );
    serde_json::from_str(&found.await.payload).unwrap()
}

#[tokio::test]
async fn a_command_is_sent_and_each_stage_comes_back_with_its_reference() {
    let (mut bench, broker, heard) = with_commands().await;
    let forms = [
        ("hex", json!({ "port": 10, "payload": "28" })),
        ("base64", json!({ "port": 10, "payload_base64": "KA==" })),
        ("named", json!({ "values": { "opening": 40 }, "confirmed": true })),
    ];
    for (reference, mut command) in forms {
        command["reference"] = json!(reference);
        broker.publish("quay/bench/probe-1/command", &command.to_string(), &[]);
        let answer = answer(&heard, reference).await;
        let downlink = answer.downlink.unwrap();
        assert!(answer.taken && answer.device.is_some_and(|device| device.eui == DEV_EUI));
        assert_eq!(
            (downlink.payload.as_str(), downlink.port, downlink.reference.as_deref()),
            ("28", 10, Some(reference))
        );
    }
    // A broker repeats what was not acknowledged: the same reference is the same downlink.
    broker.publish(
        "quay/bench/probe-1/command",
        &json!({ "port": 10, "payload": "ff", "reference": "hex" }).to_string(),
        &[],
    );
    e2e::wait::until("the second answer", async || {
        (heard.all().iter().filter(|one| one.topic.ends_with("/answer") && one.payload.contains("\"hex\"")).count()
            == 2)
            .then_some(())
    })
    .await;
    let outbox: Vec<OutboxItem> = bench.service.list(&format!("devices/{DEV_EUI}/outbox")).await;
    assert_eq!(outbox.len(), 3);

    let early = bench.uplink(&[1], false).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    assert!(matches!(bench.device.receive(&packet.phy_payload), Some(simulator::device::Downlink::Data { .. })));
    let stage = e2e::wait::until_or_tell(
        || format!("the stage: {:?}", heard.all()),
        async || heard.all().into_iter().find(|one| one.topic == "quay/bench/probe-1/told/downlink"),
    )
    .await;
    let told = stage.json();
    assert_eq!((told["stage"].as_str(), told["reference"].as_str()), (Some("sent"), Some("hex")));
    assert!(stage.properties.contains("reference:hex"), "{}", stage.properties);
    let taken: Vec<CommandTaken> = bench.service.list("outlets/harbour/commands").await;
    assert!(taken.len() == 4 && taken.iter().all(|one| one.taken), "{taken:?}");
}

#[tokio::test]
async fn what_cannot_be_obeyed_is_answered_and_never_in_silence() {
    let (bench, broker, heard) = with_commands().await;
    let _: Value = bench.service.post("fleets", json!({ "slug": "others" })).await;
    let mut other = registration(lorawan::Eui64(0x02b0_0900_0000_0077), "stranger", None);
    other["fleet"] = json!("others");
    let _: Value = bench.service.post("devices", other).await;
    let hex = |reference: &str| json!({ "port": 10, "payload": "28", "reference": reference }).to_string();
    let none = ["quay/bench/nobody/command", "quay/others/stranger/command", "quay/bench/stranger/command"];
    for (number, topic) in none.into_iter().enumerate() {
        broker.publish(topic, &hex(&format!("none-{number}")), &[]);
    }
    for (number, command) in [
        "not JSON".to_owned(),
        json!({ "payload": "28" }).to_string(),
        json!({ "port": 300, "payload": "28" }).to_string(),
        json!({ "port": 10, "payload": "28", "colour": "blue" }).to_string(),
        json!({ "command": "fly" }).to_string(),
        format!("{{\"text\":\"{}\"}}", "x".repeat(70_000)),
    ]
    .into_iter()
    .enumerate()
    {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), command).unwrap();
        let said = std::process::Command::new("mosquitto_pub")
            .args([
                "-h",
                "127.0.0.1",
                "-p",
                &broker.port.to_string(),
                "-q",
                "1",
                "-t",
                "quay/bench/probe-1/command",
                "-f",
            ])
            .arg(file.path())
            .status();
        assert!(said.unwrap().success(), "{number}");
    }
    broker.publish("quay/bench/probe-1/command", &hex("kept"), &["-r"]);
    let answers = e2e::wait::until_or_tell(
        || format!("ten answers: {:?}", heard.all()),
        async || {
            let answers: Vec<Published> =
                heard.all().into_iter().filter(|one| one.topic.ends_with("/answer")).collect();
            Some(answers).filter(|answers| answers.len() >= 10)
        },
    )
    .await;
    let refused =
        answers.iter().filter(|one| one.json()["taken"] == false && one.json()["problem"]["code"].is_string());
    // A message that the broker keeps goes to those who have subscribed already as one of now.
    assert_eq!(refused.count(), 9, "{answers:?}");
    let topics: Vec<&str> = answers.iter().map(|one| one.topic.as_str()).collect();
    assert!(
        topics.contains(&"quay/bench/nobody/answer") && topics.contains(&"quay/others/stranger/answer"),
        "{topics:?}"
    );
    // At the next start the broker repeats it, and it is not obeyed again.
    let before: Vec<OutboxItem> = bench.service.list(&format!("devices/{DEV_EUI}/outbox")).await;
    let _: Outlet = bench.service.post("outlets/harbour/resume", json!({})).await;
    let repeated = e2e::wait::until("the answer to what is kept", async || {
        heard.all().into_iter().find(|one| one.payload.contains("retained"))
    })
    .await;
    assert_eq!(repeated.json()["taken"], false);
    let after: Vec<OutboxItem> = bench.service.list(&format!("devices/{DEV_EUI}/outbox")).await;
    assert_eq!((before.len(), after.len()), (1, 1));
}

#[tokio::test]
async fn commands_wait_at_the_broker_while_the_service_is_away() {
    let (mut bench, broker, heard) = with_commands().await;
    bench.service.kill();
    for number in 0..3 {
        let command = json!({ "port": 10, "payload": format!("0{number}"), "reference": format!("away-{number}") });
        broker.publish("quay/bench/probe-1/command", &command.to_string(), &[]);
    }
    bench.service.start_again();
    bench.service.sign_in_again().await;
    for number in 0..3 {
        assert!(answer(&heard, &format!("away-{number}")).await.taken);
    }
    let outbox: Vec<OutboxItem> = bench.service.list(&format!("devices/{DEV_EUI}/outbox")).await;
    let mut payloads: Vec<&str> = outbox.iter().map(|item| item.payload.as_str()).collect();
    payloads.reverse();
    assert_eq!(payloads, ["00", "01", "02"], "in order");
}

#[tokio::test]
async fn whoever_may_not_send_cannot_let_others_send() {
    let (bench, broker) = (bench().await, Mosquitto::open().await);
    let (token, _) = bench
        .service
        .token_of(bench.service.token(), json!({ "name": "outlets", "rights": ["view", "outlets"] }))
        .await;
    let commands = json!({ "topic": "in/{device}", "answers": "out" });
    let mqtt = json!({ "url": broker.url(), "topic": "told/{device}", "commands": commands });
    let mut new = json!({ "slug": "harbour", "to": { "mqtt": mqtt } });
    let (status, problem) = bench.service.by(&token, Method::POST, "/estates/tarnsey/outlets", Some(new.clone())).await;
    assert!(status == 403 && problem.to_string().contains("send"), "{problem}");
    new["to"]["mqtt"].as_object_mut().unwrap().remove("commands");
    let (status, problem) = bench.service.by(&token, Method::POST, "/estates/tarnsey/outlets", Some(new)).await;
    assert_eq!(status, 201, "{problem}");
}

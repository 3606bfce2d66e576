//! From radio to reading and back, through the built client.

use std::collections::HashMap;
use std::io::{BufRead as _, BufReader};
use std::process::Stdio;

use api::device::outbox::{OutboxItem, OutboxState};
use api::device::{Device, DeviceDetail, DeviceState};
use api::gateway::{Gateway, GatewayState, Stranger};
use api::message::{Body, DownlinkStage, Message, ReadingValue};
use e2e::service::Service;
use e2e::wait::until;
use simulator::device::Downlink;
use simulator::world::{What, World};

use crate::scenes::tarnsey;

#[tokio::test(flavor = "multi_thread")]
async fn one_device_one_gateway_from_radio_to_reading() {
    let service = Service::first_start().await;
    let before = service.heron(&["gateway", "list"]);
    assert_eq!(before.status.code(), Some(4), "not allowed");
    assert!(String::from_utf8_lossy(&before.stderr).contains("heron sign-in"));
    service.sign_heron_in();

    // Registered by hand, as an engineer would.
    let scenario = tarnsey(&["sluice-07", "collar-19"]);
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/tarnsey");
    assert!(service.heron_says(&["gateway", "list"]).contains("Next:"), "an empty list teaches the next step");
    service.heron_says(&[
        "gateway",
        "add",
        "02:A1:F0:00:00:00:00:01",
        "--name",
        "chapel-rise",
        "--latitude-deg",
        "54.712",
        "--longitude-deg",
        "3.884",
    ]);
    service.heron_says(&["fleet", "add", "tide-and-sluice"]);
    service.heron_says(&["fleet", "add", "grazing"]);
    let decoder = format!("{folder}/../../catalogue/models/lodeworth-sluice/decoder.js");
    service.heron_says(&[
        "model",
        "add",
        "lodeworth-sluice",
        "--maker",
        "Lodeworth",
        "--name",
        "Sluice",
        "--decoder",
        &decoder,
        "--unit",
        "opening=%",
    ]);
    for entry in &scenario.devices {
        let (model, key) = (entry.model.as_deref().filter(|m| *m == "lodeworth-sluice"), entry.app_key.as_str());
        let mut args = vec!["device", "add", &entry.dev_eui, "--name", &entry.name, "--fleet", &entry.fleet];
        args.extend(["--join-eui", &entry.join_eui, "--app-key", key]);
        args.extend(model.iter().flat_map(|m| ["--model", m]));
        service.heron_says(&args);
    }

    let world = World::start(&scenario, service.udp, &HashMap::new()).await.unwrap();
    let mut events = world.events();

    let detail: DeviceDetail = until("readings of the sluice", async || {
        let detail: DeviceDetail = service.heron_json(&["device", "show", "sluice-07"]);
        (!detail.readings.is_empty()).then_some(detail)
    })
    .await;
    assert_eq!(detail.device.state, DeviceState::Active);
    let opening = &detail.readings["opening"].reading;
    assert_eq!((&opening.value, opening.unit.as_deref()), (&ReadingValue::Number(0.0), Some("%")));
    assert!(detail.airtime.iter().map(|band| band.frames).sum::<u32>() >= 2, "join and uplink are on the account");

    let gateways: Vec<Gateway> = service.heron_json(&["gateway", "list"]);
    assert_eq!((gateways.len(), gateways[0].state), (1, GatewayState::Listening));
    until("the stranger", async || {
        let strangers: Vec<Stranger> = service.heron_json(&["gateway", "strangers"]);
        strangers.iter().any(|s| s.eui.to_string() == "02c7e000000000ff" && s.frames_turned_away > 0).then_some(())
    })
    .await;

    // A command goes down, the device obeys, and its next reading says so.
    let item: OutboxItem =
        service.heron_json(&["outbox", "add", "sluice-07", "--port", "10", "--payload", "0x28", "--confirmed"]);
    assert_eq!(item.state, OutboxState::Waiting);
    loop {
        let event = events.recv().await.unwrap();
        if let What::Received(Downlink::Data { port: Some(10), payload, .. }) = event.what {
            assert_eq!((event.device.as_str(), &payload[..]), ("sluice-07", &[0x28][..]));
            break;
        }
    }
    until("the acknowledged command", async || {
        let items: Vec<OutboxItem> = service.heron_json(&["outbox", "list", "sluice-07"]);
        (items[0].state == OutboxState::Acknowledged).then_some(())
    })
    .await;
    until("the new reading", async || {
        let detail: DeviceDetail = service.heron_json(&["device", "show", "sluice-07"]);
        (detail.readings["opening"].reading.value == ReadingValue::Number(40.0)).then_some(())
    })
    .await;

    // The refused join is explained, with the next step.
    let devices = until("the refusal", async || {
        let devices: Vec<Device> = service.heron_json(&["device", "list", "--fleet", "grazing"]);
        (devices[0].state == DeviceState::Refused).then_some(devices)
    })
    .await;
    assert_eq!(devices[0].refusal.as_ref().unwrap().code, "join_mic_mismatch");
    let shown = service.heron_says(&["device", "list"]);
    assert!(
        shown.contains("the AppKey in the device differs") && shown.contains("Next: Compare the AppKey"),
        "{shown}"
    );

    history_and_follow(&service);
}

fn history_and_follow(service: &Service) {
    let told = service.heron_says(&["traffic", "list", "--limit", "100", "--json"]);
    let messages: Vec<Message> = told.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(messages.windows(2).all(|w| w[0].id < w[1].id), "oldest first, like a log");
    let of = |wanted: fn(&Body) -> bool| messages.iter().filter(|m| wanted(&m.body)).count();
    assert!(of(|b| matches!(b, Body::Join(_))) >= 1);
    assert!(of(|b| matches!(b, Body::Uplink(u) if u.readings.len() == 3)) >= 2);
    assert!(of(|b| matches!(b, Body::Refused(_))) >= 1);
    assert!(of(|b| matches!(b, Body::Downlink(d) if d.stage == DownlinkStage::Acknowledged)) == 1);

    let mut follow = service
        .heron_command(&["traffic", "follow", "--json", "--limit", "1", "--device", "sluice-07", "--type", "uplink"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(follow.stdout.take().unwrap()).lines();
    let live: Vec<Message> = lines.take(3).map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
    follow.kill().unwrap();
    follow.wait().unwrap();
    let counters = live.iter().map(|m| if let Body::Uplink(u) = &m.body { u.frame.counter } else { panic!("{m:?}") });
    let counters: Vec<_> = counters.collect();
    assert!(counters.windows(2).all(|w| w[0] < w[1]), "{counters:?}");

    let table = service.heron_says(&["traffic", "list", "--limit", "50"]);
    assert!(table.contains("opening 40 %") && table.contains("RX1"), "{table}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_refuses_clearly() {
    let service = Service::first_start().await;
    service.sign_heron_in();
    let refused = |args: &[&str], code: i32, parts: &[&str]| {
        let out = service.heron(args);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(code), "{args:?}: {said}");
        for part in parts {
            assert!(said.contains(part), "{args:?}: {part:?} is not in {said:?}");
        }
    };
    refused(&["gateway", "add", "02a1f0", "--name", "x"], 1, &["eui", "\"02a1f0\"", "16"]);
    refused(&["gateway", "show", "02a1f00000000001"], 3, &["no such gateway"]);
    refused(&["gateway", "list", "--nonsense"], 2, &["--nonsense"]);
    refused(&["device", "show", "nobody"], 3, &["\"nobody\"", "DevEUI"]);
    refused(&["traffic", "list", "--type", "sounds"], 1, &["sounds", "uplink, join, refused, downlink"]);
    refused(&["--estate", "elsewhere", "gateway", "list"], 3, &["no such estate"]);
    service.heron_says(&["fleet", "add", "herons"]);
    refused(&["fleet", "add", "herons"], 1, &["exists already"]);
    refused(&["fleet", "remove", "herons"], 1, &["--yes"]);
    service.heron_says(&["fleet", "remove", "herons", "--yes"]);
    let wrong = service.heron_command(&["sign-in", &service.http, "--password-stdin"]).output().unwrap();
    assert_eq!(wrong.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("Name or password is wrong"));
    assert!(service.heron_says(&["completions", "bash"]).contains("heron"));
    service.heron_says(&["sign-out"]);
    refused(&["fleet", "list"], 4, &["Not signed in", "heron sign-in"]);
}

//! Decoders that do not end, and workers that are killed.

use std::process::Command;
use std::time::Duration;

use api::message::{Body, Message};
use e2e::wait::until;
use lorawan::Eui64;
use serde_json::{Value, json};

use super::until_stored;
use crate::scenes::{Bench, DEV_EUI, device, registration};

/// One step for the interpreter, and more than anybody's time by the clock.
const ESCAPES: &str = "function decodeUplink(i) {
    if (i.bytes[0] < 200) return { data: { level: i.bytes[0] } };
    var s = 'a'; for (var n = 0; n < 20; n++) s += s;
    for (;;) if (s.indexOf(s.slice(0, 500000) + 'b') > 0) break;
    return { data: {} };
}";
const OTHER: Eui64 = Eui64(0x02b0_0900_0000_0002);

async fn message(bench: &Bench, device: Eui64, counter: u32) -> Option<api::message::Uplink> {
    let page: api::Page<Message> = bench.service.get(&format!("traffic?device={device}&type=uplink&limit=200")).await;
    page.items.into_iter().find_map(|message| match message.body {
        Body::Uplink(uplink) if uplink.frame.counter == counter => Some(*uplink),
        _ => None,
    })
}

#[tokio::test]
async fn a_decoder_that_escapes_its_steps_is_ended_by_the_clock_and_holds_up_nobody() {
    let mut bench = Bench::with_decoder(ESCAPES).await;
    bench.join().await;
    // Known to be quick, until a payload shows otherwise.
    for n in 0..5u8 {
        bench.uplink(&[n], false).await;
    }
    until_stored(&bench.service, DEV_EUI, 0..5).await;
    let _: Value = bench.service.post("devices", registration(OTHER, "probe-2", None)).await;
    let first = std::mem::replace(&mut bench.device, device(OTHER));
    bench.clock_us = bench.clock_us.wrapping_add(20_000_000);
    bench.join().await;
    let mut other = std::mem::replace(&mut bench.device, first);
    for n in 5..9u32 {
        bench.uplink(&[200], false).await;
        std::mem::swap(&mut bench.device, &mut other);
        let early = bench.uplink(&[1], true).await;
        let (token, packet) = bench.next_downlink(early).await;
        bench.gateway.report(token, Ok(())).await;
        assert!(bench.device.receive(&packet.phy_payload).is_some(), "answered in time, round {n}");
        std::mem::swap(&mut bench.device, &mut other);
    }
    until_stored(&bench.service, DEV_EUI, 0..9).await;
    let told = until("the reason", async || message(&bench, DEV_EUI, 5).await?.decode_error).await;
    assert!(told.contains("took longer than"), "{told}");
    // Its other payloads are read as before.
    bench.uplink(&[42], false).await;
    let read = until("its readings", async || {
        let read = message(&bench, DEV_EUI, 9).await?;
        read.readings.get("level").map(|level| level.value.clone())
    })
    .await;
    assert_eq!(read, api::message::ReadingValue::Number(42.0));
}

#[tokio::test]
async fn the_workbench_of_one_does_not_wait_for_a_script_of_another() {
    let bench = Bench::with_decoder("function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }").await;
    let endless = "var s = 'a'; for (var n = 0; n < 20; n++) s += s; for (;;) s.indexOf(s.slice(0, 500000) + 'b');
        function decodeUplink() { return { data: {} }; }";
    let try_out = |decoder: &str| json!({ "decoder": decoder, "payloads": [{ "port": 1, "bytes": "07" }] });
    let loading: api::model::draft::Tried = bench.service.post("models/probe/try", try_out(endless)).await;
    let problem = loading.problem.unwrap();
    assert!(problem.message.contains("took longer than"), "loading has the clock, too: {problem:?}");
    let good: api::model::draft::Tried =
        bench.service.post("models/probe/try", try_out("function decodeUplink(i) { return { data: { l: 1 } } }")).await;
    assert_eq!(good.problem, None);
}

#[tokio::test]
async fn workers_killed_at_will_lose_no_uplink_and_no_reading() {
    let mut bench = Bench::with_decoder("function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }").await;
    bench.join().await;
    for n in 0..60u8 {
        bench.uplink(&[n], false).await;
        // Often enough that a call loses its worker more than once.
        let parent = bench.service.process_id().to_string();
        let _ = Command::new("pkill").args(["-KILL", "-P", &parent]).status();
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    until_stored(&bench.service, DEV_EUI, 0..60).await;
    for n in 0..60u32 {
        let level = until("a reading", async || {
            let read = message(&bench, DEV_EUI, n).await?;
            assert_eq!(read.decode_error, None);
            read.readings.get("level").map(|level| level.value.clone())
        })
        .await;
        assert_eq!(level, api::message::ReadingValue::Number(f64::from(n)));
    }
}

#[tokio::test]
async fn a_worker_can_open_no_file_and_no_socket() {
    let bench = Bench::with_decoder("function decodeUplink(i) { return { data: { level: 1 } }; }").await;
    let parent = bench.service.process_id().to_string();
    let workers = Command::new("pgrep").args(["-P", &parent, "-f", "decode-worker"]).output().unwrap();
    let worker = String::from_utf8_lossy(&workers.stdout).lines().next().unwrap().to_owned();
    let status = std::fs::read_to_string(format!("/proc/{worker}/status")).unwrap();
    let field = |name: &str| {
        let line = status.lines().find(|line| line.starts_with(name)).unwrap();
        line.split_once(':').unwrap().1.split_whitespace().next().unwrap().to_owned()
    };
    assert_eq!((field("NoNewPrivs").as_str(), field("Seccomp").as_str()), ("1", "2"), "{status}");
    assert_ne!(field("Uid"), "0");
    let limits = std::fs::read_to_string(format!("/proc/{worker}/limits")).unwrap();
    assert!(
        limits.lines().any(|line| line.starts_with("Max open files") && line.split_whitespace().nth(3) == Some("0")),
        "{limits}"
    );
}

/// The workers of a service, with how each is doing, as the kernel tells it.
fn workers(parent: u32) -> Vec<(u32, char)> {
    let found = Command::new("pgrep").args(["-P", &parent.to_string(), "-f", "decode-worker"]).output().unwrap();
    let ids = String::from_utf8_lossy(&found.stdout).lines().filter_map(|line| line.parse().ok()).collect::<Vec<u32>>();
    ids.into_iter().filter_map(|id| Some((id, state_of(id)?))).collect()
}

fn state_of(process: u32) -> Option<char> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // Behind the program's name, which stands in parentheses.
    stat.rsplit_once(") ")?.1.chars().next()
}

#[tokio::test]
async fn a_service_that_is_killed_leaves_no_script_running() {
    let mut bench = Bench::with_decoder(ESCAPES).await;
    bench.join().await;
    let parent = bench.service.process_id();
    let all = until("a worker at an endless script", async || {
        bench.uplink(&[200], false).await;
        let all = workers(parent);
        all.iter().any(|(_, state)| *state == 'R').then_some(all)
    })
    .await;
    bench.service.kill();
    until("the end of the workers", async || all.iter().all(|(id, _)| state_of(*id).is_none()).then_some(())).await;
}

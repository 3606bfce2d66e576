//! Messages in files on the service's machine.

use std::path::PathBuf;

use api::message::Message;
use api::outlet::{Delivery, Outlet, OutletState};
use serde_json::{Value, json};

use super::{becomes, bench, shown, stored};
use crate::scenes::Bench;

async fn outlet(bench: &Bench) -> PathBuf {
    let new = json!({ "slug": "harbour", "types": ["uplink"], "to": { "files": {} } });
    let _: Outlet = bench.service.post("outlets", new).await;
    bench.service.data().join("outlets/tarnsey/harbour")
}

fn lines(folder: &PathBuf) -> Vec<Message> {
    let mut files: Vec<PathBuf> =
        std::fs::read_dir(folder).into_iter().flatten().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    let read = |file: &PathBuf| std::fs::read_to_string(file).unwrap();
    let texts: Vec<String> = files.iter().map(read).collect();
    texts.iter().flat_map(|text| text.lines()).map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[tokio::test]
async fn each_message_is_a_line_over_a_kill_and_a_cut_line() {
    let mut bench = bench().await;
    let folder = outlet(&bench).await;
    for level in 1..=3 {
        bench.uplink(&[level], false).await;
    }
    e2e::wait::until("three lines", async || (lines(&folder).len() == 3).then_some(())).await;
    e2e::wait::until("the position", async || (shown(&bench.service).await.status.delivered == 3).then_some(())).await;
    assert!(bench.service.stop());
    // As a kill in the middle of a line leaves it.
    let file = std::fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
    let mut text = std::fs::read_to_string(&file).unwrap();
    text.push_str("{\"id\":\"01K");
    std::fs::write(&file, text).unwrap();
    bench.service.start_again();
    bench.service.sign_in_again().await;
    bench.gateway.pull().await;
    bench.uplink(&[4], false).await;
    e2e::wait::until("the fourth", async || (shown(&bench.service).await.status.delivered == 1).then_some(())).await;
    assert_eq!(lines(&folder), stored(&bench.service, "uplink").await);
    let deliveries: Vec<Delivery> = bench.service.list("outlets/harbour/deliveries").await;
    assert!(deliveries[0].request.line.ends_with(".jsonl"), "{deliveries:?}");
}

#[tokio::test]
async fn a_folder_that_cannot_be_written_is_told_and_waited_for() {
    let mut bench = bench().await;
    // Where the folder is to be, there is a file.
    let parent = bench.service.data().join("outlets");
    std::fs::create_dir_all(&parent).unwrap();
    std::fs::write(parent.join("tarnsey"), "in the way").unwrap();
    let folder = outlet(&bench).await;
    bench.uplink(&[1], false).await;
    let failing = becomes(&bench.service, OutletState::Failing).await;
    assert!(failing.status.why.as_ref().is_some_and(|why| why.contains("not written")), "{failing:?}");
    std::fs::remove_file(parent.join("tarnsey")).unwrap();
    let _: Value = bench.service.post("outlets/harbour/resume", json!({})).await;
    e2e::wait::until("the line", async || (lines(&folder).len() == 1).then_some(())).await;
}

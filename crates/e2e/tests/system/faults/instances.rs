//! A database belongs to one instance, and an older copy of it is not used as if it were the newest.

use std::process::Command;

use api::device::DeviceDetail;
use e2e::wait::until;
use reqwest::Method;
use serde_json::{Value, json};
use simulator::device::Downlink;

use super::{stored, until_stored};
use crate::scenes::{Bench, DEV_EUI};

fn copy(from: &std::path::Path, to: &std::path::Path) {
    assert!(Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap().success());
}

fn serve(data: &str) -> [String; 9] {
    ["serve", "--http", "127.0.0.1:0", "--udp", "127.0.0.1:0", "--gateways", "127.0.0.1:0", "--data", data]
        .map(str::to_owned)
}

#[tokio::test]
async fn a_second_instance_with_a_copied_folder_is_refused_and_the_first_goes_on() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let elsewhere = tempfile::tempdir().unwrap();
    copy(&bench.service.data(), &elsewhere.path().join("copy"));
    let data = elsewhere.path().join("copy").display().to_string();
    let args = serve(&data);
    let why = bench.service.herond_refuses(&args.each_ref().map(String::as_str));
    assert!(why.contains("the database is held by herond with process number"), "{why}");
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
}

#[tokio::test]
async fn an_instance_whose_database_was_taken_over_writes_nothing_more_and_ends() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    let before = bench.service.query("SELECT COUNT(*) FROM messages");
    bench.service.query("UPDATE instance SET epoch = epoch + 1, holder = 'somebody else'");
    bench.gateway.throw(&bench.device.uplink(2, &[1], false).unwrap(), 99_000_000).await;
    assert!(!bench.service.ends(), "it says so with its exit code");
    assert_eq!(bench.service.query("SELECT COUNT(*) FROM messages"), before);
    // What it could not write is in its journal.
    bench.service.query("UPDATE instance SET process = 0");
    bench.service.start_again();
    until_stored(&bench.service, DEV_EUI, [0, 1]).await;
}

#[tokio::test]
async fn an_older_copy_of_the_database_is_refused_until_its_counters_have_moved_on() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    let answered = async |bench: &mut Bench, n: u8| {
        let early = bench.uplink(&[n], true).await;
        let (token, packet) = bench.next_downlink(early).await;
        bench.gateway.report(token, Ok(())).await;
        packet.phy_payload
    };
    answered(&mut bench, 0).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    assert!(bench.service.stop());
    let copy = bench.service.dump();
    bench.service.start_again();
    bench.gateway.pull().await;
    let mut sent = Vec::new();
    for n in 1..4 {
        sent.push(answered(&mut bench, n).await);
    }
    until_stored(&bench.service, DEV_EUI, 0..4).await;
    assert!(bench.service.stop());
    bench.service.put_back(&copy);
    let data = bench.service.data().display().to_string();
    let args = serve(&data);
    let why = bench.service.herond_refuses(&args.each_ref().map(String::as_str));
    assert!(why.contains("is an older copy") && why.contains("herond restored"), "{why}");
    let said = bench.service.herond_says(&["restored", "--data", &data]);
    assert!(said.contains("FCntDown of 1 sessions") && said.contains("can be started now"), "{said}");
    bench.service.start_again();
    bench.gateway.pull().await;
    let detail: DeviceDetail = bench.service.get(&format!("devices/{DEV_EUI}")).await;
    assert!(detail.session.unwrap().next_counter_down >= 10_000);
    let after = answered(&mut bench, 9).await;
    assert!(!sent.contains(&after));
    let taken = bench.device.receive(&after);
    assert!(matches!(taken, Some(Downlink::Data { .. })), "the device takes it: {taken:?}");
    until("the uplink", async || stored(&bench.service, DEV_EUI).contains(&4).then_some(())).await;
    // A join draws a JoinNonce that was not drawn before.
    let again: Value = bench.service.done(Method::GET, "/health", None).await;
    assert_eq!(again["status"], json!("ok"));
    until("nonces far ahead", async || {
        let next = bench.service.query("SELECT MIN(next_join_nonce) FROM nonces");
        (next.trim().parse::<u32>().unwrap() > 10_000).then_some(())
    })
    .await;
}

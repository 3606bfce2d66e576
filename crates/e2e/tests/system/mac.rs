//! A device's questions to the network, from radio to words.

use api::Page;
use api::message::{Body, Message};
use e2e::wait::until;
use lorawan::mac::{DownCommand, UpCommand};
use simulator::device::Downlink;

use crate::scenes::Bench;

#[tokio::test]
async fn a_device_that_asks_is_answered() {
    let mut bench = Bench::set_up().await;
    bench.join().await;
    bench.device.ask(UpCommand::LinkCheckReq);
    bench.device.ask(UpCommand::DeviceTimeReq);
    let early = bench.uplink(&[1], false).await;
    let (token, packet) = bench.next_downlink(early).await;
    bench.gateway.report(token, Ok(())).await;
    let Some(Downlink::Data { mac_commands, port: None, ack: false, .. }) = bench.device.receive(&packet.phy_payload)
    else {
        panic!("a frame that carries nothing but answers")
    };
    let [DownCommand::LinkCheckAns { margin_db, gateways: 1 }, DownCommand::DeviceTimeAns { gps_s, .. }] =
        mac_commands[..]
    else {
        panic!("{mac_commands:?}")
    };
    assert!(margin_db > 0);
    let unix_s = lorawan::gps_time::to_unix_us(i64::from(gps_s) * 1_000_000) / 1_000_000;
    assert!((chrono::Utc::now().timestamp() - unix_s).abs() < 60, "the time is told");

    let told = until("the answer in the traffic", async || {
        let page: Page<Message> = bench.service.get("traffic?type=uplink,downlink").await;
        let sent = page.items.iter().any(|m| matches!(&m.body, Body::Downlink(d) if d.frame.is_some()));
        sent.then_some(page.items)
    })
    .await;
    let words: Vec<String> = told
        .iter()
        .flat_map(|message| match &message.body {
            Body::Uplink(uplink) => uplink.frame.mac.clone(),
            Body::Downlink(downlink) => downlink.frame.as_ref().map(|f| f.mac.clone()).unwrap_or_default(),
            _ => Vec::new(),
        })
        .map(|command| format!("{}: {}", command.name, command.words))
        .collect();
    assert!(words.contains(&"LinkCheckReq: asks how well it is heard".to_owned()), "{words:?}");
    assert!(words.contains(&format!("LinkCheckAns: heard {margin_db} dB above the floor, by 1 gateway")), "{words:?}");
    bench.service.sign_heron_in();
    let said = bench.service.heron_says(&["traffic", "list"]);
    assert!(said.contains("    DeviceTimeAns: 20") && said.contains(" without payload"), "{said}");
}

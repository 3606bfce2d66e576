//! Damage and lack of room where frames are kept until they are in the database.

use std::fs;
use std::path::PathBuf;
use std::time::Duration;

use e2e::mariadb::MariaDb;
use e2e::service::Service;
use gateway_link::udp::Datagram;

use super::{concerns, health, stored, until_stored};
use crate::scenes::{Bench, DEV_EUI};

fn segments(service: &Service) -> Vec<PathBuf> {
    let entries = fs::read_dir(service.data().join("journal")).unwrap();
    let mut all: Vec<PathBuf> = entries.map(|entry| entry.unwrap().path()).filter(|path| path.is_file()).collect();
    all.sort();
    all
}

#[tokio::test]
async fn a_flipped_bit_costs_one_uplink_and_is_told() {
    let server: &'static MariaDb = Box::leak(Box::new(MariaDb::start()));
    let mut bench = Bench::with(Service::on(server).await, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    server.freeze(true);
    for n in 1..60u8 {
        bench.uplink(&[n], false).await;
    }
    bench.service.kill();
    server.freeze(false);
    let file = segments(&bench.service).pop().unwrap();
    let mut bytes = fs::read(&file).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 4;
    fs::write(&file, &bytes).unwrap();
    bench.service.start_again();
    e2e::wait::until("all but one", async || {
        let counters = stored(&bench.service, DEV_EUI);
        (counters.len() == 59 && counters.last() == Some(&59)).then_some(())
    })
    .await;
    let told = concerns(&bench.service).await;
    assert!(told.contains("bytes of the journal could not be read") && told.contains("damaged"), "{told}");
    let kept = bench.service.data().join("journal/damaged").join(file.file_name().unwrap());
    assert_eq!(fs::read(kept).unwrap(), bytes);
}

#[tokio::test]
async fn nothing_is_acknowledged_that_is_not_in_the_journal() {
    let Some(service) = Service::with_small_journal().await else { return };
    let mut bench = Bench::with(service, None).await;
    bench.join().await;
    bench.uplink(&[0], false).await;
    until_stored(&bench.service, DEV_EUI, [0]).await;
    bench.service.fill_journal(true);
    // What is left of the last page of the file takes some frames still.
    let mut sent = 1u32;
    loop {
        let emission = bench.device.uplink(2, &[1], false).unwrap();
        let token = bench.gateway.throw(&emission, 50_000_000 + sent * 10_000).await;
        sent += 1;
        let mut acknowledged = false;
        while let Some(datagram) = bench.gateway.receive(Duration::from_secs(2)).await {
            acknowledged |= datagram == Datagram::PushAck { token };
            if acknowledged {
                break;
            }
        }
        if !acknowledged {
            break;
        }
        assert!(sent < 200, "it is never full");
    }
    let (status, parts) = health(&bench.service).await;
    assert_eq!(status, 503, "{parts:?}");
    assert!(concerns(&bench.service).await.contains("The journal of heard frames cannot be written"));
    // It goes on by itself.
    bench.service.fill_journal(false);
    bench.uplink(&[2], false).await;
    until_stored(&bench.service, DEV_EUI, 0..=sent).await;
    assert_eq!(health(&bench.service).await.0, 200);
}

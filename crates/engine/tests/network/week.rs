//! A week of devices of every region, version and class that lose frames, repeat, hop and refuse. The seed is printed;
//! `HERON_SEED` repeats a run.

use engine::*;
use lorawan::mac::{DownCommand, commands};
use lorawan::region::Region;
use lorawan::{Direction, MacVersion};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use simulator::device::{Build, Listens, Refuses};

use crate::exact::demanding;
use crate::field::{Field, HOUR, MINUTE};
use crate::on_air::check_air;
use crate::world::{FAR, NEAR};

const DAYS: usize = 7;
/// Downlinks in a week in which the network asks something of the device. Acknowledgements, answers and commands of people
/// are as many as they are asked for.
/// Twelve a day, for 24 uplinks a day; in 15 seeds at most 55 a week were seen.
const MOST_ASKED: usize = 12 * DAYS;

/// Whether a downlink with requests of the network was sent.
fn requests(event: &Event) -> bool {
    let Event::Downlink(downlink) = event else { return false };
    let asks = |command: &DownCommand| command.cid().name(Direction::Down).ends_with("Req");
    downlink.stage == DownlinkStage::Sent
        && commands::<DownCommand>(&downlink.mac_commands).filter_map(Result::ok).any(|placed| asks(&placed.command))
}

/// A device of this region, version and class, in a field of its own.
fn device(rng: &mut StdRng, region: Region, version: MacVersion, class: Class) -> (Field, usize, String) {
    let mut field = Field::new(&[]);
    field.seed(rng.random());
    for eui in [NEAR, FAR] {
        field.gateway(GatewayConfig { beacons: true, ..GatewayConfig::new(eui, region, 2.0) }, true);
    }
    let listens = match class {
        Class::A => Listens::AfterUplinks,
        Class::B => Listens::InPingSlots(4),
        Class::C => Listens::Always,
    };
    let plan = region.plan();
    let slowest = plan.slowest_from(0, plan.dwell.uplink_ms.is_some());
    let build = Build { version, listens, adr: rng.random_bool(0.8), ..Build::plain(region, slowest + 1) };
    let profile = RadioProfile { ping_periodicity: None, ..demanding(region, version, class) };
    let level = rng.random_range(-6.0..12.0);
    let node = field.add(build, profile, vec![(NEAR, level), (FAR, level - 4.0)]);
    field.nodes[node].loss_percent = rng.random_range(0..30);
    let refused = rng.random_bool(0.5).then(|| Refuses::ALL[rng.random_range(0..Refuses::ALL.len())]);
    refused.into_iter().for_each(|what| field.nodes[node].device.refuse(what));
    let about = format!("{region} {version} {class}, refuses {refused:?}, {} % lost", field.nodes[node].loss_percent);
    (field, node, about)
}

#[test]
fn a_week_in_every_region_version_and_class() {
    let seed = std::env::var("HERON_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or_else(rand::random::<u64>);
    println!("HERON_SEED={seed}");
    let mut rng = StdRng::seed_from_u64(seed);
    let mut most = 0;
    for region in Region::ALL {
        for version in MacVersion::ALL {
            for class in Class::ALL {
                let (mut field, node, about) = device(&mut rng, region, version, class);
                field.join(node);
                let mut asked = 0;
                for day in 0..DAYS {
                    field.enqueue(node, day as u128, b"daily", rng.random());
                    for _ in 0..24 {
                        field.uplink(node, rng.random_bool(0.1));
                        if let Some(request) = field.nodes[node].device.rejoin_if_told() {
                            field.emit(node, &request);
                        }
                        field.pass(HOUR - MINUTE);
                        let codes: Vec<_> = field.refusals().iter().map(|refusal| refusal.code()).collect();
                        assert!(codes.is_empty(), "{about}: {codes:?}, seed {seed}");
                    }
                    check_air(&field).unwrap_or_else(|why| panic!("{about}: {why}, seed {seed}"));
                    asked += field.told().into_iter().filter(|event| requests(event)).count();
                    field.forget();
                }
                let got = field.got(node).len();
                assert!(got >= DAYS - 2, "{about}: {got} of {DAYS} downlinks reached it, seed {seed}");
                assert!(asked <= MOST_ASKED, "{about}: {asked} downlinks with requests, seed {seed}");
                most = most.max(asked);
            }
        }
    }
    println!("at most {most} downlinks with requests");
}

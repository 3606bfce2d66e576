use std::path::Path;

use super::*;
use crate::scenario::{Scenario, Weaker};

const MAY: MomentUs = 1_777_593_600_000_000;
const HOUR_US: i64 = 3_600_000_000;

fn tarnsey() -> Scenario {
    Scenario::load(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/tarnsey")).unwrap()
}

fn simulated(scenario: &Scenario, seed: u64) -> Simulation {
    Simulation::new(scenario, (MAY, MAY), seed).unwrap()
}

/// All frames heard in this time, as bytes and gateways.
fn heard(simulation: &mut Simulation, until_us: MomentUs) -> Vec<(Eui64, Vec<u8>, i64)> {
    let of = |news| match news {
        News::Heard { gateway, emission, end_us, .. } => Some((gateway, emission.phy_payload, end_us)),
        News::Event(_) => None,
    };
    simulation.advance(until_us).into_iter().filter_map(of).collect()
}

#[test]
fn the_same_seed_makes_the_same_world() {
    let scenario = tarnsey();
    let hour = |seed| heard(&mut simulated(&scenario, seed), MAY + HOUR_US);
    let first = hour(5);
    assert!(first.len() > 100, "{}", first.len());
    assert_eq!(first, hour(5));
    assert_ne!(first, hour(6));
}

#[test]
fn a_gateway_that_was_away_heard_nothing_then() {
    let mut scenario = tarnsey();
    for gateway in &mut scenario.gateways {
        gateway.away = vec![DaysAgo { from_days_ago: 0.5, until_days_ago: 0.25 }];
    }
    let present_us = MAY + 24 * HOUR_US;
    let mut simulation = Simulation::new(&scenario, (MAY, present_us), 5).unwrap();
    let heard = heard(&mut simulation, present_us);
    let away = MAY + 12 * HOUR_US..MAY + 18 * HOUR_US;
    assert!(heard.iter().any(|(_, _, at_us)| *at_us < away.start) && heard.iter().any(|(.., at_us)| *at_us > away.end));
    assert!(!heard.iter().any(|(_, _, at_us)| away.contains(at_us)));
    assert!(
        !simulation.is_there(simulation.posts[0].eui, away.start) && simulation.is_there(simulation.posts[0].eui, MAY)
    );
}

#[test]
fn water_in_a_cable_shows_in_levels() {
    let mut scenario = tarnsey();
    for gateway in &mut scenario.gateways {
        gateway.weaker = Some(Weaker { since_days_ago: 0.5, loss_db: 12.0 });
    }
    let present_us = MAY + 24 * HOUR_US;
    let mut simulation = Simulation::new(&scenario, (MAY, present_us), 5).unwrap();
    let mut strongest = |until_us: MomentUs| {
        let level = |news: News| match news {
            News::Heard { nth: 0, arrival, .. } => Some(arrival.rssi_dbm),
            _ => None,
        };
        simulation.advance(until_us).into_iter().filter_map(level).fold(f64::MIN, f64::max)
    };
    let (before, after) = (strongest(MAY + 12 * HOUR_US), strongest(present_us));
    assert!((before - after - 12.0).abs() < 4.0, "{before} and {after} dBm");
}

#[test]
fn a_world_continues_from_its_saved_state() {
    let mut scenario = tarnsey();
    // The one that needs no network to send.
    scenario.devices.retain(|device| device.personal.is_some());
    let mut before = simulated(&scenario, 5);
    before.advance(MAY + 2 * HOUR_US);
    let kept = serde_json::to_string(&before.saved()).unwrap();
    let mut after = Simulation::new(&scenario, (MAY + 2 * HOUR_US, MAY), 5).unwrap();
    after.restore(serde_json::from_str(&kept).unwrap());
    let first = |simulation: &mut Simulation| {
        heard(simulation, MAY + 3 * HOUR_US).into_iter().map(|(_, bytes, at_us)| (bytes, at_us)).next()
    };
    let next = first(&mut before);
    assert!(next.is_some() && next == first(&mut after), "the same frame at the same time");
    let file = std::env::temp_dir().join(format!("world-{}.json", std::process::id()));
    assert!(SavedWorld::read(&file).unwrap().is_none());
    after.saved().write(&file).unwrap();
    assert_eq!(SavedWorld::read(&file).unwrap().unwrap().present_us, MAY);
    std::fs::write(&file, b"{}").unwrap();
    assert!(SavedWorld::read(&file).is_err());
    std::fs::remove_file(&file).unwrap();
}

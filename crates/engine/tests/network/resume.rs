//! A service that was killed hands in again what it had heard.

use engine::*;
use lorawan::region::Region;
use proptest::prelude::*;

use crate::world::{DEV, FAR, Joined, NEAR, SECOND, World, device, device_with, item, quiet};

/// What an engine is given, in the order of hearing.
fn hand_in(world: &mut World, frames: &[FrameHeard]) {
    for frame in frames {
        world.now = world.now.max(frame.reception.heard_at);
        world.engine.handle(world.now, Input::FrameHeard(frame.clone()), &mut world.effects);
    }
}

/// Uplinks with two copies each, the second this many microseconds after the first.
fn uplinks(world: &World, session: &mut Joined, uplinks: &[(i64, i64)]) -> Vec<FrameHeard> {
    let mut at = world.now;
    let mut frames = Vec::new();
    for (pause_us, apart_us) in uplinks {
        at = at.plus_us(*pause_us);
        let phy_payload = session.plain();
        for (gateway, heard_at) in [(FAR, at), (NEAR, at.plus_us(*apart_us))] {
            let reception = Reception { heard_at, ..world.reception(gateway, 5.0) };
            frames.push(FrameHeard { phy_payload: phy_payload.clone(), reception });
        }
    }
    frames.sort_by_key(|frame| frame.reception.heard_at);
    frames
}

proptest! {
    /// Whenever the first engine ends, the next processes what that one has not, and nothing twice.
    #[test]
    fn every_uplink_is_processed_once(
        sent in prop::collection::vec((2 * SECOND..5 * SECOND, 0..SECOND), 1..12),
        end in 0.0..1.0f64,
        idle_us in 0..SECOND,
    ) {
        let mut world = World::new();
        let mut session = world.join(1);
        let frames = uplinks(&world, &mut session, &sent);
        let cut = (frames.len() as f64 * end) as usize;
        hand_in(&mut world, &frames[..cut]);
        // It may have had the time to close a collection; but nothing it has not heard yet lies in that time.
        let next = frames.get(cut).map_or(Timestamp(i64::MAX), |frame| frame.reception.heard_at);
        let until = world.now.plus_us(idle_us).min(next);
        world.pass(until.since(world.now));

        let mut after = World::empty(8);
        after.now = until;
        after.command(Command::ProcessedUntil(until));
        for gateway in [NEAR, FAR] {
            after.command(Command::PutGateway(GatewayConfig::new(gateway, Region::Eu868, 2.0)));
        }
        let DeviceStatus { session, next_session, .. } = world.engine.device_status(DEV, until).unwrap();
        let record = DeviceRecord { session, next_session, ..DeviceRecord::new(device(DEV)) };
        after.command(Command::RestoreDevice(Box::new(record)));
        let needed_from = until.plus_us(-Config::default().looks_back_us());
        let kept: Vec<FrameHeard> = frames.iter().filter(|f| f.reception.heard_at >= needed_from).cloned().collect();
        hand_in(&mut after, &kept);
        after.pass(10 * SECOND);

        let counters: Vec<u32> = world.uplinks().into_iter().chain(after.uplinks()).map(|uplink| uplink.counter).collect();
        prop_assert_eq!(counters, (0..sent.len() as u32).collect::<Vec<_>>());
        prop_assert!(after.refusals().is_empty(), "{:?}", after.refusals());
        prop_assert!(after.notices().iter().all(|notice| notice.code() != "uplink_repeated"), "{:?}", after.notices());
    }
}

/// A device and a group that are always listened to, put back with a downlink each; then this much of the gateway's
/// account, all in RX2's sub-band.
fn put_back(airtime_us: u64) -> World {
    let profile = RadioProfile { class: Class::C, ..quiet(Region::Eu868) };
    let mut before = World::new();
    let mut session = before.join(1);
    before.send(&session.plain());
    let record = DeviceRecord {
        session: before.engine.device_status(DEV, before.now).unwrap().session,
        near: vec![(NEAR, 5.0)],
        outbox: vec![item(1, &[1], false)],
        ..DeviceRecord::new(device_with(DEV, profile))
    };
    let mut after = World::empty(9);
    after.now = before.now;
    after.command(Command::PutGateway(GatewayConfig::new(NEAR, Region::Eu868, 2.0)));
    after.command(Command::RestoreDevice(Box::new(record)));
    assert_eq!(after.transmissions(), [], "not before the accounts are back");
    after.command(Command::RestoreAirtime {
        transmitter: Transmitter::Gateway(NEAR),
        sub_band: "P".into(),
        minute: after.now.minute(),
        used: Used { airtime_us, frames: 7 },
    });
    after.pass(SECOND);
    after
}

#[test]
fn accounts_go_on_where_they_stood() {
    let after = put_back(1_000_000);
    let sent = after.transmission();
    let booked = after.changes().find_map(|change| match change {
        Change::Airtime { transmitter: Transmitter::Gateway(NEAR), sub_band: "P", airtime_us, frames, .. } => {
            Some((*airtime_us, *frames))
        }
        _ => None,
    });
    assert_eq!(booked, Some((1_000_000 + sent.airtime_us, 8)));

    let full = put_back(360_000_000);
    assert_eq!(full.transmissions(), [], "what was used up before the restart is used up after it");
    assert!(matches!(full.outbox_states()[..], [.., OutboxState::Waiting(Wait::Airtime { sub_band: "P", .. })]));
}

#[test]
fn a_class_b_device_is_one_after_a_restart() {
    let profile = RadioProfile { class: Class::B, ..quiet(Region::Eu868) };
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.plain());
    let mut session = world.engine.device_status(DEV, world.now).unwrap().session.unwrap();
    session.settings.ping_periodicity = Some(3);
    let record = DeviceRecord {
        session: Some(session),
        near: vec![(NEAR, 5.0)],
        ..DeviceRecord::new(device_with(DEV, profile))
    };
    for (class, window) in [(None, None), (Some(Class::B), Some(Window::PingSlot))] {
        let mut after = World::new();
        after.command(Command::RestoreDevice(Box::new(DeviceRecord { class, ..record.clone() })));
        let reception = Reception { has_gps: true, ..after.reception(NEAR, 5.0) };
        let frame = FrameHeard { phy_payload: vec![0xe0], reception };
        after.engine.handle(after.now, Input::FrameHeard(frame), &mut Vec::new());
        after.command(Command::Enqueue { dev_eui: DEV, item: item(1, &[1], false) });
        after.pass(10 * SECOND);
        assert_eq!(after.transmissions().first().map(|sent| sent.window), window);
    }
}

use engine::*;
use lorawan::region::Region;
use lorawan::wire::UplinkFlags;
use lorawan::{DevAddr, Eui64};
use proptest::prelude::*;

use crate::world::*;

#[test]
fn copies_become_one_uplink_best_first() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.uplink(&[0x0a, 0x1b], UplinkFlags::default(), false));
    let [uplink] = world.uplinks()[..] else { panic!("{:?}", world.effects) };
    assert_eq!((uplink.counter, uplink.port, &uplink.payload[..]), (0, Some(2), &[0x0a, 0x1b][..]));
    assert_eq!(uplink.frame.heard_by.iter().map(|c| c.gateway).collect::<Vec<_>>(), [NEAR, FAR]);
    assert_eq!(uplink.data_rate, Some(5));
    assert_eq!(
        uplink.frame.airtime_us, 46_336,
        "15 bytes at SF7: 8 + ceil(136/28)·5 = 33, + 12.25 symbols of 1.024 ms"
    );
    assert_eq!(world.transmissions(), [], "nothing is due");
}

#[test]
fn lost_uplinks_are_counted_and_high_counter_bits_kept() {
    let mut world = World::new();
    world.profile(RadioProfile { max_counter_gap: Some(0), ..quiet(Region::Eu868) });
    let mut session = world.join(1);
    world.send(&session.plain());
    session.up = 0x1_0003;
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.uplinks(), Vec::<&UplinkEvent>::new(), "a gap of more than 2^16 cannot be told from another key");
    session.up = 0xfffe;
    world.send(&session.plain());
    world.pass(2 * SECOND);
    session.up = 0x1_0003;
    world.send(&session.plain());
    let uplinks = world.uplinks();
    assert_eq!(uplinks.iter().map(|u| u.counter).collect::<Vec<_>>(), [0xfffe, 0x1_0003]);
    assert_eq!(uplinks[1].warnings, ["4 uplinks before this one were not heard"]);
}

#[test]
fn a_replay_is_refused_and_a_restarted_counter_named() {
    let mut world = World::new();
    let mut session = world.join(1);
    let first = session.plain();
    world.send(&first);
    session.up = 70_000 - 65_536;
    for _ in 0..2 {
        world.send(&session.plain());
    }
    world.pass(10 * SECOND);
    world.effects.clear();
    world.send(&first);
    assert_eq!(world.refusals()[0].reason, Refusal::CounterTooLow { received: 0, last: 4465 });
    let evidence = world.refusals()[0].reason.evidence();
    assert_eq!(evidence, [("received counter", "0".to_owned()), ("last counter", "4465".to_owned())]);
    assert_eq!(world.refusals()[0].dev_eui, Some(DEV));
    world.effects.clear();
    session.up = 3;
    world.send(&session.plain());
    assert_eq!(world.refusals()[0].reason, Refusal::CounterTooLow { received: 3, last: 4465 });
    assert_eq!(world.uplinks(), Vec::<&UplinkEvent>::new());
}

#[test]
fn strange_addresses_and_keys_are_told_apart() {
    let mut world = World::new();
    let mut session = world.join(1);
    let mut other = world.join(2);
    world.send(&session.plain());
    assert_eq!(world.refusals()[0].reason, Refusal::UnknownDevAddr { dev_addr: session.dev_addr });
    world.effects.clear();
    other.nwk = session.nwk;
    world.send(&other.plain());
    assert_eq!(world.refusals()[0].reason, Refusal::DataMic { dev_addr: other.dev_addr });
    world.effects.clear();
    world.send(&[0x40, 1, 2]);
    assert!(world.refusals()[0].reason.why().contains("too few"));
}

#[test]
fn two_sessions_may_share_an_address() {
    let mut world = World::new();
    let mut session = world.join(1);
    let twin = Eui64(0x02bb_0000_0000_002b);
    let mut stored = world.engine.device_status(DEV, world.now).unwrap().next_session.unwrap();
    stored.keys.f_nwk_s_int_key.0[0] ^= 1;
    let record = DeviceRecord { session: Some(stored), ..DeviceRecord::new(device(twin)) };
    world.command(Command::RestoreDevice(Box::new(record)));
    world.send(&session.plain());
    assert_eq!(world.uplinks()[0].dev_eui, DEV);
    session.nwk = lorawan::crypto::MicKey::new(
        &world.engine.device_status(twin, world.now).unwrap().session.unwrap().keys.f_nwk_s_int_key,
    );
    session.up = 0;
    world.send(&session.plain());
    assert_eq!(world.uplinks()[1].dev_eui, twin);
}

#[test]
fn a_repetition_is_not_a_second_uplink_but_is_acknowledged_again() {
    let mut world = World::new();
    let mut session = world.join(1);
    let frame = session.uplink(&[1], UplinkFlags::default(), true);
    world.send(&frame);
    world.pass(4 * SECOND);
    world.send(&frame);
    assert_eq!(world.uplinks().len(), 1);
    let acks = world.transmissions();
    assert_eq!(acks.len(), 2);
    for (counter, ack) in (0..).zip(&acks) {
        let (view, payload) = session.read(&ack.phy_payload, counter);
        assert!(view.downlink_flags().ack && payload.is_empty());
    }
    let used = world.engine.device_status(DEV, world.now).unwrap().airtime;
    assert_eq!(used[0].frames, 3, "the join and both sendings were on air");
}

#[test]
fn a_device_is_accounted_by_sub_band() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.plain());
    world.frequency_hz = 867_500_000;
    world.send(&session.plain());
    world.send(&session.plain());
    let status = world.engine.device_status(DEV, world.now).unwrap();
    let used: Vec<_> = status.airtime.iter().map(|b| (b.sub_band.name, b.frames)).collect();
    assert_eq!(used, [("L", 2), ("M", 2)]);
    assert!(world.changes().any(|c| matches!(c, Change::Airtime { sub_band: "L", frames: 2, .. })));
}

#[test]
fn a_removed_device_is_forgotten() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.command(Command::RemoveDevice(DEV));
    world.send(&session.plain());
    assert!(matches!(world.refusals()[0].reason, Refusal::UnknownDevAddr { dev_addr: DevAddr(_) }));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    /// Whatever is heard, no counter is accepted twice and none goes down.
    #[test]
    fn counters_only_rise(steps in proptest::collection::vec((0u32..40, any::<bool>(), 0i64..3_000_000), 1..40)) {
        let mut world = World::new();
        let mut session = world.join(1);
        for (counter, confirmed, wait) in steps {
            session.up = counter;
            let frame = session.uplink(&[counter as u8], UplinkFlags::default(), confirmed);
            world.send(&frame);
            world.pass(wait);
        }
        let accepted: Vec<_> = world.uplinks().iter().map(|u| u.counter).collect();
        prop_assert!(accepted.windows(2).all(|w| w[0] < w[1]), "{accepted:?}");
        let mut downs: Vec<_> = world.changes().filter_map(|c| match c {
            Change::Counters { counters, .. } => Some(counters.next_down),
            _ => None,
        }).collect();
        downs.dedup();
        prop_assert!(downs.windows(2).all(|w| w[0] + 1 == w[1]), "{downs:?}");
    }

    /// Arbitrary bytes from a registered gateway never stop the engine.
    #[test]
    fn any_bytes_are_survived(frames in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..60), 1..20)) {
        let mut world = World::new();
        let mut session = world.join(1);
        for frame in frames {
            world.send(&frame);
        }
        world.effects.clear();
        world.send(&session.plain());
        prop_assert_eq!(world.uplinks().len(), 1);
    }
}

//! The clock is set while things are under way.

use engine::*;
use lorawan::wire::UplinkFlags;

use crate::world::*;

const HOUR: i64 = 3_600 * SECOND;

/// Sets the clock, for engine and world alike.
fn set(world: &mut World, by_us: i64) {
    world.now = world.now.plus_us(by_us);
    world.command(Command::ClockStepped { by_us });
}

#[test]
fn what_was_heard_before_the_clock_was_set_is_answered_after_the_same_time() {
    for by_us in [HOUR, -HOUR, 60 * 24 * HOUR, -60 * 24 * HOUR] {
        let mut world = World::new();
        let mut joined = world.join(1);
        world.pass(10 * SECOND);
        world.effects.clear();
        let frame = joined.uplink(&[1], UplinkFlags::default(), true);
        world.hear(&frame, NEAR, 8.0);
        world.pass(SECOND / 10);
        set(&mut world, by_us);
        assert!(world.transmissions().is_empty(), "{by_us}: it is still collected");
        let deadline = world.engine.next_deadline().unwrap();
        assert!((0..=SECOND / 10).contains(&deadline.since(world.now)), "{by_us}: {}", deadline.since(world.now));
        world.pass(SECOND / 5);
        let sent = world.transmissions();
        assert_eq!(sent.len(), 1, "{by_us}");
        let ahead = sent[0].at.since(world.now);
        assert!((0..SECOND).contains(&ahead), "{by_us}: in its window, {ahead} us ahead");
        // No report comes; that is found out when it would have been.
        world.pass(5 * SECOND);
        assert!(world.engine.next_deadline().is_none_or(|at| at.since(world.now) < 24 * HOUR), "{by_us}");
    }
}

#[test]
fn airtime_that_was_used_still_counts_after_the_clock_was_set() {
    for by_us in [2 * HOUR, -2 * HOUR, -90 * SECOND] {
        let mut world = World::new();
        world.join(1);
        world.pass(6 * SECOND);
        let used = |world: &World| {
            let status = world.engine.gateway_status(NEAR, world.now).unwrap();
            status.airtime.iter().map(|band| band.airtime_us).sum::<u64>()
        };
        let before = used(&world);
        assert!(before > 0);
        world.effects.clear();
        set(&mut world, by_us);
        assert_eq!(used(&world), before, "{by_us}");
        // And is durable under its new minutes.
        let kept = world.effects.iter().any(|effect| {
            matches!(effect, Effect::Persist(Change::Airtime { transmitter: Transmitter::Gateway(NEAR), minute, .. })
                if (world.now.minute() - minute).abs() < 60)
        });
        assert!(kept, "{by_us}: {:?}", world.effects);
    }
}

#[test]
fn frames_that_no_engine_was_handed_count_whatever_their_time() {
    let mut world = World::new();
    let mut joined = world.join(1);
    world.pass(10 * SECOND);
    let (handed, new) = (joined.plain(), joined.plain());
    world.effects.clear();
    // An engine before this one has come further than this one's clock shows.
    world.command(Command::ProcessedUntil(world.now.plus_us(2 * HOUR)));
    world.hear(&handed, NEAR, 8.0);
    world.command(Command::FramesAreNew);
    world.hear(&new, NEAR, 8.0);
    world.pass(SECOND);
    let uplinks: Vec<u32> = world
        .effects
        .iter()
        .filter_map(|effect| match effect {
            Effect::Publish(Event::Uplink(uplink)) => Some(uplink.counter),
            _ => None,
        })
        .collect();
    assert_eq!(uplinks, [joined.up - 1], "the first was done with by the one before");
}

#[test]
fn a_quarantined_device_is_refused_until_it_is_registered_again() {
    let mut world = World::new();
    let mut joined = world.join(1);
    world.pass(10 * SECOND);
    world.command(Command::Quarantine(DEV));
    world.effects.clear();
    let frame = joined.uplink(&[1], UplinkFlags::default(), true);
    world.send(&frame);
    world.pass(5 * SECOND);
    let persisted = world.effects.iter().filter(|effect| matches!(effect, Effect::Persist(_))).count();
    assert_eq!((persisted, world.transmissions().len()), (0, 0), "nothing is done for it: {:?}", world.effects);
    let refused = world.effects.iter().any(|effect| {
        matches!(effect, Effect::Publish(Event::Refused(refused)) if matches!(refused.reason, Refusal::Quarantined { .. }))
    });
    assert!(refused);
}

//! In which order frames go on air: one at a time to a device, one at a time by a gateway, and none that a later counter
//! has overtaken.

use std::collections::BTreeMap;

use engine::*;
use lorawan::region::Region;
use lorawan::wire::{DataView, UplinkFlags};
use lorawan::{DevAddr, Eui64};
use proptest::prelude::*;
use simulator::device::{Build, Listens};

use crate::field::{Field, HOUR, MINUTE, SECOND};
use crate::multicast;
use crate::world::{DEV, FAR, Joined, NEAR, World, device_with, item, quiet};

/// A class C device that has joined, been heard, and waits 5 s for its first window.
fn always_listening() -> (World, Joined) {
    let mut world = World::new();
    world.profile(RadioProfile { class: Class::C, rx_delay_s: 5, ..quiet(Region::Eu868) });
    let mut session = world.join(1);
    world.send(&session.plain());
    world.pass(10 * SECOND);
    world.effects.clear();
    (world, session)
}

fn counter(transmission: &Transmission) -> u16 {
    DataView::new_checked(&transmission.phy_payload).unwrap().counter_low()
}

#[test]
fn a_command_does_not_overtake_an_acknowledgement_that_waits_for_its_window() {
    let (mut world, mut session) = always_listening();
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    let answer = world.transmission();
    world.report(answer.id, Ok(()));
    // Taken by the gateway, and not on air before five seconds have passed.
    world.command(Command::Enqueue { dev_eui: DEV, item: item(1, &[9], false) });
    world.pass(4 * SECOND);
    assert_eq!(world.transmissions().len(), 1, "the answer alone");
    world.pass(4 * SECOND);
    let [answer, command] = &world.transmissions()[..] else { panic!("{:#?}", world.effects) };
    assert!(command.at >= answer.at.plus_us(answer.airtime_us as i64), "{answer:#?} {command:#?}");
    assert!(counter(command) > counter(answer));
}

#[test]
fn an_answer_follows_a_command_that_is_on_air() {
    let (mut world, mut session) = always_listening();
    world.profile(RadioProfile { class: Class::C, ..quiet(Region::Eu868) });
    // At SF12 it takes two seconds, and both gateways are free for the answer's first window.
    world.command(Command::Enqueue { dev_eui: DEV, item: item(1, &[9; 40], false) });
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    let told = world
        .stages()
        .into_iter()
        .any(|stage| matches!(stage, DownlinkStage::Failed(why) if why.contains("under way")));
    let all = world.transmissions();
    assert!(told || all.len() == 2, "{:#?}", world.effects);
    for pair in all.windows(2) {
        assert!(pair[1].at >= pair[0].at.plus_us(pair[0].airtime_us as i64), "{all:#?}");
    }
}

#[test]
fn what_two_gateways_could_send_at_once_goes_one_after_the_other() {
    let mut field = Field::new(&[(NEAR, Region::Eu868), (FAR, Region::Eu868)]);
    let build = Build { listens: Listens::Always, ..Build::plain(Region::Eu868, 5) };
    let profile = RadioProfile { class: Class::C, ..quiet(Region::Eu868) };
    let node = field.add(build, profile, vec![(NEAR, 8.0), (FAR, 8.0)]);
    field.join(node);
    field.uplink(node, false);
    field.forget();
    for id in 1..=3 {
        field.enqueue(node, id, &[id as u8], false);
    }
    field.pass(20 * SECOND);
    let all = field.transmissions();
    assert_eq!(all.len(), 3, "{all:#?}");
    for pair in all.windows(2) {
        let ends = pair[0].at.plus_us(pair[0].airtime_us as i64 + AT_ONCE_LATEST_US);
        assert!(pair[1].at > ends, "sent at once, it may leave a little later than planned: {all:#?}");
        assert!(counter(pair[1]) > counter(pair[0]));
    }
    assert_eq!(field.got(node), [[1], [2], [3]]);
}

#[test]
fn a_frame_for_a_ping_slot_is_made_shortly_before_it() {
    let mut field = Field::new(&[]);
    let config = GatewayConfig { beacons: true, ..GatewayConfig::new(NEAR, Region::Eu868, 2.0) };
    field.gateway(config, true);
    let build = Build { listens: Listens::InPingSlots(7), ..Build::plain(Region::Eu868, 5) };
    let profile = RadioProfile { class: Class::B, ..quiet(Region::Eu868) };
    let node = field.add(build, profile, vec![(NEAR, 8.0)]);
    field.join(node);
    field.uplink(node, false);
    field.pass(5 * MINUTE);
    field.uplink(node, false);
    assert_eq!(field.status(node).class, Class::B);
    field.forget();
    field.enqueue(node, 1, b"slot", false);
    let (slot, _) = field.status(node).ping_slots.unwrap();
    let slot = if slot.since(field.now) > 1_000_000 { slot } else { slot.plus_us(128 * SECOND) };
    field.run_until(slot.plus_us(-1_100_000));
    assert_eq!(field.transmissions().iter().filter(|t| t.window == Window::PingSlot).count(), 0);
    // An answer that is due meanwhile goes first, with the lower counter.
    field.run_until(slot.plus_us(SECOND));
    let sent: Vec<_> = field.transmissions().into_iter().filter(|t| t.window == Window::PingSlot).collect();
    assert_eq!(sent.iter().map(|t| t.at).collect::<Vec<_>>(), [slot]);
    assert_eq!(field.got(node), [b"slot"]);
}

/// One thing that happens to one of several devices.
#[derive(Debug, Clone)]
enum Step {
    Uplink {
        node: usize,
        confirmed: bool,
    },
    Enqueue {
        node: usize,
        len: usize,
        confirmed: bool,
    },
    /// To the group of the two that always listen.
    Group {
        len: usize,
    },
    Pass {
        ms: i64,
    },
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => (0usize..4, any::<bool>()).prop_map(|(node, confirmed)| Step::Uplink { node, confirmed }),
        4 => (0usize..4, 0usize..50, any::<bool>()).prop_map(|(node, len, confirmed)| Step::Enqueue { node, len, confirmed }),
        2 => (0usize..40).prop_map(|len| Step::Group { len }),
        3 => (0i64..9_000).prop_map(|ms| Step::Pass { ms }),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn nothing_overlaps_and_nothing_overtakes(steps in proptest::collection::vec(step(), 1..40)) {
        let mut field = Field::new(&[]);
        for eui in [NEAR, FAR] {
            field.gateway(GatewayConfig { beacons: true, ..GatewayConfig::new(eui, Region::Us915, 2.0) }, true);
        }
        // Each gateway hears one of the group alone, so that both have to send to it.
        let heard = |n| match n {
            1 => vec![(NEAR, 8.0)],
            2 => vec![(FAR, 7.5)],
            _ => vec![(NEAR, 8.0), (FAR, 7.5)],
        };
        for (n, listens) in (0..).zip([Listens::AfterUplinks, Listens::Always, Listens::Always, Listens::InPingSlots(3)]) {
            let class = match listens {
                Listens::AfterUplinks => Class::A,
                Listens::Always => Class::C,
                Listens::InPingSlots(_) => Class::B,
            };
            let build = Build { listens, ..Build::plain(Region::Us915, 3) };
            let profile = RadioProfile { class, rx_delay_s: 3, ack_timeout_s: 4, ..quiet(Region::Us915) };
            let node = field.add(build, profile, heard(n));
            field.join(node);
            field.uplink(node, false);
        }
        let members = [field.nodes[1].dev_eui, field.nodes[2].dev_eui];
        multicast::put(&mut field, multicast::config(Class::C, Region::Us915, &members));
        field.pass(3 * MINUTE);
        field.uplink(3, false);
        let mut id = 0;
        for step in steps {
            match step {
                Step::Uplink { node, confirmed } => field.uplink(node, confirmed),
                Step::Enqueue { node, len, confirmed } => {
                    id += 1;
                    field.enqueue(node, id, &vec![7; len], confirmed);
                }
                Step::Group { len } => {
                    id += 1;
                    multicast::send(&mut field, id, &vec![7; len]);
                }
                Step::Pass { ms } => field.pass(ms * 1000),
            }
        }
        field.pass(5 * MINUTE);
        prop_assert_eq!(check_air(&field), Ok(()));
    }
}

/// What a gateway sends never overlaps, wherever an immediate frame falls in its leeway; what goes to a device never does
/// either, and its counters rise.
pub(crate) fn check_air(field: &Field) -> Result<(), String> {
    let mut by_gateway: BTreeMap<Eui64, Vec<(Timestamp, Timestamp)>> = BTreeMap::new();
    let mut by_device: BTreeMap<Eui64, Vec<(Timestamp, Timestamp)>> = BTreeMap::new();
    let mut by_counter: BTreeMap<(DevAddr, bool), Vec<(Timestamp, u16)>> = BTreeMap::new();
    for sent in field.transmissions() {
        let ends = sent.at.plus_us(sent.airtime_us as i64);
        let (from, to) = match sent.when {
            When::AtOnce => (sent.at.plus_us(-60_000), ends.plus_us(AT_ONCE_LATEST_US)),
            _ => (sent.at, ends),
        };
        by_gateway.entry(sent.gateway).or_default().push((from, to));
        let Some(device) = sent.towards else { continue };
        by_device.entry(device).or_default().push((sent.at, ends));
        let Ok(view) = DataView::new_checked(&sent.phy_payload) else { continue };
        let session = field.engine.device_status(device, field.now).and_then(|status| status.session);
        // 1.1 counts what carries a payload apart.
        let apart = session.is_some_and(|session| session.speaks_1_1) && view.fport().is_some_and(|port| port > 0);
        by_counter.entry((view.dev_addr(), apart)).or_default().push((sent.at, view.counter_low()));
    }
    for (whose, times) in by_gateway.iter_mut().chain(&mut by_device) {
        times.sort_unstable();
        if let Some(pair) = times.windows(2).find(|pair| pair[0].1 > pair[1].0) {
            return Err(format!("two frames of, or for, {whose} at once: {pair:?}"));
        }
    }
    for ((dev_addr, _), counters) in &mut by_counter {
        counters.sort_unstable();
        // Tried again in another window, it is the same frame.
        if let Some(pair) = counters.windows(2).find(|pair| pair[0].1 > pair[1].1) {
            return Err(format!("{dev_addr} gets {} after {}", pair[1].1, pair[0].1));
        }
    }
    Ok(())
}

#[test]
fn a_gateway_that_is_busy_is_told_apart_from_one_that_is_too_far() {
    let mut world = World::empty(7);
    world.command(Command::PutGateway(GatewayConfig::new(NEAR, Region::Eu868, 2.0)));
    world.command(Command::PutDevice(Box::new(device_with(DEV, quiet(Region::Eu868)))));
    let mut session = world.join(1);
    world.hear(&session.uplink(&[1], UplinkFlags::default(), true), NEAR, 5.0);
    // So late that both windows are over.
    world.now = world.now.plus_us(HOUR / 60);
    world.pass(SECOND);
    let [DownlinkStage::Failed(why)] = world.stages()[..] else { panic!("{:?}", world.effects) };
    assert!(why.contains("too late") && !why.contains("busy"), "{why}");
}

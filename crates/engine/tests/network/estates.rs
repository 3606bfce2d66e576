//! Two estates on one air: each is served by its own gateways, and by those that are open.

use engine::*;
use lorawan::Eui64;
use lorawan::region::Region;
use lorawan::wire::{JoinAccept, UplinkFlags};

use crate::world::*;

/// The other estate's gateway, near as well.
const THEIRS: Eui64 = Eui64(0x02a1_0000_0000_00ff);

/// Ours is estate 0, with [`NEAR`] and [`FAR`]; theirs is 1.
fn world(open: bool) -> World {
    let mut world = World::new();
    let theirs = GatewayConfig { estate: 1, open, ..GatewayConfig::new(THEIRS, Region::Eu868, 2.0) };
    world.command(Command::PutGateway(theirs));
    world
}

fn discarded(world: &World) -> usize {
    world.events().map(|event| if let Event::Discarded { copies } = event { *copies } else { 0 }).sum()
}

fn hear_by(world: &mut World, phy_payload: &[u8], gateways: &[Eui64]) {
    for gateway in gateways {
        world.hear(phy_payload, *gateway, 5.0);
    }
    world.pass(SECOND / 5);
}

#[test]
fn a_copy_of_anothers_gateway_is_discarded_and_counted() {
    let mut world = world(false);
    let mut session = world.join(1);
    world.effects.clear();
    hear_by(&mut world, &session.plain(), &[THEIRS, NEAR]);
    let [uplink] = world.uplinks()[..] else { panic!("{:?}", world.effects) };
    assert_eq!(uplink.frame.heard_by.iter().map(|copy| copy.gateway).collect::<Vec<_>>(), [NEAR]);
    assert_eq!(discarded(&world), 1);
}

#[test]
fn a_frame_that_only_others_hear_is_not_told_to_anybody() {
    let mut world = world(false);
    let mut session = world.join(1);
    world.effects.clear();
    hear_by(&mut world, &session.plain(), &[THEIRS]);
    assert_eq!((world.uplinks().len(), world.refusals().len(), discarded(&world)), (0, 0, 1), "{:?}", world.effects);
    // The counter has not moved: the same frame is taken when one's own gateway hears it.
    world.pass(3 * SECOND);
    let again = session.plain();
    hear_by(&mut world, &again, &[FAR]);
    assert_eq!(world.uplinks().len(), 1);
}

#[test]
fn a_gateway_that_is_open_serves_both_ways() {
    let mut world = world(true);
    let mut session = world.join(1);
    world.effects.clear();
    hear_by(&mut world, &session.uplink(&[1], UplinkFlags::default(), true), &[THEIRS]);
    assert_eq!((world.uplinks().len(), discarded(&world)), (1, 0));
    assert_eq!(world.transmissions().iter().map(|sent| sent.gateway).collect::<Vec<_>>(), [THEIRS]);
}

#[test]
fn a_join_is_answered_by_gateways_of_the_devices_estate_alone() {
    let mut world = world(false);
    let request = World::join_request(1);
    hear_by(&mut world, &request, &[THEIRS]);
    assert_eq!((world.transmissions().len(), world.refusals().len(), discarded(&world)), (0, 0, 1));
    world.pass(3 * SECOND);
    let request = World::join_request(2);
    hear_by(&mut world, &request, &[THEIRS, FAR]);
    assert_eq!(world.transmissions().iter().map(|sent| sent.gateway).collect::<Vec<_>>(), [FAR]);
}

#[test]
fn a_stranger_is_told_to_each_estate_by_what_its_own_gateways_heard() {
    let mut world = world(false);
    let mut stranger = world.join(1);
    world.command(Command::RemoveDevice(DEV));
    world.effects.clear();
    hear_by(&mut world, &stranger.plain(), &[THEIRS, NEAR, FAR]);
    let mut heard: Vec<Vec<Eui64>> = world
        .refusals()
        .iter()
        .map(|refused| refused.frame.heard_by.iter().map(|copy| copy.gateway).collect())
        .collect();
    heard.sort();
    assert_eq!(heard.len(), 2);
    assert!(
        heard.contains(&vec![THEIRS]) && heard.iter().any(|one| one.len() == 2 && !one.contains(&THEIRS)),
        "{heard:?}"
    );
}

#[test]
fn a_gateway_that_is_open_no_more_is_not_used_for_what_it_once_heard() {
    let mut world = World::empty(7);
    let theirs = GatewayConfig { estate: 1, open: true, ..GatewayConfig::new(THEIRS, Region::Eu868, 2.0) };
    world.command(Command::PutGateway(theirs.clone()));
    let profile = RadioProfile { class: Class::C, ..quiet(Region::Eu868) };
    world.command(Command::PutDevice(Box::new(device_with(DEV, profile))));
    let request = World::join_request(1);
    hear_by(&mut world, &request, &[THEIRS]);
    let accept = JoinAccept::open(&world.transmission().phy_payload, &KEY).unwrap();
    let mut session = Joined::from_accept(&accept, 1);
    world.pass(6 * SECOND);
    hear_by(&mut world, &session.plain(), &[THEIRS]);
    world.command(Command::PutGateway(GatewayConfig { open: false, ..theirs }));
    world.effects.clear();
    world.command(Command::Enqueue { dev_eui: DEV, item: item(1, &[1], false) });
    world.pass(2 * SECOND);
    assert_eq!(world.transmissions(), [], "it hears the device, and is not for it");
}

//! One downlink for many devices.

use engine::*;
use lorawan::crypto::SessionKeys;
use lorawan::region::Region;
use lorawan::{AesKey, DevAddr, Eui64};
use simulator::device::{Build, Group, Listens};

use crate::field::*;
use crate::world::item;

const HILL: Eui64 = Eui64(0x0210_0000_0000_0001);
const QUAY: Eui64 = Eui64(0x0210_0000_0000_0002);
const SPIT: Eui64 = Eui64(0x0210_0000_0000_0003);
const GATES: Eui64 = Eui64(0x0600_0000_0000_0001);
const ADDRESS: DevAddr = DevAddr(0x0077_6655);
const KEYS: SessionKeys = SessionKeys { nwk_s_key: AesKey([8; 16]), app_s_key: AesKey([9; 16]) };

pub(crate) fn config(class: Class, region: Region, members: &[Eui64]) -> GroupConfig {
    let plan = region.plan();
    let (frequency_hz, data_rate) = match class {
        Class::B => (plan.class_b.ping_slot.hz(0), plan.class_b.ping_slot.min_data_rate),
        _ => (plan.rx2_frequency_hz, plan.rx2_data_rate),
    };
    let (members, ping_periodicity) = (members.to_vec(), 2);
    let (group, address, keys) = (GATES, ADDRESS, KEYS);
    GroupConfig { group, address, keys, region, class, frequency_hz, data_rate, ping_periodicity, members }
}

pub(crate) fn put(field: &mut Field, config: GroupConfig) {
    field.command(Command::PutGroup { config: Box::new(config), next_down: 0, outbox: Vec::new() });
}

pub(crate) fn send(field: &mut Field, id: u128, payload: &[u8]) {
    field.command(Command::Enqueue { dev_eui: GATES, item: item(id, payload, false) });
}

/// Devices of a class, heard by these gateways, joined and members of the group.
fn members(field: &mut Field, class: Class, region: Region, heard: &[&[Eui64]]) -> Vec<Eui64> {
    let (listens, periodicity) = match class {
        Class::B => (Listens::InPingSlots(3), Some(2)),
        _ => (Listens::Always, None),
    };
    let wanted = config(class, region, &[]);
    for gateways in heard {
        let built = Build { listens, ..Build::plain(region, 3) };
        let profile = RadioProfile { class, rates: Rates::Device, status_every_s: 0, ..RadioProfile::of(region) };
        let node = field.add(built, profile, gateways.iter().map(|g| (*g, 6.0)).collect());
        field.join(node);
        field.uplinks(node, 2);
        let mut group = Group::new(ADDRESS, KEYS, wanted.frequency_hz, wanted.data_rate);
        group.ping_periodicity = periodicity;
        field.nodes[node].device.enter(group);
    }
    field.nodes.iter().map(|node| node.dev_eui).collect()
}

#[test]
fn class_c_members_are_reached_by_the_fewest_gateways_one_after_another() {
    let region = Region::Eu868;
    let mut field = Field::new(&[(HILL, region), (QUAY, region), (SPIT, region)]);
    let all = members(&mut field, Class::C, region, &[&[HILL], &[HILL, QUAY], &[QUAY, SPIT], &[SPIT]]);
    put(&mut field, config(Class::C, region, &all));
    let status = field.engine.group_status(GATES).unwrap();
    assert_eq!((status.gateways, status.unreached), (vec![HILL, SPIT], vec![]), "the third is not needed");
    field.forget();
    send(&mut field, 1, &[1]);
    send(&mut field, 2, &[2]);
    field.pass(MINUTE);
    for node in 0..all.len() {
        assert_eq!(field.got(node), [[1], [2]], "member {node}: {:#?}", field.outbox_states());
    }
    let mut sent: Vec<_> = field.transmissions().iter().map(|t| (t.at, t.airtime_us, t.gateway)).collect();
    sent.sort_unstable();
    assert_eq!(sent.iter().map(|s| s.2).collect::<Vec<_>>(), [HILL, SPIT, HILL, SPIT]);
    assert!(sent.windows(2).all(|w| w[1].0.since(w[0].0) >= w[0].1 as i64), "members that hear two hear one at a time");
    assert_eq!(field.engine.group_status(GATES).unwrap().next_down, 2);
    // The counter is durable before the frame leaves.
    let place = |wanted: fn(&Effect) -> bool| field.effects.iter().position(wanted).unwrap();
    let stored = place(|e| matches!(e, Effect::Persist(Change::GroupCounter { next_down: 1, .. })));
    assert!(stored < place(|e| matches!(e, Effect::Transmit(_))));
}

#[test]
fn class_b_members_are_reached_in_the_groups_own_slots() {
    for region in [Region::Eu868, Region::As923_1] {
        let mut field = Field::new(&[]);
        for eui in [HILL, QUAY] {
            field.gateway(GatewayConfig { beacons: true, ..GatewayConfig::new(eui, region, 2.0) }, true);
        }
        let all = members(&mut field, Class::B, region, &[&[HILL], &[QUAY], &[HILL, QUAY]]);
        field.pass(3 * MINUTE);
        for node in 0..all.len() {
            field.uplink(node, false);
        }
        put(&mut field, config(Class::B, region, &all));
        send(&mut field, 1, &[7]);
        field.pass(MINUTE);
        for node in 0..all.len() {
            assert_eq!(field.got(node), [[7]], "{region}, member {node}: {:#?}", field.outbox_states());
        }
        let in_slot = |t: &&Transmission| t.window == Window::PingSlot;
        let slots: Vec<_> = field.transmissions().into_iter().filter(in_slot).map(|t| t.at).collect();
        assert!(slots.len() == 2 && slots[0] < slots[1], "each gateway in a slot of its own");
    }
}

#[test]
fn members_out_of_reach_are_named_and_a_gateway_that_fails_is_tried_again() {
    let region = Region::Eu868;
    let mut field = Field::new(&[(HILL, region), (QUAY, region)]);
    let mut all = members(&mut field, Class::C, region, &[&[HILL, QUAY]]);
    all.push(Eui64(0x02bb_0000_0000_0999));
    put(&mut field, config(Class::C, region, &all));
    field.forget();
    field.failures = vec![TxFailure::Unreachable];
    send(&mut field, 1, &[1]);
    assert!(matches!(field.notices()[..], [Notice::MembersUnreached { of: 2, .. }]), "{:#?}", field.notices());
    field.pass(5 * MINUTE);
    assert_eq!(field.got(0), [[1]], "tried again: {:#?}", field.outbox_states());
    assert!(field.outbox_states().contains(&&OutboxState::Sent));
}

#[test]
fn a_group_whose_gateways_are_away_waits_and_says_so_once() {
    let region = Region::Eu868;
    let mut field = Field::new(&[(HILL, region)]);
    let mut all = members(&mut field, Class::C, region, &[&[HILL]]);
    all.push(Eui64(0x02bb_0000_0000_0999));
    put(&mut field, config(Class::C, region, &all));
    field.forget();
    field.failures = vec![TxFailure::Unreachable; 6];
    send(&mut field, 1, &[1]);
    let returned = |field: &Field| {
        let returned = |effect: &&Effect| match effect {
            Effect::Publish(Event::Downlink(downlink)) => matches!(downlink.stage, DownlinkStage::Returned(_)),
            _ => false,
        };
        field.effects.iter().filter(returned).count()
    };
    let first = returned(&field);
    assert!(first > 0);
    send(&mut field, 2, &[2]);
    field.pass(30 * SECOND);
    assert_eq!((field.got(0), returned(&field), field.noticed("members_unreached")), (vec![], first, 1));
    assert_eq!(field.transmissions().len(), 5, "one more downlink makes no more tries");
    field.pass(4 * MINUTE);
    assert_eq!(field.got(0), [[1], [2]], "none is given up: {:#?}", field.outbox_states());
}

#[test]
fn a_group_waits_for_airtime_and_says_until_when() {
    let region = Region::Eu868;
    let mut field = Field::new(&[(HILL, region)]);
    let all = members(&mut field, Class::C, region, &[&[HILL]]);
    put(&mut field, config(Class::C, region, &all));
    let used = Used { airtime_us: 359_900_000, frames: 300 };
    let (transmitter, minute) = (Transmitter::Gateway(HILL), field.now.minute() - 10);
    field.command(Command::RestoreAirtime { transmitter, sub_band: "P".into(), minute, used });
    send(&mut field, 1, &[1]);
    let last = field.outbox_states().last().copied().cloned();
    let Some(OutboxState::Waiting(Wait::Airtime { sub_band: "P", until })) = last else { panic!("{last:?}") };
    assert_eq!(field.got(0), Vec::<Vec<u8>>::new());
    field.run_until(until.plus_us(10 * SECOND));
    assert_eq!(field.got(0), [[1]]);
}

#[test]
fn a_removed_device_is_no_member_any_more() {
    let region = Region::Eu868;
    let mut field = Field::new(&[(HILL, region), (SPIT, region)]);
    let all = members(&mut field, Class::C, region, &[&[HILL], &[SPIT]]);
    put(&mut field, config(Class::C, region, &all));
    assert_eq!(field.engine.group_status(GATES).unwrap().gateways.len(), 2);
    field.command(Command::RemoveDevice(all[1]));
    let status = field.engine.group_status(GATES).unwrap();
    assert_eq!((status.gateways, status.unreached), (vec![HILL], vec![]), "it is not even missed");
}

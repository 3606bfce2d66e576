//! What goes wrong: gateways that fail, clocks that jump, floods, limits reached, frames heard again.

use std::sync::Arc;

use engine::*;
use lorawan::region::Region;
use lorawan::wire::UplinkFlags;
use lorawan::{DevAddr, Eui64};
use simulator::device::{Build, Listens};

use crate::field::{Field, MINUTE};
use crate::world::*;

const HOUR: i64 = 3600 * SECOND;

/// Class C, so that downlinks go without waiting for an uplink.
fn always_listening(gateways: &[(Eui64, f32)]) -> (Field, usize) {
    let all: Vec<_> = gateways.iter().map(|(eui, _)| (*eui, Region::Eu868)).collect();
    let mut field = Field::new(&all);
    let built = Build { listens: Listens::Always, ..Build::plain(Region::Eu868, 5) };
    let profile = RadioProfile { class: Class::C, ..quiet(Region::Eu868) };
    let node = field.add(built, profile, gateways.to_vec());
    field.join(node);
    field.uplinks(node, 2);
    field.forget();
    (field, node)
}

#[test]
fn every_reason_leads_to_the_next_gateway() {
    for why in [
        TxFailure::TooLate,
        TxFailure::NotHandedOver,
        TxFailure::TooEarly,
        TxFailure::CollisionPacket,
        TxFailure::CollisionBeacon,
        TxFailure::Frequency,
        TxFailure::Power,
        TxFailure::GpsUnlocked,
        TxFailure::Refused("BUSY".into()),
        TxFailure::Unreachable,
    ] {
        let (mut field, node) = always_listening(&[(NEAR, 9.0), (FAR, 1.0)]);
        field.failures = vec![why.clone()];
        field.enqueue(node, 1, &[1], false);
        field.pass(SECOND);
        let by: Vec<_> = field.transmissions().iter().map(|t| t.gateway).collect();
        assert_eq!(by, [NEAR, FAR], "{why:?}");
        assert_eq!(field.got(node), [[1]], "{why:?}");
        let cannot = matches!(why, TxFailure::Frequency | TxFailure::Power);
        assert_eq!(field.noticed("gateway_cannot"), usize::from(cannot), "{why:?}");
        let used: u32 = field.engine.gateway_status(NEAR, field.now).unwrap().airtime.iter().map(|b| b.frames).sum();
        assert!(used <= 1, "{why:?}: what was not sent is not on the account");
    }
}

#[test]
fn a_gateway_that_cannot_send_on_a_frequency_is_not_asked_again_for_an_hour() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0), (FAR, 1.0)]);
    field.failures = vec![TxFailure::Frequency];
    for id in 0..3 {
        field.enqueue(node, id, &[id as u8], false);
        field.pass(10 * SECOND);
    }
    let by: Vec<_> = field.transmissions().iter().map(|t| t.gateway).collect();
    assert_eq!(by, [NEAR, FAR, FAR, FAR]);
    field.pass(HOUR);
    field.enqueue(node, 9, &[9], false);
    field.pass(10 * SECOND);
    assert_eq!(field.transmissions().last().unwrap().gateway, NEAR);
}

#[test]
fn when_all_fail_the_downlink_goes_back_with_the_reason_and_is_tried_again() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0), (FAR, 1.0)]);
    field.failures = vec![TxFailure::CollisionPacket, TxFailure::CollisionBeacon];
    field.enqueue(node, 1, &[1], false);
    let [.., OutboxState::Waiting(wait)] = field.outbox_states()[..] else { panic!("{:#?}", field.outbox_states()) };
    assert!(wait.to_string().contains("sends a beacon") && wait.to_string().contains("tried again soon"), "{wait}");
    field.pass(5 * SECOND);
    assert_eq!(field.got(node), [[1]]);
}

#[test]
fn what_the_service_did_not_hand_over_is_no_attempt() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0)]);
    field.failures = vec![TxFailure::NotHandedOver; 8];
    field.enqueue(node, 1, &[1], false);
    field.pass(5 * MINUTE);
    assert_eq!(field.got(node), [[1]], "it is not given up: {:#?}", field.outbox_states());
    assert!(field.outbox_states().contains(&&OutboxState::Sent));
}

#[test]
fn a_gateway_that_is_away_costs_a_class_a_device_no_attempt() {
    let mut field = Field::new(&[(NEAR, Region::Eu868)]);
    let node = field.add(Build::plain(Region::Eu868, 5), quiet(Region::Eu868), vec![(NEAR, 9.0)]);
    field.join(node);
    field.failures = vec![TxFailure::Unreachable; 10];
    field.enqueue(node, 1, &[1], false);
    field.uplinks(node, 5);
    assert_eq!(field.got(node), [[0; 0]; 0]);
    field.uplinks(node, 1);
    assert_eq!(field.got(node), [[1]], "it is not given up: {:#?}", field.outbox_states());
}

#[test]
fn a_gateway_that_is_away_is_waited_for_and_told_once() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0)]);
    field.failures = vec![TxFailure::Unreachable; 8];
    field.enqueue(node, 1, &[1], false);
    field.pass(3 * MINUTE);
    assert_eq!(field.got(node), [[0; 0]; 0]);
    let returned = |effect: &&Effect| match effect {
        Effect::Publish(Event::Downlink(downlink)) => matches!(downlink.stage, DownlinkStage::Returned(_)),
        _ => false,
    };
    assert_eq!(field.effects.iter().filter(returned).count(), 1);
    field.pass(3 * MINUTE);
    assert_eq!(field.got(node), [[1]], "it is not given up: {:#?}", field.outbox_states());
}

#[test]
fn a_gateway_that_reports_nothing_may_have_sent() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[7], true);
    world.send(&session.plain());
    let sent = world.transmission();
    world.pass(10 * SECOND);
    assert_eq!(world.outbox_states().last(), Some(&&OutboxState::AwaitingAck(0)), "nobody knows");
    let told = world.notices().into_iter().find(|n| n.code() == "unreported").unwrap().clone();
    assert!(told.why(&|eui| format!("<{eui}>")).contains(&format!("<{}>", sent.gateway)), "{told:?}");
    let account = world.engine.gateway_status(sent.gateway, world.now).unwrap().airtime;
    assert!(account.iter().any(|band| band.sub_band.name == "M" && band.frames == 2), "with the join's: {account:?}");

    // The device knows.
    world.effects.clear();
    let acknowledged = session.uplink(&[1], UplinkFlags { ack: true, ..UplinkFlags::default() }, false);
    world.send(&acknowledged);
    assert_eq!(world.outbox_states().last(), Some(&&OutboxState::Acknowledged));
    assert_eq!(world.transmissions(), [], "and is not sent it twice");

    // Without a word from either it is sent again, under a new counter.
    world.enqueue(2, &[8], true);
    world.send(&session.plain());
    world.pass(10 * SECOND);
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(session.read(&world.transmission().phy_payload, 2).1, [8]);
}

#[test]
fn reports_for_frames_never_sent_change_nothing() {
    let mut world = World::new();
    world.effects.clear();
    for id in 0..50 {
        world.report(TransmissionId(id), if id % 2 == 0 { Ok(()) } else { Err(TxFailure::TooLate) });
    }
    assert_eq!(world.effects, []);
}

#[test]
fn ten_thousand_downlinks_leave_in_order_within_the_law() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0)]);
    for id in 0..10_000u128 {
        field.enqueue(node, id, &id.to_be_bytes()[14..], false);
    }
    field.pass(3 * HOUR);
    let got = field.got(node);
    assert!(got.len() > 500, "{}", got.len());
    assert!(got.windows(2).all(|w| w[0] < w[1]), "in order");
    let band = Region::Eu868.plan().sub_band(869_525_000).unwrap();
    let sent: Vec<_> = field.transmissions().iter().map(|t| (t.at, t.airtime_us)).collect();
    for (i, (at, _)) in sent.iter().enumerate() {
        let hour: u64 = sent[i..].iter().take_while(|(other, _)| other.since(*at) < HOUR).map(|(_, us)| us).sum();
        assert!(hour <= band.hourly_allowance_us(), "{hour} µs in the hour from {at}");
    }
    let waits = field.outbox_states().into_iter().rev().find_map(|s| match s {
        OutboxState::Waiting(wait @ Wait::Airtime { .. }) => Some(wait.clone()),
        _ => None,
    });
    let Some(Wait::Airtime { sub_band: "P", until }) = waits else { panic!("{waits:?}") };
    assert!(until > field.now && until.since(field.now) < HOUR, "it is said until when: {until}");
    field.run_until(until.plus_us(10 * SECOND));
    assert!(field.got(node).len() > got.len(), "and then it goes on");
}

#[test]
fn what_has_expired_is_given_up_even_if_nobody_looks() {
    let mut world = World::new();
    let expires_at = Some(world.now.plus_us(MINUTE));
    let soon = OutboxItem { expires_at, ..item(1, &[1], false) };
    world.command(Command::Enqueue { dev_eui: DEV, item: soon });
    world.effects.clear();
    world.pass(2 * MINUTE);
    let [OutboxState::Failed(why)] = world.outbox_states()[..] else { panic!("{:#?}", world.effects) };
    assert!(why.contains("its time ran out") && why.contains("join"), "{why}");
    assert!(matches!(world.stages()[..], [DownlinkStage::Failed(_)]));
}

#[test]
fn a_downlink_may_have_its_own_number_of_attempts() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0)]);
    field.nodes[node].deaf = true;
    let once = OutboxItem { max_attempts: Some(1), ..item(1, &[1], true) };
    field.command(Command::Enqueue { dev_eui: field.nodes[node].dev_eui, item: once });
    field.pass(MINUTE);
    let Some(OutboxState::Failed(why)) = field.outbox_states().last().copied() else { panic!("{:#?}", field.effects) };
    assert!(why.contains("after 1 attempt:"), "{why}");
}

#[test]
fn a_fleets_limits_hold_over_a_day() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0)]);
    let dev_eui = field.nodes[node].dev_eui;
    let policy = Policy { airtime_us: Some(400_000), downlinks: Some(3) };
    let profile = Arc::new(RadioProfile { class: Class::C, ..quiet(Region::Eu868) });
    let activation = Activation::OverTheAir(RootKeys { app_key: crate::field::APP_KEY, nwk_key: None });
    let config =
        DeviceConfig { dev_eui, join_eui: JOIN, activation, profile, policy, estate: 0, fleet: 1, disabled: false };
    field.command(Command::PutDevice(Box::new(config)));
    for id in 0..4 {
        field.enqueue(node, id, &[id as u8], false);
        field.pass(MINUTE);
    }
    let sent = field.got(node).len();
    assert!(sent < 4, "the join-accept counts as well");
    let held = field.outbox_states().into_iter().rev().find_map(|state| match state {
        OutboxState::Waiting(Wait::Policy { limit: 3, until }) => Some(*until),
        _ => None,
    });
    let until = held.unwrap_or_else(|| panic!("{:#?}", field.outbox_states()));
    field.uplinks(node, 20);
    assert_eq!(field.noticed("over_policy"), 1, "told once a day");
    field.run_until(until.plus_us(MINUTE));
    assert!(field.got(node).len() > sent, "a day later it goes on");
}

#[test]
fn a_device_that_talks_too_much_is_told_what_fits() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.sf = 12;
    for _ in 0..40 {
        world.send(&session.uplink(&[0; 20], UplinkFlags::default(), false));
        world.pass(20 * SECOND);
    }
    let over: Vec<_> = world.notices().into_iter().filter(|n| n.code() == "over_duty_cycle").collect();
    let [notice @ Notice::OverDutyCycle { sub_band: "M", frames, frame_us, allowed_us: 36_000_000, fits, .. }] =
        over[..]
    else {
        panic!("{over:#?}")
    };
    assert!(u64::from(*frames) * frame_us > 35_000_000);
    assert_eq!(fits.unwrap().0, 1, "SF11 takes half as long: {fits:?}");
    assert!(notice.next_step().contains("DR1 or faster") && notice.next_step().contains("no more often than every"));
}

#[test]
fn a_late_copy_counts_as_coverage() {
    let mut world = World::new();
    let mut session = world.join(1);
    let frame = session.plain();
    world.hear(&frame, NEAR, 5.0);
    world.pass(SECOND / 2);
    world.hear(&frame, FAR, 2.0);
    let late = world.notices().into_iter().find(|n| n.code() == "late_copy");
    let Some(Notice::LateCopy { gateway: FAR, late_us: 500_000, snr_db }) = late else { panic!("{late:?}") };
    assert_eq!(*snr_db, Some(2.0));
    assert_eq!(world.uplinks().len(), 1);
}

#[test]
fn a_repetition_is_told_from_a_replay() {
    let mut world = World::new();
    let mut session = world.join(1);
    let frame = session.plain();
    world.send(&frame);
    world.pass(4 * SECOND);
    world.send(&frame);
    let [Notice::Repeated { counter: 0, times: 2, nb_trans: 1 }] = world.notices()[1..] else {
        panic!("{:?}", world.notices())
    };
    world.pass(10 * MINUTE);
    world.effects.clear();
    world.send(&frame);
    let [Refusal::Replayed { counter: 0, times: 3, after_s }] =
        world.refusals().iter().map(|r| &r.reason).collect::<Vec<_>>()[..]
    else {
        panic!("{:?}", world.refusals())
    };
    assert!((600..610).contains(after_s));
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.uplinks().len(), 1, "the device itself goes on");
}

#[test]
fn a_join_flood_leaves_the_session_alone() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.plain());
    for nonce in 2..400 {
        world.hear(&World::join_request(nonce), NEAR, 5.0);
        world.pass(SECOND / 20);
    }
    world.pass(20 * SECOND);
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.uplinks().len(), 1, "nobody has used the sessions that were offered");
    let airtime = world.engine.gateway_status(NEAR, world.now).unwrap().airtime;
    assert!(airtime.iter().all(|b| b.airtime_us <= b.sub_band.hourly_allowance_us()), "{airtime:?}");
    assert_eq!(world.engine.devices_at(session.dev_addr), [DEV]);
}

#[test]
fn a_gateways_clock_may_jump_wrap_and_run_fast() {
    let mut world = World::new();
    let mut session = world.join(1);
    for clock_us in [0, u32::MAX, u32::MAX - 999_999, 12, 4_000_000_000, 7] {
        let frame = session.uplink(&[1], UplinkFlags::default(), true);
        world.effects.clear();
        let reception = Reception { clock_us, ..world.reception(NEAR, 5.0) };
        world.engine.handle(
            world.now,
            Input::FrameHeard(FrameHeard { phy_payload: frame, reception }),
            &mut world.effects,
        );
        world.pass(SECOND / 5);
        let sent = world.transmission();
        assert_eq!(sent.when, When::Clock(clock_us.wrapping_add(1_000_000)), "always counted from the uplink itself");
        world.report(sent.id, Ok(()));
        world.pass(5 * SECOND);
    }
}

/// Crystals are off by tens of millionths; one that is off by a thousandth is broken, and still every downlink is
/// counted from the uplink it answers. Over a day the clock gains 86 s and wraps some twenty times.
#[test]
fn a_clock_that_runs_fast_for_a_day_is_never_followed_astray() {
    let mut world = World::new();
    let mut session = world.join(1);
    let start = world.now;
    for _ in 0..24 * 60 {
        let frame = session.uplink(&[1], UplinkFlags::default(), true);
        world.effects.clear();
        let shown_us = world.now.since(start) as u64 * 1001 / 1000;
        let reception = Reception { clock_us: shown_us as u32, ..world.reception(NEAR, 5.0) };
        let heard_at = reception.heard_at;
        let input = Input::FrameHeard(FrameHeard { phy_payload: frame, reception });
        world.engine.handle(world.now, input, &mut world.effects);
        world.pass(SECOND / 5);
        let sent = world.transmission();
        let delay_us = if sent.window == Window::Rx1 { SECOND } else { 2 * SECOND };
        assert_eq!(sent.when, When::Clock((shown_us as u32).wrapping_add(delay_us as u32)));
        assert_eq!(sent.at, heard_at.plus_us(delay_us), "the service's own time of it is not the gateway's");
        world.report(sent.id, Ok(()));
        world.pass(60 * SECOND - SECOND / 5);
    }
}

#[test]
fn two_devices_at_one_address_whose_mics_collide_are_told_apart_by_their_counters() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.plain());
    // The same keys at the same address: every MIC agrees with both, as four bytes sometimes do.
    let mut twin = world.engine.device_status(DEV, world.now).unwrap().session.unwrap();
    twin.counters.up = Some(500);
    let other = Eui64(0x02bb_0000_0000_0077);
    let record = DeviceRecord { session: Some(twin), ..DeviceRecord::new(device(other)) };
    world.command(Command::RestoreDevice(Box::new(record)));
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!((world.uplinks()[0].dev_eui, world.uplinks()[0].counter), (DEV, 1));
    session.up = 501;
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.uplinks()[0].dev_eui, other, "500 is nearer than 1");
    assert!(
        world.uplinks()[0].warnings.iter().any(|w| w.contains("1 more session")),
        "{:?}",
        world.uplinks()[0].warnings
    );
}

#[test]
fn a_thousand_sessions_share_an_address() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.plain());
    let own = world.engine.device_status(DEV, world.now).unwrap().session.unwrap();
    for n in 0..1000u64 {
        let mut other = own.clone();
        other.keys.f_nwk_s_int_key.0[..8].copy_from_slice(&(n + 1).to_be_bytes());
        let record =
            DeviceRecord { session: Some(other), ..DeviceRecord::new(device(Eui64(0x02bc_0000_0000_0000 + n))) };
        world.command(Command::RestoreDevice(Box::new(record)));
    }
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.uplinks()[0].dev_eui, DEV);
    assert_eq!(world.engine.devices_at(DevAddr(session.dev_addr.0)).len(), 1001);
}

#[test]
fn after_a_restart_a_listening_device_is_reached_before_it_sends() {
    let (mut field, node) = always_listening(&[(NEAR, 9.0), (FAR, 1.0)]);
    field.nodes[node].heard = vec![(FAR, 3.0)];
    field.uplink(node, false);
    let near = field.effects.iter().rev().find_map(|e| match e {
        Effect::Persist(Change::Near { near, .. }) => Some(near.clone()),
        _ => None,
    });
    let near = near.expect("others hear it now");
    assert_eq!(near[0].0, FAR);
    let session = field.status(node).session;
    let profile = RadioProfile { class: Class::C, ..quiet(Region::Eu868) };
    let config = device_with(field.nodes[node].dev_eui, profile);
    let record = DeviceRecord { session, near, ..DeviceRecord::new(config) };
    let mut after = World::new();
    after.command(Command::RestoreDevice(Box::new(record)));
    after.command(Command::Enqueue { dev_eui: field.nodes[node].dev_eui, item: item(1, &[1], false) });
    let sent = after.transmission();
    assert_eq!((sent.gateway, sent.window), (FAR, Window::ClassC));
}

use engine::*;
use lorawan::crypto::MicKey;
use lorawan::wire::{CfList, JoinAccept, JoinRequestRepr};
use lorawan::{AesKey, Eui64, Modulation};

use crate::world::*;

#[test]
fn a_join_is_answered_after_five_seconds_by_the_gateway_that_heard_it_best() {
    let mut world = World::new();
    let heard_at = world.now;
    world.send(&World::join_request(1));
    let sent = world.transmission();
    assert_eq!((sent.gateway, sent.window), (NEAR, Window::Rx1));
    assert_eq!(sent.at, heard_at.plus_us(5 * SECOND));
    let clock = (heard_at.0 as u32).wrapping_add(CLOCK_OFFSET_US);
    assert_eq!(sent.when, When::Clock(clock.wrapping_add(5_000_000)), "the gateway's clock may wrap");
    assert_eq!((sent.frequency_hz, sent.modulation), (868_100_000, Modulation::lora(7, 125).unwrap()));
    assert_eq!(sent.power_dbm, 14, "16.15 dBm EIRP less 2 dBi of antenna, in whole decibels");
    let accept = JoinAccept::open(&sent.phy_payload, &KEY).unwrap();
    let Some(CfList::Frequencies(added)) = accept.cf_list else { panic!("a list of frequencies") };
    assert_eq!(added[0], 867_100_000);
    let Some(Event::Joined(joined)) = world.events().next() else { panic!("{:?}", world.effects) };
    assert_eq!((joined.dev_addr, joined.frame.heard_by.len(), &joined.unanswered), (accept.dev_addr, 2, &None));
}

#[test]
fn the_session_is_durable_before_the_accept_leaves() {
    let mut world = World::new();
    world.send(&World::join_request(1));
    let place = |wanted: fn(&Effect) -> bool| world.effects.iter().position(wanted).unwrap();
    let leaves = place(|e| matches!(e, Effect::Transmit(_)));
    let spent = |e: &Effect| matches!(e, Effect::Persist(Change::Nonces { dev_nonce: Some(1), nonces, .. }) if nonces.next_join_nonce == 2);
    assert!(world.effects[..leaves].iter().any(spent));
    assert!(place(|e| matches!(e, Effect::Persist(Change::Session { begun: false, .. }))) < leaves);
}

#[test]
fn a_dev_nonce_counts_once_even_after_a_restart() {
    let mut world = World::new();
    world.join(7);
    world.send(&World::join_request(7));
    assert_eq!(world.refusals()[0].reason, Refusal::DevNonceUsed { dev_nonce: 7 });
    assert_eq!(world.transmissions(), []);

    let mut after = World::new();
    let nonces = Nonces { used_dev_nonces: vec![9, 7, 8], next_join_nonce: 4, rj_count_1: None };
    let record = DeviceRecord { nonces, ..DeviceRecord::new(device(DEV)) };
    after.command(Command::RestoreDevice(Box::new(record)));
    after.send(&World::join_request(8));
    assert_eq!(after.refusals()[0].reason, Refusal::DevNonceUsed { dev_nonce: 8 });
    after.effects.clear();
    after.send(&World::join_request(10));
    let accept = JoinAccept::open(&after.transmission().phy_payload, &KEY).unwrap();
    assert_eq!(accept.join_nonce, 4, "join nonces go on where they stood");
}

/// Sends a join-request made of these and gives the refusal.
fn refused(join_eui: Eui64, dev_eui: Eui64, key: AesKey) -> RefusedEvent {
    let mut world = World::new();
    world.send(&JoinRequestRepr { join_eui, dev_eui, dev_nonce: 1 }.emit(&MicKey::new(&key)));
    assert_eq!(world.transmissions(), [], "a refused join is not answered");
    assert!(!world.changes().any(|c| matches!(c, Change::Session { .. })));
    world.refusals()[0].clone()
}

#[test]
fn refused_joins_are_explained() {
    let other = Eui64(0x02bb_0000_0000_00ff);
    let unknown = refused(JOIN, other, KEY);
    assert_eq!(
        unknown.frame.airtime_us, 61_696,
        "23 bytes at SF7: 8 + ceil(200/28)·5 = 48, + 12.25 symbols of 1.024 ms"
    );
    assert_eq!((unknown.dev_eui, unknown.reason), (None, Refusal::UnknownDevEui { dev_eui: other, join_eui: JOIN }));

    let reversed = refused(JOIN, DEV.reversed(), KEY);
    assert_eq!(reversed.dev_eui, Some(DEV), "the event stands with the device it is about");
    assert_eq!(reversed.reason, Refusal::DevEuiReversed { dev_eui: DEV.reversed(), registered: DEV });
    assert!(reversed.reason.why().contains("reverse order"));

    assert_eq!(refused(DEV, JOIN, KEY).reason, Refusal::EuisSwapped { registered: DEV });

    let wrong = refused(other, DEV, KEY).reason;
    assert_eq!(wrong, Refusal::WrongJoinEui { received: other, registered: JOIN });
    assert_eq!(wrong.evidence(), [("received", other.to_string()), ("registered", JOIN.to_string())]);
    assert!(refused(JOIN.reversed(), DEV, KEY).reason.why().contains("bytes reversed"));

    let mic = refused(JOIN, DEV, AesKey([0x43; 16])).reason;
    assert_eq!(
        mic,
        Refusal::JoinMic { key: "AppKey", key_reversed: false, app_key_instead: false, fleet_key: FleetKey::Nobodys }
    );
    assert!(mic.why().contains("AppKey in the device differs"));
    assert!(mic.next_step().contains("Compare the AppKey"));
}

#[test]
fn a_key_entered_backwards_is_recognised() {
    let key = AesKey(std::array::from_fn(|i| i as u8));
    let mut backwards = key;
    backwards.0.reverse();
    let mut world = World::new();
    let activation = Activation::OverTheAir(RootKeys { app_key: backwards, nwk_key: None });
    world.command(Command::PutDevice(Box::new(DeviceConfig { activation, ..device(DEV) })));
    world.send(&JoinRequestRepr { join_eui: JOIN, dev_eui: DEV, dev_nonce: 1 }.emit(&MicKey::new(&key)));
    assert!(matches!(world.refusals()[0].reason, Refusal::JoinMic { key_reversed: true, .. }));
}

#[test]
fn the_key_of_another_device_of_the_fleet_is_recognised() {
    let (other, stranger) = (Eui64(0x02bb_0000_0000_0077), Eui64(0x02bb_0000_0000_0078));
    let with_key = |dev_eui, byte, fleet| {
        let activation = Activation::OverTheAir(RootKeys { app_key: AesKey([byte; 16]), nwk_key: None });
        Command::PutDevice(Box::new(DeviceConfig { activation, fleet, ..device(dev_eui) }))
    };
    let mut world = World::new();
    world.command(with_key(other, 0x77, 1));
    world.command(with_key(stranger, 0x78, 2));
    let mut said = |byte, dev_nonce| {
        let request = JoinRequestRepr { join_eui: JOIN, dev_eui: DEV, dev_nonce };
        world.effects.clear();
        world.send(&request.emit(&MicKey::new(&AesKey([byte; 16]))));
        world.pass(2 * SECOND);
        world.refusals()[0].reason.clone()
    };
    let exchanged = said(0x77, 1);
    assert!(matches!(exchanged, Refusal::JoinMic { fleet_key: FleetKey::Of(of), .. } if of == other), "{exchanged:?}");
    assert!(exchanged.why().contains(&other.to_string()) && exchanged.next_step().contains("Exchange the keys"));
    let elsewhere = said(0x78, 2);
    assert!(
        matches!(elsewhere, Refusal::JoinMic { fleet_key: FleetKey::Nobodys, .. }),
        "another fleet's are not tried"
    );
}

#[test]
fn a_disabled_device_is_refused_and_sent_nothing() {
    let mut world = World::new();
    let mut joined = world.join(1);
    let disabled = |disabled| Command::PutDevice(Box::new(DeviceConfig { disabled, ..device(DEV) }));
    world.command(disabled(true));
    world.effects.clear();
    let frame = joined.plain();
    world.send(&frame);
    assert_eq!(world.refusals()[0].reason, Refusal::Disabled { joining: false });
    world.send(&World::join_request(9));
    assert_eq!(world.refusals()[1].reason, Refusal::Disabled { joining: true });
    assert_eq!(world.transmissions(), []);
    world.command(disabled(false));
    // Else it would be a late copy of the same frame.
    world.pass(20 * SECOND);
    world.effects.clear();
    world.send(&frame);
    assert_eq!(world.uplinks().len(), 1, "its session went on, and the counter had not moved");
}

#[test]
fn a_session_that_is_ended_is_joined_again() {
    let mut world = World::new();
    let mut joined = world.join(7);
    world.effects.clear();
    world.command(Command::Forget { dev_eui: DEV, nonces: false });
    assert!(world.changes().any(|change| *change == Change::Ended { dev_eui: DEV, nonces: false }));
    world.send(&joined.plain());
    assert!(matches!(world.refusals()[0].reason, Refusal::UnknownDevAddr { .. }));
    world.send(&World::join_request(7));
    assert!(matches!(world.refusals()[1].reason, Refusal::DevNonceUsed { dev_nonce: 7 }));
    world.command(Command::Forget { dev_eui: DEV, nonces: true });
    world.pass(20 * SECOND);
    world.effects.clear();
    world.send(&World::join_request(7));
    assert_eq!((world.refusals().len(), world.transmissions().len()), (0, 1));
}

#[test]
fn counters_can_be_set() {
    let mut world = World::new();
    let mut joined = world.join(1);
    world.send(&joined.plain());
    joined.up = 40;
    world.command(Command::SetCounters { dev_eui: DEV, up: Some(Some(50)), next_down: Some(9) });
    world.effects.clear();
    world.send(&joined.plain());
    assert!(matches!(world.refusals()[0].reason, Refusal::CounterTooLow { received: 40, last: 50 }));
    world.command(Command::SetCounters { dev_eui: DEV, up: Some(None), next_down: None });
    world.effects.clear();
    world.send(&joined.plain());
    let status = world.engine.device_status(DEV, world.now).unwrap().session.unwrap();
    assert_eq!((status.counters.up, status.counters.next_down), (Some(41), 9));
}

#[test]
fn joins_that_meet_in_one_window_are_answered_each_and_the_last_session_counts() {
    let mut world = World::new();
    // The device asks again before the copies of its first request are collected; then it hears either answer.
    world.hear(&World::join_request(1), NEAR, 8.0);
    world.hear(&World::join_request(1), FAR, 3.0);
    world.pass(SECOND / 10);
    for gateway in [NEAR, FAR, NEAR] {
        world.hear(&World::join_request(2), gateway, 8.0);
    }
    world.pass(SECOND / 5);
    assert_eq!(world.refusals(), Vec::<&RefusedEvent>::new(), "copies are no second request");
    let sent = world.transmissions();
    let [first, second] = &sent[..] else { panic!("{sent:#?}") };
    let apart = |a: &Transmission, b: &Transmission| a.at.plus_us(a.airtime_us as i64) <= b.at;
    assert!(first.gateway != second.gateway || apart(first, second) || apart(second, first), "one frame at a time");
    let accepts = [first, second].map(|t| JoinAccept::open(&t.phy_payload, &KEY).unwrap());
    assert!(accepts[0].join_nonce < accepts[1].join_nonce);
    assert_ne!(accepts[0].dev_addr, accepts[1].dev_addr);

    // The newer replaced the older, of which nothing is left.
    let mut old = Joined::from_accept(&accepts[0], 1);
    let mut new = Joined::from_accept(&accepts[1], 2);
    world.pass(8 * SECOND);
    world.effects.clear();
    world.send(&old.plain());
    assert!(matches!(world.refusals()[..], [RefusedEvent { reason: Refusal::UnknownDevAddr { .. }, .. }]));
    world.effects.clear();
    world.send(&new.plain());
    assert_eq!((world.refusals().len(), world.uplinks().len()), (0, 1));
}

#[test]
fn a_late_copy_is_no_replay() {
    let mut world = World::new();
    let request = World::join_request(1);
    world.hear(&request, NEAR, 5.0);
    world.pass(SECOND);
    world.hear(&request, FAR, 5.0);
    world.pass(SECOND);
    assert_eq!(world.refusals(), Vec::<&RefusedEvent>::new());
    assert_eq!(world.transmissions().len(), 1);
}

#[test]
fn an_unregistered_gateway_brings_nothing_in() {
    let mut world = World::new();
    world.hear(&World::join_request(1), Eui64(0x0299), 5.0);
    world.pass(SECOND);
    let [Event::Dropped { why: Dropped::UnknownGateway, gateway }] = world.events().collect::<Vec<_>>()[..] else {
        panic!("{:?}", world.effects)
    };
    assert_eq!((*gateway, world.effects.len()), (Eui64(0x0299), 1));
    assert_eq!(world.engine.next_deadline(), None);
}

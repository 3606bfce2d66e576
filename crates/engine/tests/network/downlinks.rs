use engine::*;
use lorawan::wire::UplinkFlags;

use crate::world::*;

const ACK: UplinkFlags = UplinkFlags { ack: true, adr: false, adr_ack_req: false, class_b: false };

#[test]
fn the_outbox_goes_out_one_second_after_an_uplink() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[0xca, 0xfe], false);
    world.enqueue(2, &[0xbe], false);
    let heard_at = world.now;
    world.send(&session.plain());
    let sent = world.transmission();
    assert_eq!((sent.at, sent.window, sent.gateway), (heard_at.plus_us(SECOND), Window::Rx1, NEAR));
    let (view, payload) = session.read(&sent.phy_payload, 0);
    assert_eq!((view.fport(), payload), (Some(10), vec![0xca, 0xfe]));
    assert!(view.downlink_flags().pending, "one more is waiting");
    world.report(sent.id, Ok(()));
    assert_eq!(world.stages(), [&DownlinkStage::Sent]);
    assert_eq!(world.outbox_states(), [&OutboxState::UnderWay, &OutboxState::Sent]);

    world.effects.clear();
    world.send(&session.plain());
    let sent = world.transmission();
    let (view, payload) = session.read(&sent.phy_payload, 1);
    assert_eq!((view.downlink_flags().pending, payload), (false, vec![0xbe]));
}

#[test]
fn the_counter_is_durable_before_the_frame_leaves() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[1], false);
    world.send(&session.plain());
    let leaves = world.effects.iter().position(|e| matches!(e, Effect::Transmit(_))).unwrap();
    let stored = world.effects[..leaves]
        .iter()
        .filter(|e| matches!(e, Effect::Persist(Change::Counters { counters, .. }) if counters.next_down == 1))
        .count();
    assert_eq!(stored, 1);
}

#[test]
fn a_refusal_moves_the_same_frame_to_the_next_gateway_and_window() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[1, 2], false);
    world.send(&session.plain());
    let expected = [(NEAR, Window::Rx1), (FAR, Window::Rx1), (NEAR, Window::Rx2), (FAR, Window::Rx2)];
    let mut frames = Vec::new();
    for (i, way) in expected.iter().enumerate() {
        let sent = world.transmissions()[i].clone();
        assert_eq!((sent.gateway, sent.window), *way);
        frames.push(sent.phy_payload);
        world.report(sent.id, Err(TxFailure::TooLate));
    }
    assert!(frames.iter().all(|f| *f == frames[0]), "not heard by anyone, so the counter may stay");
    assert_eq!(world.transmissions().len(), 4);
    let [DownlinkStage::Returned(why)] = world.stages()[..] else { panic!("{:?}", world.stages()) };
    assert!(why.contains("too late"));
    let sent = world.transmissions();
    assert_eq!((sent[2].frequency_hz, sent[2].at), (869_525_000, sent[0].at.plus_us(SECOND)));
    assert_eq!(sent[2].power_dbm, 25, "27 dBm EIRP less 2 dBi");
    for gateway in [NEAR, FAR] {
        let status = world.engine.gateway_status(gateway, world.now).unwrap();
        let own: Vec<_> = status.airtime.iter().map(|b| (b.sub_band.name, b.frames)).collect();
        let join_accept = if gateway == NEAR { vec![("M", 1)] } else { vec![] };
        assert_eq!(own, join_accept, "what was not sent is not on the account");
    }
}

#[test]
fn three_attempts_and_no_more() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[1], false);
    for attempt in 1..=MAX_ATTEMPTS {
        world.effects.clear();
        world.send(&session.plain());
        world.pass(10 * SECOND);
        let stage = world.stages()[0].clone();
        if attempt < MAX_ATTEMPTS {
            assert!(matches!(stage, DownlinkStage::Returned(why) if why.contains("did not report")));
        } else {
            assert!(matches!(stage, DownlinkStage::Failed(why) if why.contains("given up after 3")));
        }
    }
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.transmissions(), []);
}

#[test]
fn a_confirmed_downlink_is_done_when_the_device_says_so() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[7], true);
    world.send(&session.plain());
    let sent = world.transmission();
    assert!(session.read(&sent.phy_payload, 0).0.confirmed());
    world.report(sent.id, Ok(()));
    assert_eq!(world.outbox_states().last(), Some(&&OutboxState::AwaitingAck(0)));

    world.effects.clear();
    world.send(&session.plain());
    let again = world.transmission();
    assert_eq!(session.read(&again.phy_payload, 1).1, [7], "not acknowledged, so sent again under a new counter");
    world.report(again.id, Ok(()));

    world.effects.clear();
    world.send(&session.uplink(&[1], ACK, false));
    assert_eq!(world.stages(), [&DownlinkStage::Acknowledged]);
    assert_eq!(world.outbox_states(), [&OutboxState::Acknowledged]);
    assert_eq!(world.transmissions(), []);
    world.send(&session.uplink(&[1], ACK, false));
    assert!(world.uplinks()[1].warnings[0].contains("not awaited"));
}

#[test]
fn a_payload_too_long_for_the_data_rate_is_held_and_said_so() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[0; 60], false);
    world.sf = 12;
    world.send(&session.plain());
    assert_eq!(world.transmissions(), []);
    let [OutboxState::Waiting(wait)] = world.outbox_states()[..] else { panic!("{:?}", world.effects) };
    assert_eq!(*wait, Wait::SmallerThan { len: 60, max: 51 });
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.outbox_states(), Vec::<&OutboxState>::new(), "said once");
    world.sf = 7;
    world.send(&session.plain());
    assert_eq!(world.transmission().window, Window::Rx1);
}

#[test]
fn an_acknowledgement_does_not_wait_for_a_payload_that_does_not_fit() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[0; 60], false);
    world.sf = 12;
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    let sent = world.transmission();
    let (view, payload) = session.read(&sent.phy_payload, 0);
    assert_eq!((view.downlink_flags().pending, payload), (true, vec![]), "empty, with more pending");
}

#[test]
fn a_device_that_asks_whether_it_is_heard_is_told() {
    let mut world = World::new();
    let mut session = world.join(1);
    let ask = UplinkFlags { adr: true, adr_ack_req: true, ..UplinkFlags::default() };
    world.send(&session.uplink(&[1], ask, false));
    assert_eq!(world.transmissions().len(), 1);
}

#[test]
fn a_gateway_without_budget_is_passed_over() {
    let mut world = World::new();
    let mut session = world.join(1);
    let spend = |world: &mut World, gateway, band: &str, airtime_us| {
        let minute = world.now.minute();
        let transmitter = Transmitter::Gateway(gateway);
        world.command(Command::RestoreAirtime {
            transmitter,
            sub_band: band.into(),
            minute,
            used: Used { airtime_us, frames: 9 },
        });
    };
    spend(&mut world, NEAR, "M", 35_999_999);
    world.enqueue(1, &[1], false);
    world.send(&session.plain());
    assert_eq!((world.transmission().gateway, world.transmission().window), (FAR, Window::Rx1));
    world.report(world.transmission().id, Ok(()));

    world.pass(5 * SECOND);
    spend(&mut world, FAR, "M", 35_999_999);
    world.enqueue(2, &[2], false);
    world.send(&session.plain());
    assert_eq!((world.transmission().gateway, world.transmission().window), (NEAR, Window::Rx2));
    world.report(world.transmission().id, Ok(()));

    world.pass(5 * SECOND);
    spend(&mut world, NEAR, "P", 359_999_999);
    spend(&mut world, FAR, "P", 359_999_999);
    world.enqueue(3, &[3], false);
    world.send(&session.plain());
    assert_eq!(world.transmissions(), []);
    let [OutboxState::Waiting(wait)] = world.outbox_states()[..] else { panic!("{:?}", world.effects) };
    let until = Timestamp((world.now.minute() + 61) * 60 * SECOND);
    assert_eq!(*wait, Wait::Airtime { sub_band: "M", until });
    assert!(wait.to_string().ends_with(&format!("until {until}")), "{wait}");
    world.effects.clear();
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    let [DownlinkStage::Failed(why)] = world.stages()[..] else { panic!("{:?}", world.effects) };
    assert!(
        why.contains("no acknowledgement") && why.contains("duty cycle"),
        "a silence towards the device is explained too"
    );
    world.pass(62 * 60 * SECOND);
    world.effects.clear();
    world.send(&session.plain());
    assert_eq!(world.transmission().gateway, NEAR, "an hour later there is budget again");
}

#[test]
fn a_gateway_sends_one_frame_at_a_time() {
    let mut world = World::new();
    let mut session = world.join(1);
    let confirmed = session.uplink(&[1], UplinkFlags::default(), true);
    let second = session.uplink(&[2], UplinkFlags::default(), true);
    world.hear(&confirmed, NEAR, 5.0);
    world.hear(&second, NEAR, 5.0);
    world.pass(SECOND / 5);
    let windows: Vec<_> = world.transmissions().iter().map(|t| t.window).collect();
    assert_eq!(windows, [Window::Rx1, Window::Rx2]);
}

#[test]
fn late_frames_are_not_handed_over_for_a_window_that_has_passed() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[1], false);
    let frame = session.plain();
    world.hear(&frame, NEAR, 5.0);
    // The service was held up: the collection window closes a second too late.
    world.now = world.now.plus_us(1_200_000);
    world.engine.handle(world.now, Input::Tick, &mut world.effects);
    assert_eq!(world.transmission().window, Window::Rx2);
}

#[test]
fn a_restart_puts_what_was_under_way_back() {
    let mut world = World::new();
    let session = world.join(1);
    let stored = world.engine.device_status(DEV, world.now).unwrap().next_session;
    let tried_once = |id: u128, state| OutboxItem { attempts: 1, state, ..item(id, &[id as u8], true) };
    let record = DeviceRecord {
        session: stored.map(|s| Session { counters: Counters { next_down: 5, ..s.counters }, ..s }),
        outbox: vec![tried_once(1, OutboxState::AwaitingAck(4)), tried_once(2, OutboxState::UnderWay)],
        ..DeviceRecord::new(device(DEV))
    };
    let mut after = World::new();
    after.command(Command::RestoreDevice(Box::new(record)));
    let [OutboxState::Waiting(Wait::Again(why))] = after.outbox_states()[..] else { panic!("{:?}", after.effects) };
    assert!(why.contains("restarted"), "and the store is told");
    after.effects.clear();
    let mut session = Joined { up: 9, ..session };
    after.send(&session.uplink(&[1], ACK, false));
    assert_eq!(after.stages(), [&DownlinkStage::Acknowledged]);
    assert_eq!(session.read(&after.transmission().phy_payload, 5).1, [2], "no counter is used twice");
}

#[test]
fn only_what_waits_can_be_cancelled() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.enqueue(1, &[1], false);
    world.enqueue(2, &[2], false);
    world.command(Command::Cancel { dev_eui: DEV, id: OutboxId(2) });
    assert_eq!(world.outbox_states(), [&OutboxState::Cancelled]);
    world.send(&session.plain());
    world.effects.clear();
    world.command(Command::Cancel { dev_eui: DEV, id: OutboxId(1) });
    assert_eq!(world.effects, []);
}

#[test]
fn before_the_join_there_is_nothing_to_send_under() {
    let mut world = World::new();
    world.command(Command::Enqueue { dev_eui: DEV, item: item(1, &[1], false) });
    assert_eq!(world.outbox_states(), [&OutboxState::Waiting(Wait::Join)]);
    world.effects.clear();
    world.send(&World::join_request(1));
    assert_eq!(world.outbox_states(), [&OutboxState::Waiting(Wait::NextUplink)]);
    let mut session = world.join(2);
    world.send(&session.plain());
    assert_eq!(session.read(&world.transmission().phy_payload, 0).1, [1]);
}

//! What devices of each version hear and are heard with, where it is easy to be nearly right.

use std::collections::BTreeSet;

use engine::*;
use lorawan::crypto::{SessionKeys, SessionKeys11};
use lorawan::mac::{DeviceClass, DownCommand, UpCommand};
use lorawan::region::{AdrSettings, Region};
use lorawan::wire::{DataRepr, JoinAccept, UplinkFlags};
use lorawan::{AesKey, DevAddr, Eui64, MacVersion, Modulation};
use simulator::device::{Build, Downlink, Identity, Listens, Refuses};

use crate::field::{Field, JOIN, MINUTE, SECOND};
use crate::world::{FAR, KEY, NEAR, World, quiet};

fn build(region: Region, version: MacVersion, data_rate: u8) -> Build {
    Build { version, adr: true, ..Build::plain(region, data_rate) }
}

fn only(region: Region) -> Field {
    Field::new(&[(NEAR, region)])
}

/// Windows that are not the region's.
fn other_windows(version: MacVersion) -> RadioProfile {
    RadioProfile {
        version,
        rx_delay_s: 3,
        rx1_data_rate_offset: 2,
        rx2_data_rate: 3,
        rx2_frequency_hz: Some(869_525_000),
        ..quiet(Region::Eu868)
    }
}

#[test]
fn a_join_accept_goes_where_a_device_listens_that_knows_only_its_region() {
    for version in [MacVersion::V1_0_2, MacVersion::V1_0_4, MacVersion::V1_1] {
        let mut field = only(Region::Eu868);
        let node = field.add(build(Region::Eu868, version, 5), other_windows(version), vec![(NEAR, 8.0)]);
        // First, and again while the session with the other windows runs.
        for _ in 0..2 {
            field.forget();
            field.join(node);
            let accept = field.transmissions()[0].clone();
            assert_eq!(accept.window, Window::Rx1);
            assert_eq!(accept.modulation, Modulation::lora(7, 125).unwrap(), "{version}: no offset yet");
            for _ in 0..3 {
                field.uplink(node, true);
                field.pass(MINUTE);
            }
            assert_eq!(field.status(node).negotiated.unwrap().known.rx1_data_rate_offset, 2);
            field.nodes[node].device.restart();
        }
        // The same in RX2: the region's data rate, not the wanted one.
        field.failures = vec![TxFailure::CollisionPacket];
        field.forget();
        field.join(node);
        let sent: Vec<_> = field.transmissions().iter().map(|t| (t.window, t.modulation)).collect();
        assert_eq!(sent[1], (Window::Rx2, Modulation::lora(12, 125).unwrap()), "{version}");
    }
}

#[test]
fn rejoins_are_answered_in_the_windows_of_their_type() {
    for (kind, spreading_factor) in [(0, 9), (1, 7), (2, 9)] {
        let mut field = only(Region::Eu868);
        let profile = other_windows(MacVersion::V1_1);
        let node = field.add(build(Region::Eu868, MacVersion::V1_1, 5), profile, vec![(NEAR, 8.0)]);
        field.join(node);
        for _ in 0..3 {
            field.uplink(node, true);
            field.pass(MINUTE);
        }
        let before = field.nodes[node].device.dev_addr();
        field.forget();
        let request = field.nodes[node].device.rejoin_request(kind).unwrap();
        field.emit(node, &request);
        let accept = field.transmissions()[0];
        assert_eq!(accept.modulation, Modulation::lora(spreading_factor, 125).unwrap(), "type {kind}");
        assert_ne!(field.nodes[node].device.dev_addr(), before, "type {kind} is heard");
    }
}

#[test]
fn each_sending_of_an_uplink_may_hop() {
    for version in [MacVersion::V1_0_3, MacVersion::V1_1] {
        let mut field = only(Region::Eu868);
        let rates = Rates::Fixed { data_rate: 3, tx_power: 0, nb_trans: 4 };
        let profile = RadioProfile { version, rates, ..quiet(Region::Eu868) };
        let node = field.add(build(Region::Eu868, version, 3), profile, vec![(NEAR, 8.0)]);
        field.join(node);
        for n in 0..30 {
            field.uplink(node, n % 3 == 0);
            field.pass(MINUTE);
        }
        assert_eq!(field.nodes[node].device.nb_trans(), 4, "{version}");
        assert_eq!(field.refusals(), Vec::<&Refusal>::new(), "{version}");
        assert!(field.noticed("uplink_repeated") > 60, "{version}: {}", field.noticed("uplink_repeated"));
    }
}

#[test]
fn channels_of_a_devices_own_are_bound_into_its_mic() {
    let own_hz = [868_850_000, 865_200_000];
    let mut field = only(Region::Eu868);
    let profile = RadioProfile { version: MacVersion::V1_1, ..quiet(Region::Eu868) }.with_extra(&own_hz);
    let node = field.add(build(Region::Eu868, MacVersion::V1_1, 5), profile, vec![(NEAR, 8.0)]);
    field.join(node);
    field.uplinks(node, 60);
    assert_eq!(field.refusals(), Vec::<&Refusal>::new());
    let used: BTreeSet<u32> = field
        .told()
        .iter()
        .filter_map(
            |event| if let Event::Uplink(uplink) = event { Some(uplink.frame.radio.frequency_hz) } else { None },
        )
        .collect();
    assert!(own_hz.iter().all(|hz| used.contains(hz)), "{used:?}");
    assert!(used.len() > 8, "{used:?}");
}

/// The downlink of one confirmed uplink whose FOpts ask for all that a device can ask.
fn answer_to_everything(region: Region, data_rate: u8) -> (Downlink, DownlinkStage) {
    let mut field = only(region);
    let profile = RadioProfile { version: MacVersion::V1_1, ..quiet(region) };
    let node = field.add(build(region, MacVersion::V1_1, data_rate), profile, vec![(NEAR, 12.0)]);
    field.join(node);
    field.forget();
    for question in [
        UpCommand::DeviceTimeReq,
        UpCommand::LinkCheckReq,
        UpCommand::BeaconTimingReq,
        UpCommand::PingSlotInfoReq { periodicity: 4 },
        UpCommand::DeviceModeInd { class: DeviceClass::A },
    ] {
        field.nodes[node].device.ask(question);
    }
    field.uplink(node, true);
    let stage = field.told().iter().find_map(|e| if let Event::Downlink(d) = e { Some(d.stage.clone()) } else { None });
    (field.nodes[node].received.pop().expect("an answer"), stage.expect("something was told"))
}

#[test]
fn an_acknowledgement_is_never_lost_for_the_answers_beside_it() {
    // RekeyConf and the five answers are 18 bytes: more than a header holds.
    let (downlink, stage) = answer_to_everything(Region::Eu868, 5);
    let Downlink::Data { ack: true, port: Some(0), mac_commands, .. } = downlink else { panic!("{downlink:?}") };
    assert_eq!((mac_commands.len(), stage), (6, DownlinkStage::Sent), "{mac_commands:?}");
    // Where even the payload has no room for them, as many as there is room for.
    let (downlink, _) = answer_to_everything(Region::As923_1, 2);
    let Downlink::Data { ack: true, mac_commands, .. } = downlink else { panic!("{downlink:?}") };
    assert!(!mac_commands.is_empty(), "{mac_commands:?}");
}

#[test]
fn no_data_rate_is_asked_for_that_the_dwell_time_forbids() {
    for region in [Region::As923_1, Region::Au915] {
        for dwell_time in [true, false] {
            let mut field = only(region);
            let profile = RadioProfile { dwell_time, ..RadioProfile::of(region) };
            // Heard so faintly that the slowest data rate would be right.
            let node = field.add(build(region, MacVersion::V1_0_3, 2), profile, vec![(NEAR, -13.0)]);
            field.join(node);
            field.uplinks(node, 60);
            let rates: BTreeSet<u8> = asked(&field, node).iter().filter_map(|ask| ask.data_rate).collect();
            assert_eq!(rates.iter().any(|rate| *rate < 2), !dwell_time, "{region}: {rates:?}");
            assert_eq!(field.noticed("setting_refused"), 0, "{region}");
        }
    }
}

/// What was asked of a device in LinkADRReq, as it received it.
fn asked(field: &Field, node: usize) -> Vec<lorawan::mac::LinkAdr> {
    let received = field.nodes[node].received.iter();
    received
        .filter_map(|d| if let Downlink::Data { mac_commands, .. } = d { Some(mac_commands) } else { None })
        .flatten()
        .filter_map(|c| if let DownCommand::LinkAdrReq(adr) = c { Some(*adr) } else { None })
        .collect()
}

/// A personalized device of EU868 with the three channels that every device has.
fn personalized(field: &mut Field, version: MacVersion, profile: RadioProfile) -> usize {
    let key = |n: u8| AesKey([n; 16]);
    let nwk = key(1);
    let keys = match version {
        MacVersion::V1_1 => {
            SessionKeys11 { app_s_key: key(2), f_nwk_s_int_key: nwk, s_nwk_s_int_key: key(3), nwk_s_enc_key: key(4) }
        }
        _ => SessionKeys11::from(SessionKeys { nwk_s_key: nwk, app_s_key: key(2) }),
    };
    let dev_addr = DevAddr(0x0000_0100 + field.nodes.len() as u32);
    let identity = Identity {
        dev_eui: Eui64(0x02bb_0000_0000_0900 + field.nodes.len() as u64),
        join_eui: JOIN,
        app_key: KEY,
        nwk_key: None,
        personal: Some((dev_addr, keys)),
    };
    let activation = Activation::Personalized { dev_addr, keys: Box::new(keys) };
    field.add_as(identity, build(Region::Eu868, version, 2), activation, profile, vec![(NEAR, 9.0)])
}

#[test]
fn a_device_that_lacks_channels_is_given_them_before_they_are_switched_on() {
    let mut field = only(Region::Eu868);
    let node = personalized(&mut field, MacVersion::V1_0_3, RadioProfile::of(Region::Eu868));
    // It was set to all eight channels once, as far as the network knows.
    let dev_eui = field.nodes[node].dev_eui;
    let mut session = field.status(node).session.unwrap();
    let plan = Region::Eu868.plan();
    let all: lorawan::region::ChannelSet = plan.network_uplinks().map(|c| c.index).collect();
    session.settings.defined = all;
    session.settings.adr = AdrSettings { data_rate: 2, channels: all, ..session.settings.adr };
    let config = DeviceConfig {
        dev_eui,
        join_eui: JOIN,
        activation: Activation::Personalized { dev_addr: session.dev_addr, keys: Box::new(session.keys) },
        profile: std::sync::Arc::new(RadioProfile::of(Region::Eu868)),
        policy: Policy::default(),
        estate: 0,
        fleet: 1,
        disabled: false,
    };
    let record = DeviceRecord { session: Some(session), ..DeviceRecord::new(config) };
    field.command(Command::RestoreDevice(Box::new(record)));
    field.uplinks(node, 60);
    assert_eq!(field.noticed("setting_refused"), 1, "the mask, once: {:?}", field.notices());
    let known = field.status(node).negotiated.unwrap().known;
    assert_eq!(known.adr.channels, all);
    assert_eq!(field.nodes[node].device.rate_and_power().0, 5, "and then data rate and power are settled");
    let downlinks = field.nodes[node].received.len();
    assert!(downlinks <= 12, "{downlinks}");
}

/// Downlinks with requests that a device may be sent in a week in which it refuses something.
const MOST_IN_A_WEEK: usize = 40;

#[test]
fn whatever_a_device_refuses_it_is_not_asked_for_ever() {
    for version in [MacVersion::V1_0_2, MacVersion::V1_0_4, MacVersion::V1_1] {
        for region in [Region::Eu868, Region::Us915, Region::As923_1] {
            for refused in Refuses::ALL {
                let mut field = only(region);
                let class = if refused == Refuses::PingSlotChannel { Class::B } else { Class::A };
                let profile = demanding(region, version, class);
                let built = Build { listens: Listens::AfterUplinks, ..build(region, version, 2) };
                let joined = field.add(built, profile, vec![(NEAR, 9.0)]);
                field.nodes[joined].device.refuse(refused);
                field.join(joined);
                field.forget();
                for _ in 0..7 * 24 {
                    field.uplink(joined, false);
                    field.pass(60 * MINUTE);
                }
                let sent = field.transmissions().len();
                assert!(sent <= MOST_IN_A_WEEK, "{region} {version} refuses {refused:?}: {sent} downlinks in a week");
            }
        }
    }
}

/// A profile that asks for everything.
pub(crate) fn demanding(region: Region, version: MacVersion, class: Class) -> RadioProfile {
    let plan = region.plan();
    let hz = plan.uplinks().next().unwrap().frequency_hz;
    let profile = RadioProfile {
        version,
        class,
        rx_delay_s: 2,
        rx1_data_rate_offset: 1,
        max_duty_cycle: 3,
        ping_channel: Some(PingChannel { frequency_hz: plan.rx2_frequency_hz, data_rate: plan.rx2_data_rate }),
        ping_periodicity: Some(3),
        beacon_hz: Some(plan.rx2_frequency_hz),
        downlink_channels: vec![DownlinkChannel { index: 0, frequency_hz: hz }],
        adr_ack: Some(AdrAck { limit_exp: 5, delay_exp: 4 }),
        rejoin: Some(RejoinTimes { max_time_n: 9, max_count_n: 9 }),
        ..RadioProfile::of(region)
    };
    if plan.dynamic() { profile.with_extra(&[hz + 50_000]) } else { profile }
}

#[test]
fn commands_that_few_profiles_ask_for_are_sent_and_kept_to() {
    let region = Region::Eu868;
    let mut field = only(region);
    let profile = RadioProfile {
        downlink_channels: (0..3).map(|index| DownlinkChannel { index, frequency_hz: 869_525_000 }).collect(),
        channels: (0..3).collect(),
        beacon_hz: Some(869_475_000),
        ping_periodicity: None,
        class: Class::B,
        renew_after_days: Some(2),
        ..demanding(region, MacVersion::V1_1, Class::B)
    };
    let built = Build { listens: Listens::InPingSlots(5), ..build(region, MacVersion::V1_1, 5) };
    let node = field.add(built, RadioProfile { extra_hz: vec![], ..profile }, vec![(NEAR, 9.0)]);
    field.join(node);
    field.uplinks(node, 30);
    let known = field.status(node).negotiated.unwrap().known;
    assert_eq!(known.ping_periodicity, Some(5), "as the device says; the profile does not");
    assert_eq!(known.beacon_hz, Some(869_475_000));
    assert_eq!(known.adr_ack, Some(AdrAck { limit_exp: 5, delay_exp: 4 }));
    assert_eq!(known.rejoin, Some(RejoinTimes { max_time_n: 9, max_count_n: 9 }));
    assert_eq!(known.rx1_hz[..3], [869_525_000; 3]);
    field.forget();
    field.nodes[node].received.clear();
    field.uplink(node, true);
    let answer = field.transmissions()[0];
    assert_eq!((answer.window, answer.frequency_hz), (Window::Rx1, 869_525_000));
    assert_eq!(field.nodes[node].received.len(), 1, "the device listens there");
    // Two days later it is to agree on a new session.
    let before = field.nodes[node].device.dev_addr();
    field.pass(48 * 60 * MINUTE);
    field.uplinks(node, 2);
    let request = field.nodes[node].device.rejoin_if_told().expect("it was told to rejoin");
    field.emit(node, &request);
    assert_ne!(field.nodes[node].device.dev_addr(), before);
    field.uplinks(node, 3);
    assert!(field.nodes[node].device.rejoin_if_told().is_none(), "once");
}

#[test]
fn what_is_heard_from_other_gateways_is_told_as_that() {
    let mut world = World::new();
    let session = world.join(1);
    let down =
        DataRepr::downlink(session.dev_addr, 1, Default::default(), None).emit(&session.nwk, &session.app).unwrap();
    let accept = JoinAccept {
        join_nonce: 1,
        net_id: lorawan::NetId::new(0),
        dev_addr: DevAddr(1),
        opt_neg: false,
        rx1_data_rate_offset: 0,
        rx2_data_rate: 0,
        rx_delay_s: 1,
        cf_list: None,
    };
    for frame in [down, accept.seal(&KEY)] {
        world.effects.clear();
        world.send(&frame);
        let [refused] = world.refusals()[..] else { panic!("{:?}", world.effects) };
        assert_eq!((refused.reason.code(), refused.dev_eui), ("downlink_heard", None));
    }
}

#[test]
fn commands_in_both_places_are_told_with_their_device() {
    let mut world = World::new();
    let session = world.join(1);
    let fopts = [0x02];
    // Written by hand: nothing of ours makes such a frame.
    let mut frame = vec![0x40];
    frame.extend(session.dev_addr.0.to_le_bytes());
    frame.extend([fopts.len() as u8, 0, 0]);
    frame.extend(fopts);
    frame.extend([0, 0x02, 1, 2, 3, 4]);
    world.send(&frame);
    let [refused] = world.refusals()[..] else { panic!("{:?}", world.effects) };
    assert_eq!((refused.reason.code(), refused.dev_eui), ("unreadable_frame", Some(crate::world::DEV)));
}

#[test]
fn a_late_copy_is_told_apart_from_a_replay() {
    let mut world = World::new();
    let mut session = world.join(1);
    let old = session.plain();
    let heard_then = world.reception(FAR, 2.0);
    world.hear(&old, NEAR, 8.0);
    world.pass(30 * SECOND);
    let new = session.plain();
    world.hear(&new, FAR, 2.0);
    world.pass(SECOND);
    world.effects.clear();
    // The far gateway brings what it heard half a minute ago; nothing is wrong with its clock.
    let reception = Reception { heard_at: world.now, ..heard_then };
    let frame = FrameHeard { phy_payload: old.clone(), reception };
    world.engine.handle(world.now, Input::FrameHeard(frame), &mut world.effects);
    world.pass(SECOND);
    let [late] = world.refusals()[..] else { panic!("{:?}", world.effects) };
    assert_eq!(late.reason.code(), "came_late", "{}", late.reason.why());
    // Heard now, it is a replay.
    world.effects.clear();
    world.pass(5 * SECOND);
    world.hear(&old, FAR, 2.0);
    world.pass(SECOND);
    let [replayed] = world.refusals()[..] else { panic!("{:?}", world.effects) };
    assert_eq!(replayed.reason.code(), "counter_too_low");
}

#[test]
fn a_step_of_the_counter_is_limited_as_the_version_has_it() {
    for (version, wanted, accepted) in [
        (MacVersion::V1_0_3, None, false),
        (MacVersion::V1_0_3, Some(0), true),
        (MacVersion::V1_0_4, None, true),
        (MacVersion::V1_0_4, Some(1_000), false),
    ] {
        let mut world = World::new();
        world.profile(RadioProfile { version, max_counter_gap: wanted, ..quiet(Region::Eu868) });
        let mut session = world.join(1);
        world.send(&session.plain());
        session.up += 16_385;
        world.effects.clear();
        world.send(&session.plain());
        let refused: Vec<_> = world.refusals().iter().map(|refused| refused.reason.code()).collect();
        assert_eq!(refused, if accepted { vec![] } else { vec!["counter_gap"] }, "{version} {wanted:?}");
    }
}

#[test]
fn an_answer_in_rx2_says_why_it_is_not_in_rx1() {
    let mut world = World::new();
    let mut session = world.join(1);
    let reason = |world: &World| {
        let downlink = world.events().find_map(|e| if let Event::Downlink(d) = e { d.sent.clone() } else { None });
        downlink.map(|sent| (sent.transmission.window, sent.why_rx2))
    };
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    world.report(world.transmission().id, Ok(()));
    assert_eq!(reason(&world), Some((Window::Rx1, None)));
    world.pass(10 * SECOND);
    world.effects.clear();
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    for _ in 0..2 {
        let id = world.transmissions().last().unwrap().id;
        world.report(id, Err(TxFailure::TooLate));
    }
    let id = world.transmissions().last().unwrap().id;
    world.report(id, Ok(()));
    assert_eq!(reason(&world), Some((Window::Rx2, Some(WhyRx2::Refused))));
    // At SF12 RX1 would take a large part of the hour.
    world.pass(10 * SECOND);
    world.effects.clear();
    world.sf = 12;
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    world.report(world.transmission().id, Ok(()));
    let Some((Window::Rx2, Some(WhyRx2::Cheaper { rx1_share, rx2_share }))) = reason(&world) else {
        panic!("{:?}", world.effects)
    };
    assert!(rx1_share > 2.0 * rx2_share);
}

#[test]
fn what_a_gateway_refused_is_told_and_can_be_forgotten() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&session.uplink(&[1], UplinkFlags::default(), true));
    let refused = world.transmission();
    world.report(refused.id, Err(TxFailure::Frequency));
    let cannot = world.engine.gateway_status(refused.gateway, world.now).unwrap().cannot;
    assert_eq!((cannot.len(), cannot[0].frequency_hz, cannot[0].since), (1, refused.frequency_hz, world.now));
    world.command(Command::ForgetRefusals { gateway: refused.gateway });
    assert_eq!(world.engine.gateway_status(refused.gateway, world.now).unwrap().cannot, []);
}

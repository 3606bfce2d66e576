//! Devices of every version and class, from their join to settled data rates: in EU868, US915 and AS923 with
//! its dwell time.

use engine::*;
use lorawan::region::Region;
use lorawan::{DevAddr, Eui64, MacVersion};
use simulator::device::{Build, Downlink, Identity, Listens};

use crate::field::*;

const HILL: Eui64 = Eui64(0x0210_0000_0000_0001);
const QUAY: Eui64 = Eui64(0x0210_0000_0000_0002);
const REGIONS: [Region; 3] = [Region::Eu868, Region::Us915, Region::As923_1];

/// The slowest data rate whose uplinks and answers keep to the dwell time.
fn slowest(region: Region) -> u8 {
    let plan = region.plan();
    let limits = lorawan::region::PayloadLimits { repeater: false, dwell_time: plan.dwell.uplink_ms.is_some() };
    (0..).find(|dr| plan.max_payload(*dr, limits).is_some_and(|max| max >= 11)).unwrap()
}

fn build(region: Region) -> Build {
    Build { adr: true, ..Build::plain(region, slowest(region)) }
}

fn profile(region: Region) -> RadioProfile {
    let mut profile = RadioProfile::of(region);
    if region == Region::Us915 {
        profile.channels = "8-15, 65".parse().unwrap();
    }
    profile
}

#[test]
fn a_device_joins_and_is_moved_to_the_data_rate_that_fits() {
    for region in REGIONS {
        let mut field = Field::new(&[(HILL, region), (QUAY, region)]);
        let near = field.add(build(region), profile(region), vec![(HILL, 9.0), (QUAY, -6.0)]);
        field.join(near);
        field.uplinks(near, 60);
        let (data_rate, tx_power) = field.nodes[near].device.rate_and_power();
        let plan = region.plan();
        let fastest = AdrLimits::of(plan).max_data_rate;
        assert_eq!(data_rate, fastest, "{region}: {:#?}", field.notices());
        assert!(tx_power > 0, "{region}: power is turned down by what remains");
        let status = field.status(near);
        let negotiated = status.negotiated.unwrap();
        assert_eq!(negotiated.known.adr.data_rate, data_rate, "{region}: the network knows");
        assert_eq!((negotiated.known, negotiated.under_way.len()), (negotiated.wanted, 0), "{region}: all is agreed");
        assert_eq!(negotiated.known.adr.channels, profile(region).channels);
        assert!(negotiated.health.is_some(), "{region}: it was asked for its battery");
        assert_eq!(field.noticed("unasked_answer"), 0, "{region}: {:#?}", field.notices());
        let decision = field.notices().into_iter().find_map(|n| if let Notice::Adr(d) = n { Some(d) } else { None });
        let decision = decision.unwrap();
        assert!(decision.airtime_us.1 < decision.airtime_us.0 && decision.charge_uah.1 < decision.charge_uah.0);
        assert!(decision.why().contains(&format!("to DR{}", decision.to.data_rate)), "{}", decision.why());
        println!("{region}: {}", decision.why());
    }
}

#[test]
fn downlinks_of_class_a_come_after_an_uplink_and_of_class_c_at_once() {
    for region in REGIONS {
        let mut field = Field::new(&[(HILL, region)]);
        let a = field.add(build(region), profile(region), vec![(HILL, 5.0)]);
        let listens = Build { listens: Listens::Always, ..build(region) };
        let c = field.add(listens, RadioProfile { class: Class::C, ..profile(region) }, vec![(HILL, 5.0)]);
        for node in [a, c] {
            field.join(node);
            field.uplinks(node, 2);
        }
        field.enqueue(a, 1, &[0xaa], false);
        field.enqueue(c, 2, &[0xcc], true);
        let asked = field.now;
        field.pass(5 * SECOND);
        assert_eq!(field.got(a), Vec::<Vec<u8>>::new(), "{region}: class A waits");
        assert_eq!(field.got(c), [[0xcc]], "{region}: class C does not: {:#?}", field.outbox_states());
        let sent = field.transmissions().into_iter().rfind(|t| t.window == Window::ClassC).unwrap();
        assert!(sent.at.since(asked) < SECOND && sent.when == When::AtOnce);
        assert_eq!(sent.frequency_hz, region.plan().rx2_frequency_hz);
        field.uplink(a, false);
        assert_eq!(field.got(a), [[0xaa]], "{region}");
        field.uplink(c, false);
        let last = field.outbox_states().into_iter().rev().find(|s| matches!(s, OutboxState::Acknowledged));
        assert!(last.is_some(), "{region}: it says so in its next uplink");
    }
}

#[test]
fn class_c_that_does_not_acknowledge_is_tried_again_and_given_up() {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let listens = Build { listens: Listens::Always, ..build(Region::Eu868) };
    let c = field.add(listens, RadioProfile { class: Class::C, ..profile(Region::Eu868) }, vec![(HILL, 5.0)]);
    field.join(c);
    field.uplinks(c, 2);
    field.forget();
    field.nodes[c].deaf = true;
    field.enqueue(c, 1, &[1], true);
    field.pass(2 * MINUTE);
    let counters: Vec<_> =
        field.outbox_states().into_iter().filter(|s| matches!(s, OutboxState::AwaitingAck(_))).collect();
    assert_eq!(counters.len(), usize::from(MAX_ATTEMPTS), "each time under a new counter: {counters:?}");
    let Some(OutboxState::Failed(why)) = field.outbox_states().last().copied() else {
        panic!("{:#?}", field.outbox_states())
    };
    assert!(why.contains("given up after 3 attempts: no acknowledgement within 10 s"), "{why}");
}

#[test]
fn class_b_listens_between_beacons_and_falls_back_without() {
    for region in REGIONS {
        let mut field = Field::new(&[]);
        let position_deg = Some((54.7, 3.9));
        let config = GatewayConfig { position_deg, beacons: true, ..GatewayConfig::new(HILL, region, 2.0) };
        field.gateway(config, true);
        let listens = Build { listens: Listens::InPingSlots(3), ..build(region) };
        let b = field.add(listens, RadioProfile { class: Class::B, ..profile(region) }, vec![(HILL, 5.0)]);
        field.join(b);
        field.uplinks(b, 2);
        assert_eq!(field.status(b).negotiated.unwrap().known.ping_periodicity, Some(3), "{region}: it has said so");
        field.pass(3 * MINUTE);
        let beacons = field.transmissions().into_iter().filter(|t| t.window == Window::Beacon).count();
        assert!(beacons >= 1, "{region}: a gateway with GPS time sends beacons");
        assert!(field.nodes[b].device.in_class_b(), "{region}: the device has found one");
        field.uplink(b, false);
        assert_eq!(field.status(b).class, Class::B, "{region}: and says so");
        field.pass(MINUTE);

        let asked = field.now;
        field.enqueue(b, 1, &[0xbb], false);
        field.enqueue(b, 2, &[0xbc], false);
        field.pass(2 * MINUTE);
        assert_eq!(field.got(b), [[0xbb], [0xbc]], "{region}: {:#?}", field.outbox_states());
        let slot = field.transmissions().into_iter().find(|t| t.window == Window::PingSlot).unwrap();
        assert!(matches!(slot.when, When::Gps(_)) && slot.at.since(asked) < 20 * SECOND);

        field.nodes[b].device.lose_beacon();
        field.uplink(b, false);
        assert_eq!(field.status(b).class, Class::A, "{region}: without a beacon it is of class A");
        assert_eq!(field.noticed("class_changed"), 2, "{region}");
        field.enqueue(b, 3, &[0xbd], false);
        field.uplink(b, false);
        assert_eq!(field.got(b).len(), 3, "{region}: and is reached after an uplink");
    }
}

#[test]
fn every_version_joins_and_exchanges_frames() {
    for version in MacVersion::ALL {
        let mut field = Field::new(&[(HILL, Region::Eu868)]);
        let built = Build { version, ..build(Region::Eu868) };
        let node = field.add(built, RadioProfile { version, ..profile(Region::Eu868) }, vec![(HILL, 5.0)]);
        field.join(node);
        field.enqueue(node, 1, &[7], true);
        field.uplink(node, true);
        field.uplink(node, true);
        assert_eq!(field.got(node), [[7]], "{version}: {:#?}", field.told());
        assert!(field.outbox_states().contains(&&OutboxState::Acknowledged), "{version}: {:#?}", field.outbox_states());
        let acks = field.nodes[node].received.iter().filter(|d| matches!(d, Downlink::Data { ack: true, .. })).count();
        assert_eq!(acks, 2, "{version}: both confirmed uplinks were acknowledged");
        assert_eq!(field.refusals(), Vec::<&Refusal>::new(), "{version}");
        // A second join: the old session is valid until the first uplink under the new one.
        let old = field.status(node).session.unwrap().dev_addr;
        field.join(node);
        let status = field.status(node);
        assert_eq!(status.session.unwrap().dev_addr, old, "{version}");
        let new = status.next_session.unwrap().dev_addr;
        field.uplink(node, false);
        let status = field.status(node);
        assert_eq!((status.session.unwrap().dev_addr, status.next_session), (new, None), "{version}");
        assert_eq!(field.engine.devices_at(old), [], "{version}: the old address is free");
    }
}

#[test]
fn a_1_1_device_rejoins_without_losing_a_frame() {
    let version = MacVersion::V1_1;
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let built = Build { version, ..build(Region::Eu868) };
    let node = field.add(built, RadioProfile { version, ..profile(Region::Eu868) }, vec![(HILL, 5.0)]);
    field.join(node);
    field.uplinks(node, 3);
    let mut addresses = vec![field.nodes[node].device.dev_addr().unwrap()];
    for kind in [0, 1, 2, 0] {
        let rejoin = field.nodes[node].device.rejoin_request(kind).unwrap();
        // Deaf, it does not hear the answer and goes on as before; the network does not mind.
        field.nodes[node].deaf = true;
        field.emit(node, &rejoin);
        field.nodes[node].deaf = false;
        field.uplink(node, true);
        assert_eq!(field.status(node).session.unwrap().dev_addr, *addresses.last().unwrap(), "type {kind}");
        let rejoin = field.nodes[node].device.rejoin_request(kind).unwrap();
        field.emit(node, &rejoin);
        addresses.push(field.nodes[node].device.dev_addr().unwrap());
        field.enqueue(node, 10 + addresses.len() as u128, &[kind], false);
        field.uplink(node, true);
        let session = field.status(node).session.unwrap();
        assert_eq!((session.dev_addr, session.counters.up), (*addresses.last().unwrap(), Some(0)), "type {kind}");
        assert!(session.speaks_1_1);
        field.pass(MINUTE);
    }
    assert_eq!(field.got(node), [[0], [1], [2], [0]], "application downlinks have a counter of their own");
    assert_eq!(field.refusals(), Vec::<&Refusal>::new());
    assert_eq!(field.noticed("session_began"), 5);
    // A recorded rejoin-request is no good a second time.
    let rejoin = field.nodes[node].device.rejoin_request(0).unwrap();
    field.emit(node, &rejoin);
    field.pass(MINUTE);
    field.emit(node, &rejoin);
    assert!(matches!(field.refusals()[..], [Refusal::RejoinCount { .. }]), "{:?}", field.refusals());
}

#[test]
fn a_personalized_device_has_its_session_and_may_restart_its_counter() {
    for (version, accepts) in MacVersion::ALL.into_iter().flat_map(|version| [(version, false), (version, true)]) {
        let keys = lorawan::crypto::SessionKeys11 {
            f_nwk_s_int_key: lorawan::AesKey([1; 16]),
            s_nwk_s_int_key: lorawan::AesKey([if version == MacVersion::V1_1 { 2 } else { 1 }; 16]),
            nwk_s_enc_key: lorawan::AesKey([if version == MacVersion::V1_1 { 3 } else { 1 }; 16]),
            app_s_key: lorawan::AesKey([4; 16]),
        };
        let (dev_eui, dev_addr) = (Eui64(0x02bb_0000_0000_0200), DevAddr(0x0011_2233));
        let identity = Identity { personal: Some((dev_addr, keys)), ..Identity::joining(dev_eui, JOIN, APP_KEY) };
        let activation = Activation::Personalized { dev_addr, keys: Box::new(keys) };
        let region = Region::Eu868;
        let profile = RadioProfile { version, counter_restart: accepts, ..profile(region) };
        let mut field = Field::new(&[(HILL, region)]);
        let node =
            field.add_as(identity, Build { version, ..build(region) }, activation, profile.clone(), vec![(HILL, 5.0)]);
        field.uplinks(node, 30);
        assert_eq!(field.status(node).session.unwrap().counters.up, Some(29), "{version}: {:?}", field.refusals());
        let known = field.status(node).negotiated.unwrap().known;
        assert_eq!(known.defined, profile.channels, "{version}: it was given the network's channels");
        assert!(known.adr.data_rate > 0, "{version}: and a faster data rate");
        assert!(known.adr.tx_power > 0, "{version}: and less power");

        field.nodes[node].device.restart();
        field.forget();
        field.uplinks(node, 1);
        if accepts {
            let known = field.status(node).negotiated.unwrap().known;
            assert_eq!(known.adr.tx_power, 0, "{version}: it sends at full power again");
            assert_ne!(known.defined, profile.channels, "{version}: it has forgotten the network's channels");
            let sent_with = field.told().iter().find_map(|event| match event {
                Event::Uplink(uplink) => uplink.power_dbm,
                _ => None,
            });
            assert_eq!(sent_with, Some(16.0), "{version}");
        }
        field.uplinks(node, 2);
        let up = field.status(node).session.unwrap().counters.up;
        if accepts {
            assert_eq!((up, field.noticed("counter_restarted")), (Some(2), 1), "{version}: once, and loudly");
            assert!(field.notices().iter().any(|n| n.wants_attention() && n.next_step().contains("replayed")));
        } else {
            assert_eq!(up, Some(29), "{version}");
            assert!(matches!(field.refusals()[0], Refusal::CounterTooLow { received: 0, last: 29 }));
        }
    }
}

#[test]
fn a_week_passes_in_seconds() {
    let mut field = Field::new(&[(HILL, Region::Eu868), (QUAY, Region::Eu868)]);
    let nodes: Vec<usize> = (0..6u8)
        .map(|i| {
            let heard = vec![(HILL, 10.0 - 4.0 * f32::from(i)), (QUAY, -9.0)];
            field.add(build(Region::Eu868), profile(Region::Eu868), heard)
        })
        .collect();
    for node in &nodes {
        field.join(*node);
    }
    let start = field.now;
    let mut accepted = 0;
    while field.now.since(start) < 7 * 24 * HOUR {
        for node in &nodes {
            field.uplink(*node, false);
            field.pass(MINUTE);
        }
        field.pass(9 * MINUTE);
        accepted += field.told().iter().filter(|e| matches!(e, Event::Uplink(_))).count();
        assert_eq!(field.refusals(), Vec::<&Refusal>::new());
        field.forget();
    }
    assert!(accepted > 6 * 600, "{accepted} uplinks");
    let rates: Vec<u8> = nodes.iter().map(|n| field.nodes[*n].device.rate_and_power().0).collect();
    assert!(rates.windows(2).all(|w| w[0] >= w[1]), "the further, the slower: {rates:?}");
    assert_eq!(rates[0], 5);
    for gateway in [HILL, QUAY] {
        for band in field.engine.gateway_status(gateway, field.now).unwrap().airtime {
            assert!(band.airtime_us <= band.sub_band.hourly_allowance_us());
        }
    }
}

//! The same engine in every region: windows where the region's table says, and nothing it forbids.

use engine::*;
use lorawan::crypto::{MicKey, PayloadKey, session_keys};
use lorawan::region::{PayloadLimits, Region, Use};
use lorawan::wire::{DataRepr, JoinAccept, UplinkFlags};
use lorawan::{AesKey, Modulation};

use crate::world::{DEV, KEY, NEAR, SECOND, World, device_with, quiet};

/// A gateway and a device in a region.
fn world(region: Region) -> World {
    let mut world = World::empty(7);
    world.command(Command::PutGateway(GatewayConfig::new(NEAR, region, 2.0)));
    world.command(Command::PutDevice(Box::new(device_with(DEV, quiet(region)))));
    world
}

fn hear(world: &mut World, phy_payload: Vec<u8>, frequency_hz: u32, modulation: Modulation) -> Vec<Transmission> {
    world.effects.clear();
    let reception = Reception { frequency_hz, modulation, ..world.reception(NEAR, 5.0) };
    let frame = FrameHeard { phy_payload, reception };
    world.engine.handle(world.now, Input::FrameHeard(frame), &mut world.effects);
    world.pass(SECOND / 5);
    let mut sent = world.transmissions();
    // Refused once, it is tried in RX2.
    if let Some(first) = sent.first() {
        let id = first.id;
        world.effects.clear();
        world.report(id, Err(TxFailure::CollisionPacket));
        sent.extend(world.transmissions());
    }
    world.pass(7 * SECOND);
    sent
}

#[test]
fn a_join_is_answered_where_the_region_says() {
    for region in Region::ALL {
        let plan = region.plan();
        for (channel, dev_nonce) in plan.join_channels().zip(1..) {
            // The slowest data rate that the join may use and that can carry an answer.
            let usable = |dr: u8| plan.max_payload(dr, PayloadLimits::default()).is_some();
            let rate = (channel.min_data_rate..=channel.max_data_rate).find(|dr| usable(*dr)).unwrap();
            let modulation = plan.data_rate(rate).unwrap().modulation;
            let mut world = world(region);
            let sent = hear(&mut world, World::join_request(dev_nonce), channel.frequency_hz, modulation);
            // A slow answer goes to RX2 first where there is more airtime.
            let in_window = |window| sent.iter().find(|t| t.window == window).map(|t| t.frequency_hz);
            let places = (in_window(Window::Rx1), in_window(Window::Rx2));
            let expected = (Some(channel.rx1_frequency_hz), Some(channel.rx2_frequency_hz));
            assert_eq!(places, expected, "{region} {channel:?}");
            // The gateway's own limit less its antenna's gain of 2 dBi, and no more than concentrators give.
            for downlink in &sent {
                let limit_dbm = plan.sub_band(downlink.frequency_hz).unwrap().gateway_eirp_dbm.min(27.0);
                assert_eq!(downlink.power_dbm, (limit_dbm - 2.0).floor() as i32, "{region} {downlink:?}");
            }
            let accept = JoinAccept::open(&sent[0].phy_payload, &KEY).unwrap();
            assert_eq!(accept.rx2_data_rate, plan.rx2_data_rate);
            let on = plan.after_cf_list(&accept.cf_list.unwrap()).expect("a list of the region's form");
            assert_eq!(on.len() as usize, plan.network_uplinks().count(), "{region}");
        }
    }
}

#[test]
fn an_uplink_is_answered_where_the_region_says() {
    for region in Region::ALL {
        let plan = region.plan();
        let dwell_time = plan.dwell.downlink_ms.is_some();
        let mut world = world(region);
        let join = plan.join_channels().next().unwrap();
        let rate = plan.data_rate(join.max_data_rate).unwrap().modulation;
        let accepted = hear(&mut world, World::join_request(1), join.frequency_hz, rate);
        let accept = JoinAccept::open(&accepted[0].phy_payload, &KEY).unwrap();
        let keys = session_keys(&KEY, accept.join_nonce, accept.net_id, 1);
        let sign = |key: &AesKey| MicKey::new(key);
        for ((index, rate), counter) in plan.data_rates().filter(|(_, d)| d.direction != Use::Down).zip(0..) {
            let channel = plan
                .network_uplinks()
                .find(|c| (c.min_data_rate..=c.max_data_rate).contains(&index))
                .or_else(|| plan.network_uplinks().last().filter(|_| plan.dynamic()))
                .map(|c| c.frequency_hz);
            // DR6 and above of CN470 are on no channel of the plan.
            let Some(frequency_hz) = channel else { continue };
            let frame = DataRepr::uplink(accept.dev_addr, counter, UplinkFlags::default(), Some((1, b"x")))
                .confirmed(true)
                .emit(&sign(&keys.nwk_s_key), &PayloadKey::new(&keys.app_s_key))
                .unwrap();
            let sent = hear(&mut world, frame, frequency_hz, rate.modulation);
            let rx1 = plan.rx1_data_rate(index, 0, dwell_time).unwrap();
            let first = sent.iter().find(|t| t.window == Window::Rx1).or(sent.first());
            let first = first.unwrap_or_else(|| panic!("{region} DR{index} is not answered"));
            let limits = PayloadLimits { repeater: false, dwell_time };
            if plan.max_payload(rx1, limits).is_none() {
                // DR0 of CN470 cannot answer within its second; RX2 can.
                assert_eq!(first.frequency_hz, join.rx2_frequency_hz, "{region} DR{index}: where the join has put it");
                continue;
            }
            let expected = plan.rx1_frequency_hz(frequency_hz, index).unwrap_or(frequency_hz);
            assert_eq!(first.frequency_hz, expected, "{region} DR{index}");
            assert_eq!(first.modulation, plan.data_rate(rx1).unwrap().modulation, "{region} DR{index}");
        }
    }
}

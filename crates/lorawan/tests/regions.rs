//! The regions' tables read back against numbers of RP002-1.0.4 typed in here a second time, and
//! against what must hold between them.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::limits::largest_phy_payload;
use lorawan::region::{CfListForm, ChannelSet, PayloadLimits, Region, Use};
use lorawan::wire::CfList;
use lorawan::{DevAddr, Direction, Modulation, airtime};

const PLAIN: PayloadLimits = PayloadLimits { repeater: false, dwell_time: false };
const REPEATER: PayloadLimits = PayloadLimits { repeater: true, dwell_time: false };
const DWELL: PayloadLimits = PayloadLimits { repeater: false, dwell_time: true };

/// Channel counts, first and last uplink, RX2, highest TXPower and its reference, and the highest
/// RX1DROffset.
#[test]
fn every_region_at_a_glance() {
    use Region::*;
    let glance = [
        (Eu868, 3, 868_100_000, 868_500_000, (869_525_000, 0), (16.0, 7), 5),
        (Us915, 72, 902_300_000, 914_200_000, (923_300_000, 8), (30.0, 14), 3),
        (Cn779, 3, 779_500_000, 779_900_000, (786_000_000, 0), (12.15, 5), 5),
        (Eu433, 3, 433_175_000, 433_575_000, (434_665_000, 0), (12.15, 5), 5),
        (Au915, 72, 915_200_000, 927_100_000, (923_300_000, 8), (30.0, 14), 5),
        (Cn470A20, 64, 470_300_000, 509_700_000, (486_900_000, 1), (19.15, 7), 5),
        (Cn470B20, 64, 476_900_000, 503_100_000, (498_300_000, 1), (19.15, 7), 5),
        (Cn470A26, 48, 470_300_000, 479_700_000, (492_500_000, 1), (19.15, 7), 5),
        (Cn470B26, 48, 480_300_000, 489_700_000, (502_500_000, 1), (19.15, 7), 5),
        (As923_1, 2, 923_200_000, 923_400_000, (923_200_000, 2), (16.0, 7), 7),
        (As923_2, 2, 921_400_000, 921_600_000, (921_400_000, 2), (16.0, 7), 7),
        (As923_3, 2, 916_600_000, 916_800_000, (916_600_000, 2), (16.0, 7), 7),
        (As923_4, 2, 917_300_000, 917_500_000, (917_300_000, 2), (16.0, 7), 7),
        (Kr920, 3, 922_100_000, 922_500_000, (921_900_000, 0), (14.0, 7), 5),
        (In865, 3, 865_062_500, 865_985_000, (866_550_000, 2), (30.0, 10), 7),
        (Ru864, 2, 868_900_000, 869_100_000, (869_100_000, 0), (16.0, 7), 5),
    ];
    assert_eq!(glance.len(), Region::ALL.len());
    for (region, count, first, last, rx2, (max_dbm, highest), offset) in glance {
        let plan = region.plan();
        let channels: Vec<u32> = plan.uplinks().map(|c| c.frequency_hz).collect();
        assert_eq!((channels.len(), channels[0], channels[count - 1]), (count, first, last), "{region}");
        assert_eq!((plan.rx2_frequency_hz, plan.rx2_data_rate), rx2, "{region}");
        assert_eq!((plan.tx_power.max_dbm, plan.tx_power.highest), (max_dbm, highest), "{region}");
        assert_eq!(plan.tx_power.dbm(1), Some(max_dbm - 2.0));
        assert_eq!(plan.tx_power.dbm(highest + 1), None);
        assert_eq!(plan.max_rx1_offset(), offset, "{region}");
    }
}

/// FRMPayload by data rate (column *N*), as RP002's tables have it.
#[test]
fn payloads_by_data_rate() {
    let n = |region: Region, limits| -> Vec<usize> {
        (0..14).map(|dr| region.plan().max_payload(dr, limits).unwrap_or(0)).collect()
    };
    let eu = [51, 51, 51, 115, 242, 242, 242, 242, 50, 115, 50, 115, 0, 0];
    assert_eq!(n(Region::Eu868, PLAIN), eu);
    assert_eq!(n(Region::Eu868, REPEATER), [51, 51, 51, 115, 222, 222, 222, 222, 50, 115, 50, 115, 0, 0]);
    let us = [11, 53, 125, 242, 242, 50, 125, 0, 53, 129, 242, 242, 242, 242];
    assert_eq!(n(Region::Us915, PLAIN), us);
    assert_eq!(n(Region::Us915, DWELL), us, "worked into the one table");
    assert_eq!(n(Region::Us915, REPEATER), [11, 53, 125, 222, 222, 50, 125, 0, 33, 109, 222, 222, 222, 222]);
    assert_eq!(n(Region::Au915, PLAIN), [51, 51, 51, 115, 242, 242, 242, 50, 53, 129, 242, 242, 242, 242]);
    assert_eq!(n(Region::Au915, DWELL), [0, 0, 11, 53, 125, 242, 242, 50, 53, 129, 242, 242, 242, 242]);
    let as_long = [51, 51, 115, 115, 242, 242, 242, 242, 0, 0, 0, 0, 0, 0];
    assert_eq!(n(Region::As923_2, PLAIN), as_long);
    assert_eq!(n(Region::As923_2, DWELL), [0, 0, 11, 53, 125, 242, 242, 242, 0, 0, 0, 0, 0, 0]);
    assert_eq!(n(Region::Cn470A26, PLAIN), [0, 23, 86, 184, 242, 242, 242, 242, 0, 0, 0, 0, 0, 0]);
    assert_eq!(n(Region::Kr920, PLAIN), [51, 51, 51, 115, 242, 242, 0, 0, 0, 0, 0, 0, 0, 0]);
    assert_eq!(n(Region::In865, PLAIN), [51, 51, 51, 115, 242, 242, 0, 242, 0, 0, 0, 0, 0, 0]);
    for region in [Region::Ru864, Region::Eu433, Region::Cn779] {
        assert_eq!(n(region, PLAIN), [51, 51, 51, 115, 242, 242, 242, 242, 0, 0, 0, 0, 0, 0], "{region}");
    }
}

/// Where a dwell time decides the payload, the table's largest frame keeps it and, at the slow data
/// rates, one byte more would not.
#[test]
fn payloads_fill_the_dwell_time() {
    for (region, dwell_ms, rates) in [
        (Region::Us915, 400, 0..3),
        (Region::Au915, 400, 2..5),
        (Region::As923_1, 400, 2..5),
        (Region::Cn470A20, 1000, 1..4),
    ] {
        let plan = region.plan();
        assert_eq!(plan.dwell.uplink_ms, Some(dwell_ms));
        for dr in rates {
            let modulation = plan.data_rate(dr).unwrap().modulation;
            // MHDR and MIC stand round the MACPayload.
            let phy = plan.max_mac_payload(dr, DWELL).unwrap() + 5;
            let limit_us = u64::from(dwell_ms) * 1000;
            let largest = largest_phy_payload(modulation, Direction::Up, limit_us).unwrap();
            assert!(phy <= largest && largest - phy <= 1, "{region} DR{dr}: table {phy}, airtime allows {largest}");
            assert!(airtime::uplink_us(modulation, phy) <= limit_us);
        }
    }
    let slow = Region::Cn470B20.plan().data_rate(0).unwrap().modulation;
    assert_eq!(largest_phy_payload(slow, Direction::Up, 1_000_000).filter(|len| *len >= 13), None, "so DR0 has none");
}

#[test]
fn rx1_data_rates() {
    let rx1 = |region: Region, up, offset| region.plan().rx1_data_rate(up, offset, false);
    for up in 0..8u8 {
        for offset in 0..6u8 {
            for region in [Region::Eu868, Region::Ru864, Region::Eu433, Region::Cn779] {
                assert_eq!(rx1(region, up, offset), Some(up.saturating_sub(offset)), "{region}");
            }
            // MAX(MinDR, MIN(7, up − effective offset)), AS923 with and without DownlinkDwellTime.
            for (dwell, min) in [(false, 0), (true, 2)] {
                let plan = Region::As923_3.plan();
                assert_eq!(plan.rx1_data_rate(up, offset, dwell), Some(up.saturating_sub(offset).max(min)));
                for (offset, more) in [(6, 1), (7, 2)] {
                    assert_eq!(plan.rx1_data_rate(up, offset, dwell), Some((up + more).clamp(min, 7)));
                }
            }
            let au = (up + 8).saturating_sub(offset).clamp(8, 13);
            let au = if up == 6 { (14 - offset).clamp(8, 13) } else { au };
            let au = if up == 7 { 9u8.saturating_sub(offset).max(8) } else { au };
            assert_eq!(rx1(Region::Au915, up, offset), Some(au), "AU915 DR{up}, offset {offset}");
        }
    }
    for up in 0..5u8 {
        for offset in 0..4u8 {
            assert_eq!(rx1(Region::Us915, up, offset), Some((up + 10).saturating_sub(offset).clamp(8, 13)));
        }
    }
    assert_eq!(rx1(Region::Us915, 4, 0), Some(13));
    assert_eq!(rx1(Region::Us915, 0, 4), None, "offsets above 3 are reserved");
    assert_eq!(rx1(Region::Eu868, 5, 6), None);
    assert_eq!((rx1(Region::Eu868, 8, 0), rx1(Region::Eu868, 11, 0)), (Some(1), Some(2)), "LR-FHSS");
    assert_eq!((rx1(Region::Cn470A20, 5, 5), rx1(Region::Cn470A20, 0, 0)), (Some(1), Some(0)));
    assert_eq!(
        (rx1(Region::In865, 5, 7), rx1(Region::In865, 5, 6), rx1(Region::In865, 6, 0)),
        (Some(7), Some(5), None)
    );
}

/// What the tables point at must be there, and at a data rate for that direction.
#[test]
fn tables_agree_with_themselves() {
    for region in Region::ALL {
        let plan = region.plan();
        assert_eq!(plan.region, region);
        let down = |dr: u8| plan.data_rate(dr).is_some_and(|d| d.direction != Use::Up);
        let up = |dr: u8| plan.data_rate(dr).is_some_and(|d| d.direction != Use::Down);
        for table in [Some(plan.rx1_data_rate), plan.rx1_data_rate_dwell].into_iter().flatten() {
            for (dr, row) in table.iter().enumerate() {
                assert_eq!(row.is_empty(), !up(dr as u8), "{region}: RX1 row of DR{dr}");
                assert!(row.iter().all(|dr| down(*dr)), "{region}: RX1 row of DR{dr}");
                assert!(row.is_empty() || row.len() == usize::from(plan.max_rx1_offset()) + 1);
            }
        }
        assert!(down(plan.rx2_data_rate));
        assert!(
            plan.class_b.beacon.max_data_rate == plan.class_b.beacon.min_data_rate
                && down(plan.class_b.beacon.min_data_rate)
        );
        for (dr, rate) in plan.data_rates() {
            if up(dr) {
                assert_eq!(plan.uplink_data_rate_of(rate.modulation), Some(dr), "{region} DR{dr}");
            }
            if down(dr) {
                assert_eq!(plan.downlink_data_rate_of(rate.modulation), Some(dr), "{region} DR{dr}");
            }
        }
        let all = plan.network_uplinks().chain(plan.downlinks());
        for channel in all {
            assert!((plan.band_hz.0..plan.band_hz.1).contains(&channel.frequency_hz), "{region} {channel:?}");
            assert!(plan.sub_band(channel.frequency_hz).is_some(), "{region} {channel:?}");
        }
        for channel in plan.network_uplinks() {
            assert!(up(channel.min_data_rate) && up(channel.max_data_rate));
            let rx1 = plan.rx1_frequency_hz(channel.frequency_hz, channel.min_data_rate).unwrap();
            assert!(plan.sub_band(rx1).is_some(), "{region}: RX1 of {channel:?} on {rx1} Hz");
        }
        for channel in plan.join_channels() {
            for hz in [channel.frequency_hz, channel.rx1_frequency_hz, channel.rx2_frequency_hz] {
                assert!(plan.sub_band(hz).is_some(), "{region} {channel:?}");
            }
        }
        assert!(plan.sub_bands.windows(2).all(|w| w[0].to_hz <= w[1].from_hz), "in order, without overlap");
        assert_eq!(plan.dynamic(), plan.downlinks.is_empty());
        assert_eq!(region.name().parse(), Ok(region));
        assert_eq!(serde_json::to_value(region).unwrap(), region.name());
        assert!(region.name().len() <= 12, "the column in the records is as wide");
    }
    assert_eq!("us 915".parse(), Ok(Region::Us915));
    assert_eq!("as9231".parse(), Ok(Region::As923_1));
    let wrong = "EU999".parse::<Region>().unwrap_err().to_string();
    assert!(wrong.starts_with("\"EU999\" is not a region: EU868, US915, CN779"), "{wrong}");
}

#[test]
fn rx1_channels() {
    let us = Region::Us915.plan();
    // Channel 10 (904.3 MHz) is answered on downlink channel 2, channel 65 (904.6 MHz) on 1.
    assert_eq!(us.rx1_frequency_hz(904_300_000, 3), Some(924_500_000));
    assert_eq!(us.rx1_frequency_hz(904_600_000, 4), Some(923_900_000));
    assert_eq!(us.rx1_frequency_hz(904_350_000, 3), None, "no channel of the plan");
    assert_eq!(Region::Eu868.plan().rx1_frequency_hz(867_900_000, 0), Some(867_900_000));
    assert_eq!(Region::Cn470A20.plan().rx1_frequency_hz(503_500_000, 0), Some(490_300_000), "channel 32");
    assert_eq!(Region::Cn470B20.plan().rx1_frequency_hz(496_900_000, 0), Some(496_900_000));
    // 26 MHz: channel 30 is answered on 30 mod 24 = 6.
    assert_eq!(Region::Cn470A26.plan().rx1_frequency_hz(476_300_000, 0), Some(491_300_000));
}

#[test]
fn a_join_in_cn470_decides_what_follows() {
    let joins: Vec<_> = Region::Cn470A20.plan().join_channels().collect();
    assert_eq!(joins.iter().map(|j| j.index).collect::<Vec<_>>(), [0, 1, 2, 3, 4, 5, 6, 7]);
    let fifth = joins[4];
    assert_eq!(
        (fifth.frequency_hz, fifth.rx1_frequency_hz, fifth.rx2_frequency_hz),
        (504_100_000, 490_900_000, 491_700_000)
    );
    let last = Region::Cn470B26.plan().join_channels().last().unwrap();
    assert_eq!((last.index, last.frequency_hz, last.rx1_frequency_hz), (19, 488_300_000, 502_500_000));
    let all = [Region::Cn470A20, Region::Cn470B20, Region::Cn470A26, Region::Cn470B26];
    let common: Vec<u8> = all.iter().flat_map(|r| r.plan().join_channels()).map(|j| j.index).collect();
    assert_eq!(common, (0..20).collect::<Vec<u8>>(), "twenty common join channels");
}

#[test]
fn class_b_hops_where_the_region_says() {
    let us = Region::Us915.plan();
    for (period, beacon_hz) in [(0, 923_300_000), (1, 923_900_000), (9, 923_900_000), (7, 927_500_000)] {
        let at = us.class_b_frequencies(period * 128, DevAddr(3), None);
        assert_eq!(at.beacon_hz, beacon_hz);
        assert_eq!(at.ping_slot_hz, 923_300_000 + 600_000 * ((3 + period) % 8));
    }
    let at = us.class_b_frequencies(u32::MAX / 128 * 128, DevAddr(u32::MAX), None);
    assert_eq!((at.beacon_hz, at.ping_slot_hz), (927_500_000, 923_300_000 + 600_000 * 6));
    let eu = Region::Eu868.plan().class_b_frequencies(128, DevAddr(3), None);
    assert_eq!((eu.beacon_hz, eu.ping_slot_hz), (869_525_000, 869_525_000));
    assert_eq!(Region::In865.plan().class_b.beacon.min_data_rate, 4);
    let ru = Region::Ru864.plan().class_b;
    assert_eq!((ru.beacon.first_hz, ru.ping_slot.first_hz), (869_100_000, 868_900_000));
    let cn = Region::Cn470A20.plan();
    let joined = cn.join_channels().nth(1);
    assert_eq!(cn.class_b_frequencies(128, DevAddr(0), joined).beacon_hz, 485_700_000, "483.9 + 1.6 + 0.2 MHz");
}

#[test]
fn cf_lists_have_the_regions_form() {
    let eu = Region::Eu868.plan();
    let list = eu.cf_list(ChannelSet::EMPTY);
    assert_eq!(list, CfList::Frequencies([867_100_000, 867_300_000, 867_500_000, 867_700_000, 867_900_000]));
    assert_eq!(eu.after_cf_list(&list).unwrap().to_string(), "0-7");
    assert_eq!(eu.after_cf_list(&CfList::Masks([1; 5])), None, "the wrong type is discarded");
    let us = Region::Us915.plan();
    let second = us.eight_channels(1).unwrap();
    assert_eq!(second.to_string(), "8-15, 65");
    let list = us.cf_list(second);
    assert_eq!(list, CfList::Masks([0xff00, 0, 0, 0, 0x0002]));
    assert_eq!(us.after_cf_list(&list), Some(second));
    assert_eq!(us.after_cf_list(&CfList::Frequencies([0; 5])), None);
    assert_eq!(us.after_cf_list(&CfList::Other { kind: 2, bytes: [0; 15] }), None);
    assert_eq!((us.eight_channels(8), Region::Cn470A20.plan().eight_channels(0)), (None, None));
    assert_eq!(Region::Cn470A26.plan().cf_list, CfListForm::Masks(3));
}

/// Powers are single-precision numbers, and must not show it.
#[test]
fn powers_are_written_as_in_the_tables() {
    let tidy = |dbm: f32| dbm.to_string().split_once('.').is_none_or(|(_, decimals)| decimals.len() <= 2);
    for region in Region::ALL {
        let plan = region.plan();
        assert!((0..=plan.tx_power.highest).all(|index| tidy(plan.tx_power.dbm(index).unwrap())), "{region}");
        assert!(plan.sub_bands.iter().all(|band| tidy(band.max_eirp_dbm)), "{region}");
        assert!(plan.sub_bands.iter().all(|band| band.gateway_eirp_dbm >= band.max_eirp_dbm), "{region}");
    }
    assert_eq!(Region::Cn470A20.plan().tx_power.dbm(7), Some(5.15));
}

/// RP002-1.0.4 §2.11.2: devices are held to 10 or 14 dBm, gateways to 23 dBm on every channel.
#[test]
fn gateways_in_korea_may_be_louder_than_devices() {
    let korea = Region::Kr920.plan();
    let limits = |hz| korea.sub_band(hz).map(|band| (band.max_eirp_dbm, band.gateway_eirp_dbm));
    assert_eq!(limits(korea.rx2_frequency_hz), Some((10.0, 23.0)));
    assert_eq!(limits(922_100_000), Some((14.0, 23.0)));
    let eu = Region::Eu868.plan().sub_band(868_100_000).unwrap();
    assert_eq!(eu.gateway_eirp_dbm, eu.max_eirp_dbm);
}

#[test]
fn sub_bands_of_europe() {
    let eu = Region::Eu868.plan();
    for channel in eu.network_uplinks() {
        let band = eu.sub_band(channel.frequency_hz).unwrap();
        assert_eq!(band.hourly_allowance_us(), 36_000_000, "1 % of an hour at {} Hz", channel.frequency_hz);
    }
    let rx2 = eu.sub_band(eu.rx2_frequency_hz).unwrap();
    assert_eq!((rx2.name, rx2.hourly_allowance_us(), rx2.max_eirp_dbm), ("P", 360_000_000, 29.15));
    assert_eq!(eu.sub_band(868_650_000), None, "between M and N nothing may be sent");
    assert_eq!(Region::Us915.plan().sub_band(902_300_000).unwrap().duty_cycle_ppm, None);
    assert_eq!(eu.data_rate(0).unwrap().modulation, Modulation::lora(12, 125).unwrap());
}

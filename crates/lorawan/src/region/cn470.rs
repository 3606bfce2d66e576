//! CN470-510 (RP002 §2.9): four plans, for antennas of 20 MHz and of 26 MHz, types A and B.
//!
//! A device tries twenty join channels that all plans share out among them; the one that is answered
//! tells it the plan, and in the 20 MHz plans also RX2 and the channels of class B.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DataRate, Dwell, JoinBlock, MaskMeaning, Plan, RX1_0_TO_7, Rx1Channel, SubBand, TxPower,
};
use crate::modulation::Bandwidth::{Khz125, Khz500};

const STEP_HZ: u32 = 200_000;

/// `count` channels at DR0 to DR5 (§2.9.2).
const fn run(first_index: u8, count: u8, first_hz: u32) -> Block {
    Block::new(first_index, count, first_hz, STEP_HZ, (0, 5))
}

/// Join channels lie further apart than the others.
const fn spread(first_index: u8, count: u8, first_hz: u32, step_hz: u32) -> Block {
    Block::new(first_index, count, first_hz, step_hz, (0, 5))
}

/// §2.9.3 for the modulations, §2.9.6 for the payloads: what fits into a second.
const DATA_RATES: [Option<DataRate>; 8] = [
    Some(DataRate::lora(12, Khz125, 0)),
    Some(DataRate::lora(11, Khz125, 31)),
    Some(DataRate::lora(10, Khz125, 94)),
    Some(DataRate::lora(9, Khz125, 192)),
    Some(DataRate::lora(8, Khz125, 250)),
    Some(DataRate::lora(7, Khz125, 250)),
    Some(DataRate::lora(7, Khz500, 250)),
    Some(DataRate::fsk50(250)),
];

/// §2.9.7: never down to DR0, unless the uplink was.
const RX1: [&[u8]; 8] = {
    let [a, _, _, _, _, _, g, h] = RX1_0_TO_7;
    [a, &[1, 1, 1, 1, 1, 1], &[2, 1, 1, 1, 1, 1], &[3, 2, 1, 1, 1, 1], &[4, 3, 2, 1, 1, 1], &[5, 4, 3, 2, 1, 1], g, h]
};

/// §2.9.5, 20 MHz.
const MASKS_20: [MaskMeaning; 8] = {
    use MaskMeaning::{AllOff, AllOn, Reserved, Sixteen};
    [Sixteen(0), Sixteen(16), Sixteen(32), Sixteen(48), Reserved, Reserved, AllOn, AllOff]
};

/// §2.9.5, 26 MHz.
const MASKS_26: [MaskMeaning; 8] = {
    use MaskMeaning::{AllOff, AllOn, Reserved, Sixteen};
    [Sixteen(0), Sixteen(16), Sixteen(32), AllOn, AllOff, Reserved, Reserved, Reserved]
};

const DWELL: Dwell = Dwell {
    uplink_ms: Some(1000),
    downlink_ms: Some(1000),
    by_command: false,
    source: "MIIT announcement 52/2019, 470-510 MHz metering band",
};

/// §2.9.8: SF10 at 125 kHz. In the 20 MHz plans beacons and ping slots hop over eight channels.
const fn hopping(first_hz: u32) -> ClassB {
    let eight = Block::new(0, 8, first_hz, STEP_HZ, (2, 2));
    ClassB { beacon: eight, ping_slot: eight }
}

macro_rules! variant {
    (
        $plan:ident, $region:ident, $name:literal, $title:literal, up: $up:expr, down: $down:expr, joins: $joins:expr,
        rx1: $rx1:expr, rx2: $rx2:literal, groups: $groups:literal, masks: $masks:expr,
        class_b: $class_b:expr
    ) => {
        pub(super) static $plan: Plan = Plan {
            region: Region::$region,
            name: $name,
            title: $title,
            source: "RP002-1.0.4 §2.9",
            band_hz: (470_000_000, 510_000_000),
            uplinks: $up,
            downlinks: $down,
            joins: $joins,
            added_channels_hz: &[],
            data_rates: &DATA_RATES,
            rx1_channel: $rx1,
            rx1_data_rate: &RX1,
            rx1_data_rate_dwell: None,
            rx2_frequency_hz: $rx2,
            rx2_data_rate: 1,
            // §2.9.3
            tx_power: TxPower::eirp(19.15, 7),
            // §2.9.4
            cf_list: CfListForm::Masks($groups),
            ch_mask_cntl: $masks,
            dwell: DWELL,
            class_b: $class_b,
            sub_bands: &[SubBand::new(
                "470-510",
                470_000_000,
                510_000_000,
                None,
                19.15,
                "RP002 §2.9.3; MIIT announcement 52/2019 (50 mW e.r.p.)",
            )],
            notes: &["DR0 cannot carry a frame within one second, so it has no payload."],
        };
    };
}

variant! {
    A20, Cn470A20, "CN470-20A", "CN470-510, 20 MHz antenna, plan type A",
    up: &[run(0, 32, 470_300_000), run(32, 32, 503_500_000)],
    down: &[run(0, 32, 483_900_000), run(32, 32, 490_300_000)],
    joins: &[
        JoinBlock {
            uplinks: spread(0, 4, 470_900_000, 1_600_000),
            downlinks: Some(spread(0, 4, 484_500_000, 1_600_000)),
            rx2: Some(spread(0, 4, 485_300_000, 1_600_000)),
            class_b: Some(spread(0, 4, 483_900_000, 1_600_000)),
        },
        JoinBlock {
            uplinks: spread(4, 4, 504_100_000, 1_600_000),
            downlinks: Some(spread(4, 4, 490_900_000, 1_600_000)),
            rx2: Some(spread(4, 4, 491_700_000, 1_600_000)),
            class_b: Some(spread(4, 4, 490_300_000, 1_600_000)),
        },
    ],
    rx1: Rx1Channel::SameIndex, rx2: 486_900_000, groups: 4, masks: MASKS_20,
    class_b: hopping(483_900_000)
}

variant! {
    B20, Cn470B20, "CN470-20B", "CN470-510, 20 MHz antenna, plan type B",
    up: &[run(0, 32, 476_900_000), run(32, 32, 496_900_000)],
    down: &[run(0, 32, 476_900_000), run(32, 32, 496_900_000)],
    joins: &[JoinBlock {
        uplinks: spread(8, 2, 479_900_000, 20_000_000),
        downlinks: Some(spread(8, 2, 479_900_000, 20_000_000)),
        rx2: Some(spread(8, 2, 478_300_000, 20_000_000)),
        class_b: Some(spread(8, 2, 476_900_000, 20_000_000)),
    }],
    rx1: Rx1Channel::SameIndex, rx2: 498_300_000, groups: 4, masks: MASKS_20,
    class_b: hopping(476_900_000)
}

variant! {
    A26, Cn470A26, "CN470-26A", "CN470-510, 26 MHz antenna, plan type A",
    up: &[run(0, 48, 470_300_000)],
    down: &[run(0, 24, 490_100_000)],
    joins: &[JoinBlock {
        uplinks: spread(10, 5, 470_300_000, 2_000_000),
        downlinks: Some(spread(10, 5, 492_500_000, 0)),
        rx2: None,
        class_b: None,
    }],
    rx1: Rx1Channel::Modulo(24), rx2: 492_500_000, groups: 3, masks: MASKS_26,
    class_b: ClassB::fixed(494_900_000, 494_900_000, 2)
}

variant! {
    B26, Cn470B26, "CN470-26B", "CN470-510, 26 MHz antenna, plan type B",
    up: &[run(0, 48, 480_300_000)],
    down: &[run(0, 24, 500_100_000)],
    joins: &[JoinBlock {
        uplinks: spread(15, 5, 480_300_000, 2_000_000),
        downlinks: Some(spread(15, 5, 502_500_000, 0)),
        rx2: None,
        class_b: None,
    }],
    rx1: Rx1Channel::Modulo(24), rx2: 502_500_000, groups: 3, masks: MASKS_26,
    class_b: ClassB::fixed(504_900_000, 504_900_000, 2)
}

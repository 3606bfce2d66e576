//! AS923 (RP002 §2.10): one plan in four places of the band, for as many groups of countries.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, DataRate, Dwell, JoinBlock, Plan, Rx1Channel, SubBand, TxPower,
};
use crate::modulation::Bandwidth::{Khz125, Khz250};

/// `hz` moved by a group's AS923_FREQ_OFFSET_HZ.
const fn moved(hz: u32, offset_hz: i32) -> u32 {
    hz.wrapping_add_signed(offset_hz)
}

/// §2.10.3 for the modulations, §2.10.6 for the payloads.
const DATA_RATES: [Option<DataRate>; 8] = [
    Some(DataRate::lora(12, Khz125, 59).dwell(0)),
    Some(DataRate::lora(11, Khz125, 59).dwell(0)),
    Some(DataRate::lora(10, Khz125, 123).dwell(19)),
    Some(DataRate::lora(9, Khz125, 123).dwell(61)),
    Some(DataRate::lora(8, Khz125, 250).dwell(133)),
    Some(DataRate::lora(7, Khz125, 250)),
    Some(DataRate::lora(7, Khz250, 250)),
    Some(DataRate::fsk50(250)),
];

/// §2.10.7, DownlinkDwellTime off; offsets 6 and 7 stand for −1 and −2.
const RX1: [&[u8]; 8] = [
    &[0, 0, 0, 0, 0, 0, 1, 2],
    &[1, 0, 0, 0, 0, 0, 2, 3],
    &[2, 1, 0, 0, 0, 0, 3, 4],
    &[3, 2, 1, 0, 0, 0, 4, 5],
    &[4, 3, 2, 1, 0, 0, 5, 6],
    &[5, 4, 3, 2, 1, 0, 6, 7],
    &[6, 5, 4, 3, 2, 1, 7, 7],
    &[7, 6, 5, 4, 3, 2, 7, 7],
];

/// §2.10.7, DownlinkDwellTime on: DR0 and DR1 would take too long.
const RX1_DWELL: [&[u8]; 8] = [
    &[2, 2, 2, 2, 2, 2, 2, 2],
    &[2, 2, 2, 2, 2, 2, 2, 3],
    &[2, 2, 2, 2, 2, 2, 3, 4],
    &[3, 2, 2, 2, 2, 2, 4, 5],
    &[4, 3, 2, 2, 2, 2, 5, 6],
    &[5, 4, 3, 2, 2, 2, 6, 7],
    &[6, 5, 4, 3, 2, 2, 7, 7],
    &[7, 6, 5, 4, 3, 2, 7, 7],
];

/// A group's table: what differs is the offset and the part of the band it lies in.
macro_rules! group {
    ($plan:ident, $region:ident, $name:literal, $offset_hz:literal, $from_hz:literal, $to_hz:literal, $notes:expr) => {
        pub(super) static $plan: Plan = Plan {
            region: Region::$region,
            name: $name,
            title: $name,
            source: "RP002-1.0.4 §2.10",
            band_hz: ($from_hz, $to_hz),
            // §2.10.2
            uplinks: &[Block::defaults(2, moved(923_200_000, $offset_hz))],
            downlinks: &[],
            joins: &[JoinBlock::plain(Block::new(0, 2, moved(923_200_000, $offset_hz), 200_000, (2, 5)))],
            added_channels_hz: &[
                moved(923_600_000, $offset_hz),
                moved(923_800_000, $offset_hz),
                moved(924_000_000, $offset_hz),
                moved(924_200_000, $offset_hz),
                moved(924_400_000, $offset_hz),
            ],
            data_rates: &DATA_RATES,
            rx1_channel: Rx1Channel::Same,
            rx1_data_rate: &RX1,
            rx1_data_rate_dwell: Some(&RX1_DWELL),
            rx2_frequency_hz: moved(923_200_000, $offset_hz),
            rx2_data_rate: 2,
            // §2.10.3
            tx_power: TxPower::eirp(16.0, 7),
            // §2.10.4, §2.10.5
            cf_list: CfListForm::Frequencies,
            ch_mask_cntl: DYNAMIC_MASKS,
            dwell: Dwell {
                uplink_ms: Some(400),
                downlink_ms: Some(400),
                by_command: true,
                source: "RP002 §2.10.6; the network switches it off where no law asks for it",
            },
            // §2.10.8
            class_b: ClassB::fixed(moved(923_400_000, $offset_hz), moved(923_400_000, $offset_hz), 3),
            sub_bands: &[SubBand::new(
                $name,
                $from_hz,
                $to_hz,
                Some(10_000),
                16.0,
                "RP002 §2.10.2, default channels (duty cycle < 1 %)",
            )],
            notes: $notes,
        };
    };
}

group!(
    GROUP_1,
    As923_1,
    "AS923-1",
    0,
    915_000_000,
    928_000_000,
    &["Japan: carrier sense before each transmission, 920.6 to 923.4 MHz only (ARIB STD-T108)."]
);
group!(GROUP_2, As923_2, "AS923-2", -1_800_000, 920_000_000, 923_000_000, &[]);
group!(GROUP_3, As923_3, "AS923-3", -6_600_000, 915_000_000, 921_000_000, &[]);
group!(GROUP_4, As923_4, "AS923-4", -5_900_000, 917_000_000, 920_000_000, &[]);

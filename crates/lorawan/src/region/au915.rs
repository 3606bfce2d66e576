//! AU915-928 (RP002 §2.8): Australia, New Zealand, most of South America.

use super::Region;
use super::plan::{
    Block, CfListForm, DataRate, Dwell, FIXED_72_MASKS, JoinBlock, Plan, Rx1Channel, SubBand, TxPower, Use,
};
use super::us915::{CLASS_B, DOWN, DOWN_8_TO_13};
use crate::modulation::Bandwidth::{Khz125, Khz500};
use crate::modulation::LrFhssCodingRate::OneThird;

/// Channels 0 to 63, 125 kHz.
const NARROW: Block = Block::new(0, 64, 915_200_000, 200_000, (0, 5));
/// Channels 64 to 71, 500 kHz, or LR-FHSS in their place.
const WIDE: Block = Block::new(64, 8, 915_900_000, 1_600_000, (6, 7));

pub(super) static PLAN: Plan = Plan {
    region: Region::Au915,
    name: "AU915",
    title: "AU915-928",
    source: "RP002-1.0.4 §2.8",
    band_hz: (915_000_000, 928_000_000),
    // §2.8.2
    uplinks: &[NARROW, WIDE],
    downlinks: &[DOWN],
    joins: &[
        JoinBlock::plain(Block { min_data_rate: 2, max_data_rate: 2, ..NARROW }),
        JoinBlock::plain(Block { min_data_rate: 6, max_data_rate: 6, ..WIDE }),
    ],
    added_channels_hz: &[],
    // §2.8.3 for the modulations, §2.8.6 for the payloads
    data_rates: &{
        let [i, j, k, l, m, n] = DOWN_8_TO_13;
        [
            Some(DataRate::lora(12, Khz125, 59).only(Use::Up).dwell(0)),
            Some(DataRate::lora(11, Khz125, 59).only(Use::Up).dwell(0)),
            Some(DataRate::lora(10, Khz125, 59).only(Use::Up).dwell(19)),
            Some(DataRate::lora(9, Khz125, 123).only(Use::Up).dwell(61)),
            Some(DataRate::lora(8, Khz125, 250).only(Use::Up).dwell(133)),
            Some(DataRate::lora(7, Khz125, 250).only(Use::Up)),
            Some(DataRate::lora(8, Khz500, 250).only(Use::Up)),
            Some(DataRate::lr_fhss(OneThird, 1523, 58)),
            i,
            j,
            k,
            l,
            m,
            n,
        ]
    },
    // §2.8.7
    rx1_channel: Rx1Channel::Modulo(8),
    rx1_data_rate: &[
        &[8, 8, 8, 8, 8, 8],
        &[9, 8, 8, 8, 8, 8],
        &[10, 9, 8, 8, 8, 8],
        &[11, 10, 9, 8, 8, 8],
        &[12, 11, 10, 9, 8, 8],
        &[13, 12, 11, 10, 9, 8],
        &[13, 13, 12, 11, 10, 9],
        &[9, 8, 8, 8, 8, 8],
    ],
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 923_300_000,
    rx2_data_rate: 8,
    // §2.8.3
    tx_power: TxPower::eirp(30.0, 14),
    // §2.8.4, §2.8.5
    cf_list: CfListForm::Masks(5),
    ch_mask_cntl: FIXED_72_MASKS,
    dwell: Dwell {
        uplink_ms: Some(400),
        downlink_ms: None,
        by_command: true,
        source: "RP002 §2.8.6; the network switches it off where no law asks for it",
    },
    // §2.8.8
    class_b: CLASS_B,
    sub_bands: &[SubBand::new(
        "915-928",
        915_000_000,
        928_000_000,
        None,
        30.0,
        "RP002 §2.8.3 (Australia: LIPD class licence; AS/NZS 4268)",
    )],
    notes: &[],
};

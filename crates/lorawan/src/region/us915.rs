//! US902-928 (RP002 §2.5), for the United States, Canada and others, with the limits of
//! 47 CFR §15.247.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DataRate, Dwell, FIXED_72_MASKS, JoinBlock, Plan, PowerReference, Rx1Channel, SubBand,
    TxPower, Use,
};
use crate::modulation::Bandwidth::{Khz125, Khz500};
use crate::modulation::LrFhssCodingRate::{OneThird, TwoThirds};

/// Channels 0 to 63, 125 kHz.
const NARROW: Block = Block::new(0, 64, 902_300_000, 200_000, (0, 3));
/// Channels 64 to 71, 500 kHz, or LR-FHSS in their place.
const WIDE: Block = Block::new(64, 8, 903_000_000, 1_600_000, (4, 6));
/// Downlink channels 0 to 7, 500 kHz.
pub(super) const DOWN: Block = Block::new(0, 8, 923_300_000, 600_000, (8, 13));
/// Beacons and ping slots hop over the downlink channels at DR8 (§2.5.8).
pub(super) const CLASS_B: ClassB = {
    let hop = Block { min_data_rate: 8, max_data_rate: 8, ..DOWN };
    ClassB { beacon: hop, ping_slot: hop }
};

const fn down(spreading_factor: u8, m: u8) -> DataRate {
    DataRate::lora(spreading_factor, Khz500, m).only(Use::Down)
}

/// DR8 to DR13: downlinks at 500 kHz.
pub(super) const DOWN_8_TO_13: [Option<DataRate>; 6] = [
    Some(down(12, 61).repeater(41)),
    Some(down(11, 137).repeater(117)),
    Some(down(10, 250)),
    Some(down(9, 250)),
    Some(down(8, 250)),
    Some(down(7, 250)),
];

pub(super) static PLAN: Plan = Plan {
    region: Region::Us915,
    name: "US915",
    title: "US902-928",
    source: "RP002-1.0.4 §2.5",
    band_hz: (902_000_000, 928_000_000),
    // §2.5.2
    uplinks: &[NARROW, WIDE],
    downlinks: &[DOWN],
    joins: &[
        JoinBlock::plain(Block { min_data_rate: 0, max_data_rate: 0, ..NARROW }),
        JoinBlock::plain(Block { min_data_rate: 4, max_data_rate: 4, ..WIDE }),
    ],
    added_channels_hz: &[],
    // §2.5.3 for the modulations, §2.5.6 for the payloads; the dwell time is worked into them
    data_rates: &{
        let [i, j, k, l, m, n] = DOWN_8_TO_13;
        [
            Some(DataRate::lora(10, Khz125, 19).only(Use::Up)),
            Some(DataRate::lora(9, Khz125, 61).only(Use::Up)),
            Some(DataRate::lora(8, Khz125, 133).only(Use::Up)),
            Some(DataRate::lora(7, Khz125, 250).only(Use::Up)),
            Some(DataRate::lora(8, Khz500, 250).only(Use::Up)),
            Some(DataRate::lr_fhss(OneThird, 1523, 58)),
            Some(DataRate::lr_fhss(TwoThirds, 1523, 133)),
            None,
            i,
            j,
            k,
            l,
            m,
            n,
        ]
    },
    // §2.5.7
    rx1_channel: Rx1Channel::Modulo(8),
    rx1_data_rate: &[
        &[10, 9, 8, 8],
        &[11, 10, 9, 8],
        &[12, 11, 10, 9],
        &[13, 12, 11, 10],
        &[13, 13, 12, 11],
        &[10, 9, 8, 8],
        &[11, 10, 9, 8],
    ],
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 923_300_000,
    rx2_data_rate: 8,
    // §2.5.3
    tx_power: TxPower { max_dbm: 30.0, highest: 14, reference: PowerReference::Conducted },
    // §2.5.4, §2.5.5
    cf_list: CfListForm::Masks(5),
    ch_mask_cntl: FIXED_72_MASKS,
    dwell: Dwell {
        uplink_ms: Some(400),
        downlink_ms: None,
        by_command: false,
        source: "47 CFR §15.247(a)(1)(i), for the 125 kHz channels",
    },
    class_b: CLASS_B,
    sub_bands: &[SubBand::new("902-928", 902_000_000, 928_000_000, None, 36.0, "47 CFR §15.247(b)")],
    notes: &[
        "With fewer than 50 of the 125 kHz channels on, a device may use 21 dBm at most (hybrid mode, RP002 §2.5.3).",
        "A 500 kHz channel is no frequency hopping: its power spectral density is limited instead (47 CFR §15.247(e)).",
    ],
};

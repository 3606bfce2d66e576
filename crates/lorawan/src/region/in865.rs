//! IN865-867 (RP002 §2.12): India.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, DataRate, Dwell, JoinBlock, LORA_0_TO_5, Plan, Rx1Channel, SubBand,
    TxPower,
};

const DEFAULTS: [Block; 3] = [
    Block::new(0, 1, 865_062_500, 0, (0, 5)),
    Block::new(1, 1, 865_402_500, 0, (0, 5)),
    Block::new(2, 1, 865_985_000, 0, (0, 5)),
];

pub(super) static PLAN: Plan = Plan {
    region: Region::In865,
    name: "IN865",
    title: "IN865-867",
    source: "RP002-1.0.4 §2.12",
    band_hz: (865_000_000, 867_000_000),
    // §2.12.2
    uplinks: &DEFAULTS,
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS[0]), JoinBlock::plain(DEFAULTS[1]), JoinBlock::plain(DEFAULTS[2])],
    added_channels_hz: &[865_600_000, 865_785_000, 866_185_000, 866_385_000, 866_785_000],
    // §2.12.3, §2.12.6; DR6 is reserved
    data_rates: &{
        let [a, b, c, d, e, f] = LORA_0_TO_5;
        [a, b, c, d, e, f, None, Some(DataRate::fsk50(250))]
    },
    // §2.12.7; offsets 6 and 7 stand for −1 and −2
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: &[
        &[0, 0, 0, 0, 0, 0, 1, 2],
        &[1, 0, 0, 0, 0, 0, 2, 3],
        &[2, 1, 0, 0, 0, 0, 3, 4],
        &[3, 2, 1, 0, 0, 0, 4, 5],
        &[4, 3, 2, 1, 0, 0, 5, 5],
        &[5, 4, 3, 2, 1, 0, 5, 7],
        &[],
        &[7, 5, 5, 4, 3, 2, 7, 7],
    ],
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 866_550_000,
    rx2_data_rate: 2,
    // §2.12.3
    tx_power: TxPower::eirp(30.0, 10),
    // §2.12.4, §2.12.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.12.8
    class_b: ClassB::fixed(866_550_000, 866_550_000, 4),
    sub_bands: &[SubBand::new("865-867", 865_000_000, 867_000_000, None, 30.0, "RP002 §2.12.3")],
    notes: &[],
};

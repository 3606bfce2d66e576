//! CN779-787 (RP002 §2.6): China, for equipment from before 2021.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, Dwell, JoinBlock, LORA_0_TO_6_FSK_7, Plan, RX1_0_TO_7, Rx1Channel,
    SubBand, TxPower,
};

const DEFAULTS: Block = Block::defaults(3, 779_500_000);

pub(super) static PLAN: Plan = Plan {
    region: Region::Cn779,
    name: "CN779",
    title: "CN779-787",
    source: "RP002-1.0.4 §2.6",
    band_hz: (779_000_000, 787_000_000),
    // §2.6.2
    uplinks: &[DEFAULTS],
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS), JoinBlock::plain(Block::new(3, 3, 780_500_000, 200_000, (0, 5)))],
    added_channels_hz: &[780_500_000, 780_700_000, 780_900_000, 781_100_000, 781_300_000],
    // §2.6.3, §2.6.6
    data_rates: &LORA_0_TO_6_FSK_7,
    // §2.6.7
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: &RX1_0_TO_7,
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 786_000_000,
    rx2_data_rate: 0,
    // §2.6.3
    tx_power: TxPower::eirp(12.15, 5),
    // §2.6.4, §2.6.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.6.8
    class_b: ClassB::fixed(785_000_000, 785_000_000, 3),
    sub_bands: &[SubBand::new(
        "779-787",
        779_000_000,
        787_000_000,
        Some(10_000),
        12.15,
        "RP002 §2.6.2, default channels (duty cycle < 1 %)",
    )],
    notes: &["Since 1 January 2021 no new equipment may be made, imported or installed in this band (RP002 §2.6)."],
};

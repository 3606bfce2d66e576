//! RU864-870 (RP002 §2.13): Russia.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, Dwell, JoinBlock, LORA_0_TO_6_FSK_7, Plan, RX1_0_TO_7, Rx1Channel,
    SubBand, TxPower,
};

const DEFAULTS: Block = Block::defaults(2, 868_900_000);

pub(super) static PLAN: Plan = Plan {
    region: Region::Ru864,
    name: "RU864",
    title: "RU864-870",
    source: "RP002-1.0.4 §2.13",
    band_hz: (864_000_000, 870_000_000),
    // §2.13.2
    uplinks: &[DEFAULTS],
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS)],
    added_channels_hz: &[864_100_000, 864_300_000, 864_500_000, 864_700_000, 864_900_000],
    // §2.13.3, §2.13.6
    data_rates: &LORA_0_TO_6_FSK_7,
    // §2.13.7
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: &RX1_0_TO_7,
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 869_100_000,
    rx2_data_rate: 0,
    // §2.13.3
    tx_power: TxPower::eirp(16.0, 7),
    // §2.13.4, §2.13.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.13.8
    class_b: ClassB::fixed(869_100_000, 868_900_000, 3),
    sub_bands: &[SubBand::new(
        "864-870",
        864_000_000,
        870_000_000,
        Some(10_000),
        16.0,
        "RP002 §2.13.2, default channels (duty cycle < 1 %)",
    )],
    notes: &[],
};

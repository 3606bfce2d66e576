//! EU433 (RP002 §2.7), with the sub-band of EN 300 220-2.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, Dwell, JoinBlock, LORA_0_TO_6_FSK_7, Plan, RX1_0_TO_7, Rx1Channel,
    SubBand, TxPower,
};

const DEFAULTS: Block = Block::defaults(3, 433_175_000);

pub(super) static PLAN: Plan = Plan {
    region: Region::Eu433,
    name: "EU433",
    title: "EU433",
    source: "RP002-1.0.4 §2.7",
    band_hz: (433_050_000, 434_790_000),
    // §2.7.2
    uplinks: &[DEFAULTS],
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS)],
    added_channels_hz: &[433_775_000, 433_975_000, 434_175_000, 434_375_000, 434_575_000],
    // §2.7.3, §2.7.6
    data_rates: &LORA_0_TO_6_FSK_7,
    // §2.7.7
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: &RX1_0_TO_7,
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 434_665_000,
    rx2_data_rate: 0,
    // §2.7.3
    tx_power: TxPower::eirp(12.15, 5),
    // §2.7.4, §2.7.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.7.8
    class_b: ClassB::fixed(434_665_000, 434_665_000, 3),
    sub_bands: &[SubBand::new(
        "433.05-434.79",
        433_050_000,
        434_790_000,
        Some(100_000),
        12.15,
        "EN 300 220-2 V3.2.1, table B.1 (10 mW e.r.p., 10 %)",
    )],
    notes: &["RP002 §2.7.2 asks devices to keep below 1 % on the default channels, though EN 300 220-2 allows 10 %."],
};

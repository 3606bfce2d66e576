//! KR920-923 (RP002 §2.11): South Korea.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, Dwell, JoinBlock, LORA_0_TO_5, Plan, RX1_0_TO_7, Rx1Channel, SubBand,
    TxPower,
};

const DEFAULTS: Block = Block::defaults(3, 922_100_000);

const SOURCE: &str = "RP002 §2.11.2, Korean band plan";
/// What a gateway may use on any of the channels (RP002 §2.11.2, table of channel frequencies).
const GATEWAY_EIRP_DBM: f32 = 23.0;

pub(super) static PLAN: Plan = Plan {
    region: Region::Kr920,
    name: "KR920",
    title: "KR920-923",
    source: "RP002-1.0.4 §2.11",
    band_hz: (920_800_000, 923_400_000),
    // §2.11.2
    uplinks: &[DEFAULTS],
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS)],
    added_channels_hz: &[922_700_000, 922_900_000, 923_100_000, 923_300_000],
    // §2.11.3, §2.11.6
    data_rates: &LORA_0_TO_5,
    // §2.11.7
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: RX1_0_TO_7.split_at(6).0,
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 921_900_000,
    rx2_data_rate: 0,
    // §2.11.3
    tx_power: TxPower::eirp(14.0, 7),
    // §2.11.4, §2.11.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.11.8
    class_b: ClassB::fixed(923_100_000, 923_100_000, 3),
    sub_bands: &[
        SubBand::new("920.9-921.9", 920_800_000, 922_000_000, None, 10.0, SOURCE).with_gateways(GATEWAY_EIRP_DBM),
        SubBand::new("922.1-923.3", 922_000_000, 923_400_000, None, 14.0, SOURCE).with_gateways(GATEWAY_EIRP_DBM),
    ],
    notes: &["Devices and gateways listen before they talk (RP002 §2.11.2); there is no duty cycle."],
};

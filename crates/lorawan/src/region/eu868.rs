//! EU863-870 (RP002 §2.4), with the sub-bands of EN 300 220-2 V3.2.1, annex B, table B.1.

use super::Region;
use super::plan::{
    Block, CfListForm, ClassB, DYNAMIC_MASKS, DataRate, Dwell, JoinBlock, LORA_0_TO_6_FSK_7, Plan, RX1_0_TO_7,
    Rx1Channel, SubBand, TxPower,
};
use crate::modulation::LrFhssCodingRate::{OneThird, TwoThirds};

const DEFAULTS: Block = Block::defaults(3, 868_100_000);

/// A sub-band; power is given as e.r.p., as EN 300 220 does, and kept as EIRP.
const fn sub_band(name: &'static str, from_hz: u32, to_hz: u32, duty_cycle_ppm: u32, erp_dbm: f32) -> SubBand {
    const SOURCE: &str = "EN 300 220-2 V3.2.1, table B.1";
    SubBand::new(name, from_hz, to_hz, Some(duty_cycle_ppm), erp_dbm + 2.15, SOURCE)
}

pub(super) static PLAN: Plan = Plan {
    region: Region::Eu868,
    name: "EU868",
    title: "EU863-870",
    source: "RP002-1.0.4 §2.4",
    band_hz: (863_000_000, 870_000_000),
    // §2.4.2
    uplinks: &[DEFAULTS],
    downlinks: &[],
    joins: &[JoinBlock::plain(DEFAULTS)],
    added_channels_hz: &[867_100_000, 867_300_000, 867_500_000, 867_700_000, 867_900_000],
    // §2.4.3 for the modulations, §2.4.6 for the payloads
    data_rates: &{
        let [a, b, c, d, e, f, g, h] = LORA_0_TO_6_FSK_7;
        [
            a,
            b,
            c,
            d,
            e,
            f,
            g,
            h,
            Some(DataRate::lr_fhss(OneThird, 137, 58)),
            Some(DataRate::lr_fhss(TwoThirds, 137, 123)),
            Some(DataRate::lr_fhss(OneThird, 336, 58)),
            Some(DataRate::lr_fhss(TwoThirds, 336, 123)),
        ]
    },
    // §2.4.7
    rx1_channel: Rx1Channel::Same,
    rx1_data_rate: &{
        let [a, b, c, d, e, f, g, h] = RX1_0_TO_7;
        // An answer to LR-FHSS is LoRa: a gateway cannot send LR-FHSS.
        let (slow, fast): (&[u8], &[u8]) = (&[1, 0, 0, 0, 0, 0], &[2, 1, 0, 0, 0, 0]);
        [a, b, c, d, e, f, g, h, slow, fast, slow, fast]
    },
    rx1_data_rate_dwell: None,
    rx2_frequency_hz: 869_525_000,
    rx2_data_rate: 0,
    // §2.4.3
    tx_power: TxPower::eirp(16.0, 7),
    // §2.4.4, §2.4.5
    cf_list: CfListForm::Frequencies,
    ch_mask_cntl: DYNAMIC_MASKS,
    dwell: Dwell::NONE,
    // §2.4.8
    class_b: ClassB::fixed(869_525_000, 869_525_000, 3),
    sub_bands: &[
        sub_band("K", 863_000_000, 865_000_000, 1_000, 14.0),
        sub_band("L", 865_000_000, 868_000_000, 10_000, 14.0),
        sub_band("M", 868_000_000, 868_600_000, 10_000, 14.0),
        sub_band("N", 868_700_000, 869_200_000, 1_000, 14.0),
        sub_band("P", 869_400_000, 869_650_000, 100_000, 27.0),
        sub_band("Q", 869_700_000, 870_000_000, 10_000, 14.0),
    ],
    notes: &["Duty cycle may be replaced by listen-before-talk with adaptive frequency agility (EN 300 220-2 §4.5)."],
};

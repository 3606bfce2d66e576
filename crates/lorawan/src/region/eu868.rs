//! EU863-870 (RP002 §2.4), with the sub-bands of EN 300 220-2 V3.2.1, annex B, table B.1.

use super::{Channel, DataRate, Plan, SubBand};
use crate::Modulation;
use crate::modulation::{Bandwidth, SpreadingFactor};

/// A LoRa row of the data-rate table; the numbers are constants of this file.
const fn lora(spreading_factor: u8, bandwidth: Bandwidth, max_payload: usize) -> DataRate {
    let Some(spreading_factor) = SpreadingFactor::new(spreading_factor) else { panic!("7 to 12") };
    DataRate { modulation: Modulation::Lora { spreading_factor, bandwidth }, max_payload }
}

const fn join_channel(frequency_hz: u32) -> Channel {
    Channel { frequency_hz, min_data_rate: 0, max_data_rate: 5 }
}

/// A sub-band; power is given as e.r.p., as EN 300 220 does, and kept as EIRP.
const fn sub_band(name: &'static str, from_hz: u32, to_hz: u32, duty_cycle_ppm: u32, erp_dbm: f32) -> SubBand {
    SubBand { name, from_hz, to_hz, duty_cycle_ppm, max_eirp_dbm: erp_dbm + 2.15 }
}

pub(super) static PLAN: Plan = Plan {
    name: "EU868",
    // RP002 §2.4.2
    join_channels: &[join_channel(868_100_000), join_channel(868_300_000), join_channel(868_500_000)],
    added_channels: [867_100_000, 867_300_000, 867_500_000, 867_700_000, 867_900_000],
    // RP002 §2.4.3 for the modulations, §2.4.6 for column N
    data_rates: &[
        lora(12, Bandwidth::Khz125, 51),
        lora(11, Bandwidth::Khz125, 51),
        lora(10, Bandwidth::Khz125, 51),
        lora(9, Bandwidth::Khz125, 115),
        lora(8, Bandwidth::Khz125, 242),
        lora(7, Bandwidth::Khz125, 242),
        lora(7, Bandwidth::Khz250, 242),
        DataRate { modulation: Modulation::Fsk { bit_rate_bps: 50_000 }, max_payload: 242 },
    ],
    // RP002 §2.4.7
    rx1_data_rate: &[
        &[0, 0, 0, 0, 0, 0],
        &[1, 0, 0, 0, 0, 0],
        &[2, 1, 0, 0, 0, 0],
        &[3, 2, 1, 0, 0, 0],
        &[4, 3, 2, 1, 0, 0],
        &[5, 4, 3, 2, 1, 0],
        &[6, 5, 4, 3, 2, 1],
        &[7, 6, 5, 4, 3, 2],
    ],
    rx2_frequency_hz: 869_525_000,
    rx2_data_rate: 0,
    max_eirp_dbm: 16.0,
    sub_bands: &[
        sub_band("K", 863_000_000, 865_000_000, 1_000, 14.0),
        sub_band("L", 865_000_000, 868_000_000, 10_000, 14.0),
        sub_band("M", 868_000_000, 868_600_000, 10_000, 14.0),
        sub_band("N", 868_700_000, 869_200_000, 1_000, 14.0),
        sub_band("P", 869_400_000, 869_650_000, 100_000, 27.0),
        sub_band("Q", 869_700_000, 870_000_000, 10_000, 14.0),
    ],
};

#[cfg(test)]
mod tests {
    use super::*;
    use crate::region::Region;

    #[test]
    fn every_channel_lies_in_a_sub_band() {
        for hz in PLAN.uplink_frequencies_hz() {
            let band = PLAN.sub_band(hz).unwrap();
            assert_eq!(band.hourly_allowance_us(), 36_000_000, "1 % of an hour at {hz} Hz");
        }
        let rx2 = PLAN.sub_band(PLAN.rx2_frequency_hz).unwrap();
        assert_eq!((rx2.name, rx2.hourly_allowance_us()), ("P", 360_000_000));
        assert_eq!(PLAN.sub_band(868_650_000), None, "between M and N nothing may be sent");
    }

    #[test]
    fn data_rates_are_found_both_ways() {
        let plan = Region::Eu868.plan();
        for index in 0..8 {
            let rate = plan.data_rate(index).unwrap();
            assert_eq!(plan.data_rate_of(rate.modulation), Some(index));
        }
        assert_eq!(plan.data_rate(0).unwrap().modulation, Modulation::lora(12, 125).unwrap());
        assert!(plan.data_rate(8).is_none());
        assert_eq!(plan.data_rate_of(Modulation::lora(7, 500).unwrap()), None);
    }

    #[test]
    fn rx1_follows_the_offset_and_stops_at_zero() {
        for uplink in 0..8u8 {
            for offset in 0..6u8 {
                assert_eq!(PLAN.rx1_data_rate(uplink, offset), Some(uplink.saturating_sub(offset)));
            }
        }
        assert_eq!(PLAN.rx1_data_rate(5, 6), None, "offsets 6 and 7 are reserved");
    }
}

//! Time on air: how long a packet occupies its channel, in microseconds.

use crate::modulation::{CodingRate, Modulation};

/// What decides a LoRa packet's time on air beside spreading factor, bandwidth and length.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LoraPacket {
    /// Programmed preamble symbols; the modem adds 4.25. LoRaWAN uses 8 (RP002 §4.1).
    pub preamble_symbols: u32,
    /// Explicit header: length, coding rate and CRC flag are sent along.
    pub explicit_header: bool,
    /// A 16-bit CRC follows the payload: on for uplinks, off for downlinks (TS001 §3.1).
    pub crc: bool,
    /// Forward error correction.
    pub coding_rate: CodingRate,
    /// Low-data-rate optimisation; `None` applies the modem's rule, symbols longer than 16 ms.
    pub low_data_rate_optimize: Option<bool>,
}

impl LoraPacket {
    /// A LoRaWAN uplink.
    pub const UPLINK: Self = Self {
        preamble_symbols: 8,
        explicit_header: true,
        crc: true,
        coding_rate: CodingRate::Cr4_5,
        low_data_rate_optimize: None,
    };
    /// A LoRaWAN downlink: the same without CRC.
    pub const DOWNLINK: Self = Self { crc: false, ..Self::UPLINK };

    /// Time on air of `len` bytes, in microseconds (SX1276 datasheet, rev. 7, §4.1.1.7).
    ///
    /// With T = 2^SF / BW:
    /// `(n_preamble + 4.25) T + (8 + max(ceil((8 PL - 4 SF + 28 + 16 CRC - 20 IH) / (4 (SF - 2 DE))) (CR + 4), 0)) T`
    ///
    /// For the three bandwidths T is a whole number of microseconds divisible by four, so the
    /// result is exact.
    pub fn airtime_us(&self, spreading_factor: u8, bandwidth_khz: u32, len: usize) -> u64 {
        let sf = i64::from(spreading_factor);
        let symbol_us = (1000u64 << spreading_factor) / u64::from(bandwidth_khz);
        let optimize = self.low_data_rate_optimize.unwrap_or(symbol_us > 16_000);
        let bits = 8 * len as i64 - 4 * sf + 28 + 16 * i64::from(self.crc) - 20 * i64::from(!self.explicit_header);
        let per_block = 4 * (sf - 2 * i64::from(optimize));
        let blocks = if bits > 0 { bits.div_euclid(per_block) + i64::from(bits % per_block != 0) } else { 0 };
        let payload_symbols = 8 + blocks as u64 * (self.coding_rate as u64 + 4);
        (u64::from(self.preamble_symbols) * 4 + 17) * symbol_us / 4 + payload_symbols * symbol_us
    }
}

/// Time on air of an FSK packet in microseconds, rounded up: 5 bytes of preamble, 3 of sync word,
/// a length byte and a 16-bit CRC round the payload (RP002 §4.2; SX1276 datasheet §4.2.13).
pub fn fsk_airtime_us(bit_rate_bps: u32, len: usize) -> u64 {
    const AROUND: u64 = 5 + 3 + 1 + 2;
    (8_000_000 * (AROUND + len as u64)).div_ceil(u64::from(bit_rate_bps.max(1)))
}

/// Time on air of a LoRaWAN uplink of `len` bytes (whole PHYPayload), in microseconds.
pub fn uplink_us(modulation: Modulation, len: usize) -> u64 {
    of(modulation, LoraPacket::UPLINK, len)
}

/// Time on air of a LoRaWAN downlink of `len` bytes (whole PHYPayload), in microseconds.
pub fn downlink_us(modulation: Modulation, len: usize) -> u64 {
    of(modulation, LoraPacket::DOWNLINK, len)
}

fn of(modulation: Modulation, packet: LoraPacket, len: usize) -> u64 {
    match modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            packet.airtime_us(spreading_factor.value(), bandwidth.khz(), len)
        }
        Modulation::Fsk { bit_rate_bps } => fsk_airtime_us(bit_rate_bps, len),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Worked by hand from the datasheet's formula.
    #[test]
    fn known_times() {
        // SF7/125: T = 1.024 ms. 26 bytes: 8 + ceil(224/28)·5 = 48 symbols, + 12.25 = 60.25 T.
        assert_eq!(LoraPacket::UPLINK.airtime_us(7, 125, 26), 61_696);
        // SF12/125: T = 32.768 ms, DE on. 13 bytes: 8 + ceil(100/40)·5 = 23, + 12.25 = 35.25 T.
        assert_eq!(LoraPacket::UPLINK.airtime_us(12, 125, 13), 1_155_072);
        // Without CRC: 8 + ceil(84/40)·5 = 23: the same number of symbols.
        assert_eq!(LoraPacket::DOWNLINK.airtime_us(12, 125, 13), 1_155_072);
        // SF12, DE forced off: 8 + ceil(100/48)·5 = 23.
        let slow = LoraPacket { low_data_rate_optimize: Some(false), ..LoraPacket::UPLINK };
        assert_eq!(slow.airtime_us(12, 125, 13), 1_155_072);
        // SF11/125: T = 16.384 ms > 16 ms, so DE on: 51+13 = 64 bytes: ceil(512/36) = 15 → 83 + 12.25.
        assert_eq!(LoraPacket::UPLINK.airtime_us(11, 125, 64), 1_560_576);
        // Implicit header: ceil((208 - 28 + 28 + 16 - 20)/28) = ceil(204/28) = 8: 60.25 T again;
        // 25 bytes: ceil(196/28) = 7 → 43 + 12.25 = 55.25 T.
        let implicit = LoraPacket { explicit_header: false, ..LoraPacket::UPLINK };
        assert_eq!(implicit.airtime_us(7, 125, 26), 61_696);
        assert_eq!(implicit.airtime_us(7, 125, 25), 56_576);
        // SF7/250, coding rate 4/8, no payload: bits = -28 + 28 + 16 → 1 block of 8 → 16 + 12.25 at 0.512 ms.
        let strong = LoraPacket { coding_rate: CodingRate::Cr4_8, ..LoraPacket::UPLINK };
        assert_eq!(strong.airtime_us(7, 250, 0), 14_464);
        // SF12 without CRC, empty: bits = -48 + 28 < 0 → 8 + 12.25 = 20.25 T.
        assert_eq!(LoraPacket::DOWNLINK.airtime_us(12, 125, 0), 663_552);
        // FSK at 50 kbit/s: (11 + 20) bytes · 8 / 50 000 = 4.96 ms.
        assert_eq!(fsk_airtime_us(50_000, 20), 4_960);
    }

    proptest! {
        #[test]
        fn longer_never_takes_less(sf in 7u8..=12, khz in prop::sample::select(vec![125u32, 250, 500]), len in 0usize..255) {
            let m = Modulation::lora(sf, khz).unwrap();
            prop_assert!(uplink_us(m, len) <= uplink_us(m, len + 1));
            prop_assert!(downlink_us(m, len) <= uplink_us(m, len));
        }
    }
}

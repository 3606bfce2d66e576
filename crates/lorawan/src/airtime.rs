//! Time on air: how long a packet occupies its channel, in microseconds.

use crate::modulation::{CodingRate, LrFhssCodingRate, Modulation, SpreadingFactor};

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
    /// A class B beacon: a longer preamble, no header, no CRC of the modem's (TS001-1.1 §15.1).
    pub const BEACON: Self = Self { preamble_symbols: 10, explicit_header: false, ..Self::DOWNLINK };

    /// Time on air of `len` bytes in microseconds, rounded up; exact for 125, 250 and 500 kHz.
    ///
    /// With T = 2^SF / BW (SX1276 datasheet, rev. 7, §4.1.1.7):
    /// `(n_preamble + 4.25) T + (8 + max(ceil((8 PL - 4 SF + 28 + 16 CRC - 20 IH) / (4 (SF - 2 DE))) (CR + 4), 0)) T`
    ///
    /// SF5 and SF6 have a longer start and need no optimisation (SX1261/2 datasheet, rev. 1.2, §6.1.4):
    /// 6.25 in place of 4.25, and 20 in place of 28.
    pub fn airtime_us(&self, spreading_factor: SpreadingFactor, bandwidth_hz: u32, len: usize) -> u64 {
        let sf = i64::from(spreading_factor.value());
        let short = sf < 7;
        let bandwidth_hz = u128::from(bandwidth_hz.max(1));
        let slow = (1_000_000_u128 << sf) > 16_000 * bandwidth_hz;
        let optimize = !short && self.low_data_rate_optimize.unwrap_or(slow);
        let start = if short { 20 } else { 28 };
        let bits = 8 * len as i64 - 4 * sf + start + 16 * i64::from(self.crc) - 20 * i64::from(!self.explicit_header);
        let per_block = 4 * (sf - 2 * i64::from(optimize));
        let blocks = if bits > 0 { bits.div_euclid(per_block) + i64::from(bits % per_block != 0) } else { 0 };
        let payload_symbols = 8 + blocks as u128 * (self.coding_rate as u128 + 4);
        let quarters = u128::from(self.preamble_symbols) * 4 + if short { 25 } else { 17 } + 4 * payload_symbols;
        ((quarters * 1_000_000) << sf).div_ceil(4 * bandwidth_hz) as u64
    }
}

/// Time on air of an LR-FHSS packet in microseconds, rounded up (RP002 §4.3): the header three or two
/// times, 114 bits each, then the payload with its CRC and 6 bits of tail, coded, in blocks of 48 bits
/// with 2 bits in front; all at 488.28125 bit/s. The last block is counted as a whole.
pub fn lr_fhss_airtime_us(coding_rate: LrFhssCodingRate, len: usize) -> u64 {
    let bits = 8 * (len as u64 + 2) + 6;
    let (headers, coded) = match coding_rate {
        LrFhssCodingRate::OneThird => (3, 3 * bits),
        LrFhssCodingRate::TwoThirds => (2, (3 * bits).div_ceil(2)),
    };
    // One bit takes 2048 µs.
    2048 * (114 * headers + 50 * coded.div_ceil(48))
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
        Modulation::Lora { spreading_factor, bandwidth } => packet.airtime_us(spreading_factor, bandwidth.hz(), len),
        Modulation::Fsk { bit_rate_bps } => fsk_airtime_us(bit_rate_bps, len),
        Modulation::LrFhss { coding_rate, .. } => lr_fhss_airtime_us(coding_rate, len),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn us(packet: LoraPacket, sf: u8, khz: u32, len: usize) -> u64 {
        packet.airtime_us(SpreadingFactor::new(sf).unwrap(), khz * 1000, len)
    }

    /// Worked by hand from the datasheets' formulas.
    #[test]
    fn known_times() {
        let (up, down) = (LoraPacket::UPLINK, LoraPacket::DOWNLINK);
        // SF7/125: T = 1.024 ms. 26 bytes: 8 + ceil(224/28)·5 = 48 symbols, + 12.25 = 60.25 T.
        assert_eq!(us(up, 7, 125, 26), 61_696);
        // SF12/125: T = 32.768 ms, DE on. 13 bytes: 8 + ceil(100/40)·5 = 23, + 12.25 = 35.25 T.
        assert_eq!(us(up, 12, 125, 13), 1_155_072);
        // Without CRC: 8 + ceil(84/40)·5 = 23: the same number of symbols.
        assert_eq!(us(down, 12, 125, 13), 1_155_072);
        // SF12, DE forced off: 8 + ceil(100/48)·5 = 23.
        let slow = LoraPacket { low_data_rate_optimize: Some(false), ..up };
        assert_eq!(us(slow, 12, 125, 13), 1_155_072);
        // SF11/125: T = 16.384 ms > 16 ms, so DE on: 51+13 = 64 bytes: ceil(512/36) = 15 → 83 + 12.25.
        assert_eq!(us(up, 11, 125, 64), 1_560_576);
        // Implicit header: ceil((208 - 28 + 28 + 16 - 20)/28) = ceil(204/28) = 8: 60.25 T again;
        // 25 bytes: ceil(196/28) = 7 → 43 + 12.25 = 55.25 T.
        let implicit = LoraPacket { explicit_header: false, ..up };
        assert_eq!(us(implicit, 7, 125, 26), 61_696);
        assert_eq!(us(implicit, 7, 125, 25), 56_576);
        // SF7/250, coding rate 4/8, no payload: bits = -28 + 28 + 16 → 1 block of 8 → 16 + 12.25 at 0.512 ms.
        let strong = LoraPacket { coding_rate: CodingRate::Cr4_8, ..up };
        assert_eq!(us(strong, 7, 250, 0), 14_464);
        // SF12 without CRC, empty: bits = -48 + 28 < 0 → 8 + 12.25 = 20.25 T.
        assert_eq!(us(down, 12, 125, 0), 663_552);
        // SF5/125: T = 0.256 ms, 12 symbols of preamble. 10 bytes: 8 + ceil((80 - 20 + 20 + 16)/20)·5
        // = 33, + 18.25 = 51.25 T.
        let short = LoraPacket { preamble_symbols: 12, ..up };
        assert_eq!(us(short, 5, 125, 10), 13_120);
        // A beacon (RP002 §2.4.8): SF9/125, 10 symbols of preamble, no header, no CRC, 17 bytes:
        // 8 + ceil((136 - 36 + 28 - 20)/36)·5 = 23, + 14.25 = 37.25 T at 4.096 ms.
        assert_eq!(us(LoraPacket::BEACON, 9, 125, 17), 152_576);
        // SF7 at 62.5 kHz takes twice as long as at 125 kHz.
        assert_eq!(up.airtime_us(SpreadingFactor::new(7).unwrap(), 62_500, 26), 2 * 61_696);
        // FSK at 50 kbit/s: (11 + 20) bytes · 8 / 50 000 = 4.96 ms.
        assert_eq!(fsk_airtime_us(50_000, 20), 4_960);
    }

    /// Worked by hand: 10 bytes are 102 bits.
    #[test]
    fn known_times_of_lr_fhss() {
        // 1/3: 306 coded bits, 7 blocks; 3·114 + 7·50 = 692 bits of 2.048 ms.
        assert_eq!(lr_fhss_airtime_us(LrFhssCodingRate::OneThird, 10), 1_417_216);
        // 2/3: 153 coded bits, 4 blocks; 2·114 + 4·50 = 428 bits.
        assert_eq!(lr_fhss_airtime_us(LrFhssCodingRate::TwoThirds, 10), 876_544);
    }

    proptest! {
        #[test]
        fn longer_never_takes_less(sf in 5u8..=12, khz in prop::sample::select(vec![125u32, 250, 500]), len in 0usize..255) {
            let m = Modulation::lora(sf, khz).unwrap();
            prop_assert!(uplink_us(m, len) <= uplink_us(m, len + 1));
            prop_assert!(downlink_us(m, len) <= uplink_us(m, len));
        }
    }
}

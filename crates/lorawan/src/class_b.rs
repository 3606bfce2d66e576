//! Class B's clock: beacons every 128 seconds of GPS time, and ping slots in between at places that
//! change with each beacon (TS001-1.1 §13 to §15).

use aes::Aes128;
use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};
use thiserror::Error;

use crate::DevAddr;

/// From one beacon to the next, in seconds (TS001-1.1 §13.1, BEACON_PERIOD).
pub const BEACON_PERIOD_S: u32 = 128;
/// Kept free for the beacon after its start (BEACON_RESERVED).
pub const BEACON_RESERVED_US: u64 = 2_120_000;
/// In front of a beacon no slot may begin (BEACON_GUARD).
pub const BEACON_GUARD_US: u64 = 3_000_000;
/// Length of a ping slot (pingSlotLen).
pub const PING_SLOT_US: u64 = 30_000;
/// Slots in a period.
pub const PING_SLOTS: u16 = 4096;

/// The start of the beacon period that a GPS time lies in, in GPS seconds: a multiple of 128.
pub const fn beacon_time_s(gps_s: u32) -> u32 {
    gps_s - gps_s % BEACON_PERIOD_S
}

/// How often a device listens: `periodicity` 0 to 7 stands for a slot every 2^periodicity seconds,
/// roughly (TS001-1.1 §13.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PingSlots {
    /// Slot index of the first (`pingOffset`).
    pub offset: u16,
    /// Slots from one to the next (`pingPeriod`).
    pub period: u16,
}

impl PingSlots {
    /// The slots of a device in the period that begins at `beacon_time_s`. `None` if the periodicity
    /// is above 7.
    ///
    /// The offset is drawn again in each period so that two devices do not collide every time:
    /// `Rand = aes128_encrypt(0…0, beaconTime | DevAddr | pad16)`,
    /// `pingOffset = (Rand[0] + 256 · Rand[1]) mod pingPeriod` (TS001-1.1 §13.2).
    pub fn of(beacon_time_s: u32, dev_addr: DevAddr, periodicity: u8) -> Option<Self> {
        let period = match periodicity {
            0..=7 => 1u16 << (5 + periodicity),
            _ => return None,
        };
        let mut block = [0; 16];
        block[..4].copy_from_slice(&beacon_time_s.to_le_bytes());
        block[4..8].copy_from_slice(&dev_addr.0.to_le_bytes());
        let mut block = Array::from(block);
        Aes128::new(&Array::from([0; 16])).encrypt_block(&mut block);
        Some(Self { offset: u16::from_le_bytes([block[0], block[1]]) % period, period })
    }

    /// How many slots there are in a period (`pingNb`).
    pub const fn count(self) -> u16 {
        PING_SLOTS / self.period
    }

    /// Starts of the slots, in microseconds after the beacon's start:
    /// `beacon_reserved + (pingOffset + N · pingPeriod) · 30 ms`.
    pub fn starts_us(self) -> impl Iterator<Item = u64> {
        (0..self.count()).map(move |n| BEACON_RESERVED_US + u64::from(self.offset + n * self.period) * PING_SLOT_US)
    }

    /// The start of the first slot that is not before `after_us`, in microseconds after the beacon's
    /// start; `None` if the next one lies in the next period.
    pub fn next_after_us(self, after_us: u64) -> Option<u64> {
        self.starts_us().find(|start| *start >= after_us)
    }
}

/// A beacon's content (TS001-1.1 §15.2). How many bytes it takes depends on the spreading factor, so that
/// it fills whole symbols.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Beacon {
    /// `Param`: bits 0 and 1 tell how precise the sender's clock is (`Prec`); the rest is reserved.
    pub param: u8,
    /// GPS seconds of the beacon's start.
    pub time_s: u32,
    /// The gateway's part, if its CRC agrees.
    pub gateway: Option<GatewaySpecific>,
}

/// The part of a beacon that each gateway fills in for itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GatewaySpecific {
    /// What `info` means: 0 to 2 the coordinates of the gateway's first to third antenna, 3 a NetID
    /// and GatewayID.
    pub info_desc: u8,
    /// Six bytes.
    pub info: [u8; 6],
}

impl GatewaySpecific {
    /// The place of a gateway's first antenna, in degrees; what lies beyond the poles is brought to them.
    pub fn at(latitude_deg: f64, longitude_deg: f64) -> Self {
        let raw = |deg: f64, full: f64| {
            let value = (deg / full * f64::from((1 << 23) - 1)).round().clamp(-8_388_608.0, 8_388_607.0) as i32;
            let [a, b, c, _] = value.to_le_bytes();
            [a, b, c]
        };
        let ([a, b, c], [d, e, f]) = (raw(latitude_deg, 90.0), raw(longitude_deg, 180.0));
        Self { info_desc: 0, info: [a, b, c, d, e, f] }
    }

    /// Latitude and longitude in degrees, if that is what `info` holds (TS001-1.1 §15.3): 24 bits each,
    /// 2^23 − 1 standing for 90° and 180°.
    pub fn position_deg(&self) -> Option<(f64, f64)> {
        let of = |bytes: &[u8], full: f64| {
            let raw = i32::from_le_bytes([0, bytes[0], bytes[1], bytes[2]]) >> 8;
            f64::from(raw) * full / f64::from((1 << 23) - 1)
        };
        (self.info_desc <= 2).then(|| (of(&self.info[..3], 90.0), of(&self.info[3..], 180.0)))
    }
}

/// Why bytes are not a beacon.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum BeaconError {
    /// No beacon of this spreading factor has this length.
    #[error("a beacon at SF{spreading_factor} has {wanted} bytes, not {found}")]
    Length {
        /// Spreading factor.
        spreading_factor: u8,
        /// Bytes there.
        found: usize,
        /// Bytes of a beacon.
        wanted: usize,
    },
    /// Beacons are sent at SF8 to SF12.
    #[error("there is no beacon at SF{0}")]
    SpreadingFactor(u8),
    /// The CRC over the common part does not agree.
    #[error("the CRC over the beacon's time is {found:04x} and should be {expected:04x}")]
    Crc {
        /// As sent.
        found: u16,
        /// As computed.
        expected: u16,
    },
}

/// Reserved bytes in front of `Param` and behind `GwSpecific`, by spreading factor (TS001-1.1 §15.2).
const fn reserved(spreading_factor: u8) -> Option<(usize, usize)> {
    match spreading_factor {
        8 => Some((0, 3)),
        9 => Some((1, 0)),
        10 => Some((2, 1)),
        11 => Some((3, 2)),
        12 => Some((4, 3)),
        _ => None,
    }
}

/// `Param | Time | CRC` and `GwSpecific | CRC`.
const AROUND: usize = 1 + 4 + 2 + 7 + 2;

impl Beacon {
    /// Length of a beacon at this spreading factor, in bytes.
    pub const fn len_at(spreading_factor: u8) -> Option<usize> {
        match reserved(spreading_factor) {
            Some((before, behind)) => Some(before + AROUND + behind),
            None => None,
        }
    }

    /// Where the time begins at this spreading factor, and where the gateway's part does, in bytes.
    pub const fn parts_at(spreading_factor: u8) -> Option<(usize, usize)> {
        match reserved(spreading_factor) {
            Some((before, _)) => Some((before + 1, before + 1 + 4 + 2)),
            None => None,
        }
    }

    /// Reads a beacon. A gateway's part with a wrong CRC is left out: the time still counts.
    pub fn parse(bytes: &[u8], spreading_factor: u8) -> Result<Self, BeaconError> {
        let (before, behind) = reserved(spreading_factor).ok_or(BeaconError::SpreadingFactor(spreading_factor))?;
        let (wanted, found) = (before + AROUND + behind, bytes.len());
        if found != wanted {
            return Err(BeaconError::Length { spreading_factor, found, wanted });
        }
        let (common, own) = bytes.split_at(before + 7);
        let crc_of = |part: &[u8]| {
            (u16::from_le_bytes([part[part.len() - 2], part[part.len() - 1]]), crc16(&part[..part.len() - 2]))
        };
        let (found, expected) = crc_of(common);
        if found != expected {
            return Err(BeaconError::Crc { found, expected });
        }
        let (found, expected) = crc_of(own);
        let gateway = (found == expected)
            .then(|| GatewaySpecific { info_desc: own[0], info: [own[1], own[2], own[3], own[4], own[5], own[6]] });
        let time_s =
            u32::from_le_bytes([common[before + 1], common[before + 2], common[before + 3], common[before + 4]]);
        Ok(Self { param: common[before], time_s, gateway })
    }

    /// The bytes of the beacon at this spreading factor; without a gateway's part that part is zeros.
    ///
    /// # Errors
    /// [`BeaconError::SpreadingFactor`] outside SF8 to SF12.
    pub fn emit(&self, spreading_factor: u8) -> Result<Vec<u8>, BeaconError> {
        let (before, behind) = reserved(spreading_factor).ok_or(BeaconError::SpreadingFactor(spreading_factor))?;
        let mut out = vec![0; before];
        out.push(self.param);
        out.extend(self.time_s.to_le_bytes());
        out.extend(crc16(&out).to_le_bytes());
        let start = out.len();
        let own = self.gateway.unwrap_or(GatewaySpecific { info_desc: 0, info: [0; 6] });
        out.push(own.info_desc);
        out.extend(own.info);
        out.extend(std::iter::repeat_n(0, behind));
        let crc = crc16(&out[start..]);
        out.extend(crc.to_le_bytes());
        Ok(out)
    }
}

/// CRC-16 of IEEE 802.15.4-2003 §7.2.1.8 as the beacon uses it: polynomial 0x1021, from zero, most
/// significant bit first (TS001-1.1 §15.2).
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc: u16, byte| {
        (0..8).fold(
            crc ^ (u16::from(*byte) << 8),
            |crc, _| if crc & 0x8000 != 0 { (crc << 1) ^ 0x1021 } else { crc << 1 },
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The example of TS001-1.1 §15.2, a beacon of EU863-870, with both CRCs.
    #[test]
    fn the_standards_own_beacon() {
        let bytes = hex::decode("0000000002cca27e00012000008103de55").unwrap();
        let beacon = Beacon::parse(&bytes, 9).unwrap();
        assert_eq!((beacon.param, beacon.time_s), (0, 0xcc02_0000));
        let gateway = beacon.gateway.unwrap();
        assert_eq!((gateway.info_desc, gateway.info), (0, [0x01, 0x20, 0, 0, 0x81, 0x03]));
        let (latitude, longitude) = gateway.position_deg().unwrap();
        // 0x002001 · 90 / (2^23 - 1) and 0x038100 · 180 / (2^23 - 1)
        assert!((latitude - 0.08790).abs() < 1e-4 && (longitude - 4.92736).abs() < 1e-4);
    }

    #[test]
    fn a_damaged_beacon_says_how() {
        let mut bytes = hex::decode("0000000002cca27e00012000008103de55").unwrap();
        let length = BeaconError::Length { spreading_factor: 10, found: 17, wanted: 19 };
        assert_eq!(Beacon::parse(&bytes, 10), Err(length));
        assert_eq!(Beacon::parse(&bytes, 7), Err(BeaconError::SpreadingFactor(7)));
        bytes[9] ^= 1;
        assert_eq!(Beacon::parse(&bytes, 9).unwrap().gateway, None, "the time still counts");
        bytes[3] ^= 1;
        assert!(matches!(Beacon::parse(&bytes, 9), Err(BeaconError::Crc { found: 0x7ea2, .. })));
    }

    /// Worked apart with `openssl enc -aes-128-ecb` under a key of zeros over
    /// `80020000 67452303 00…`, which begins d2 38: 0x38d2 modulo the period.
    #[test]
    fn slots_are_counted_as_the_standard_says() {
        let slots = PingSlots::of(0x280, DevAddr(0x0323_4567), 7).unwrap();
        assert_eq!((slots.offset, slots.period, slots.count()), (0x38d2 % 4096, 4096, 1));
        let often = PingSlots::of(0x280, DevAddr(0x0323_4567), 0).unwrap();
        assert_eq!((often.offset, often.starts_us().next()), (0x38d2 % 32, Some(2_120_000 + 18 * 30_000)));
        assert_eq!(PingSlots::of(0x280, DevAddr(1), 0).unwrap().count(), 128);
        assert_eq!(PingSlots::of(0x280, DevAddr(1), 8), None);
        assert_eq!(BEACON_RESERVED_US + 4096 * PING_SLOT_US + BEACON_GUARD_US, 128_000_000);
    }

    proptest! {
        #[test]
        fn slots_lie_between_the_beacons(gps_s: u32, addr: u32, periodicity in 0u8..8) {
            let time = beacon_time_s(gps_s);
            prop_assert!(time.is_multiple_of(128) && gps_s - time < 128);
            let slots = PingSlots::of(time, DevAddr(addr), periodicity).unwrap();
            let starts: Vec<u64> = slots.starts_us().collect();
            prop_assert_eq!(starts.len(), 128 >> periodicity);
            prop_assert!(starts[0] >= BEACON_RESERVED_US);
            let last = starts[starts.len() - 1] + PING_SLOT_US;
            prop_assert!(last <= 128_000_000 - BEACON_GUARD_US);
            prop_assert_eq!(slots.next_after_us(starts[0] + 1), starts.get(1).copied());
        }

        #[test]
        fn beacons_are_read_as_written(param: u8, time_s: u32, info_desc: u8, info: [u8; 6], sf in 8u8..=12) {
            let beacon = Beacon { param, time_s, gateway: Some(GatewaySpecific { info_desc, info }) };
            let bytes = beacon.emit(sf).unwrap();
            prop_assert_eq!(Some(bytes.len()), Beacon::len_at(sf));
            prop_assert_eq!(Beacon::parse(&bytes, sf), Ok(beacon));
        }

        #[test]
        fn places_are_read_as_written(latitude in -90.0f64..=90.0, longitude in -180.0f64..=180.0) {
            let (lat, lon) = GatewaySpecific::at(latitude, longitude).position_deg().unwrap();
            prop_assert!((lat - latitude).abs() < 1e-5 && (lon - longitude).abs() < 2e-5);
        }

        #[test]
        fn any_bytes_are_answered(bytes in proptest::collection::vec(any::<u8>(), 0..40), sf: u8) {
            let _ = Beacon::parse(&bytes, sf);
        }
    }
}

//! A stand-in gateway's radio: a clock of its own, and one transmitter.

use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use gateway_link::udp::{TxAckError, TxPacket, TxTime};
use lorawan::{Modulation, airtime, gps_time};
use tokio::time::Instant;

use super::Faults;
use crate::clock;

/// How far ahead a transmission may be planned.
const TOO_EARLY_US: i32 = 15_000_000;

/// How long a frame is on the air.
pub(crate) fn sending_us(packet: &TxPacket) -> u64 {
    match packet.modulation {
        Modulation::Lora { spreading_factor, bandwidth } if packet.no_header => {
            airtime::LoraPacket::BEACON.airtime_us(spreading_factor, bandwidth.hz(), packet.phy_payload.len())
        }
        modulation => airtime::downlink_us(modulation, packet.phy_payload.len()),
    }
}

/// The radio.
pub(super) struct Transmitter {
    pub has_gps: bool,
    started: Instant,
    /// What the clock showed at the start; real ones start anywhere.
    clock_start_us: u32,
    pub sent: AtomicU32,
    busy: Mutex<Vec<(Instant, Instant)>>,
    faults: Faults,
}

impl Transmitter {
    pub(super) fn new(has_gps: bool, faults: Faults) -> Self {
        Self {
            has_gps,
            started: Instant::now(),
            clock_start_us: rand::random(),
            sent: AtomicU32::new(0),
            busy: Mutex::default(),
            faults,
        }
    }

    pub(super) fn clock_us(&self, at: Instant) -> u32 {
        self.clock_start_us.wrapping_add(self.faults.drifted_us((at - self.started).as_micros()) as u32)
    }

    /// GPS time in microseconds, if it has that.
    pub(super) fn gps_us(&self, at: Instant) -> Option<i64> {
        self.has_gps.then(|| gps_time::from_unix_us(clock::us(at)))
    }

    /// When a frame goes out, or why it cannot.
    pub(super) fn plan(&self, packet: &TxPacket, now: Instant) -> Result<Instant, TxAckError> {
        let at = match packet.when {
            TxTime::AtOnce => now,
            TxTime::GpsMs(_) if !self.has_gps => return Err(TxAckError::GpsUnlocked),
            TxTime::GpsMs(ms) => {
                let at = clock::instant(gps_time::to_unix_us(i64::try_from(ms).unwrap_or(i64::MAX / 1000) * 1000));
                if at <= now {
                    return Err(TxAckError::TooLate);
                }
                if at > now + Duration::from_micros(u64::from(TOO_EARLY_US.unsigned_abs())) {
                    return Err(TxAckError::TooEarly);
                }
                at
            }
            TxTime::Clock(clock) => match clock.wrapping_sub(self.clock_us(now)).cast_signed() {
                ..=0 => return Err(TxAckError::TooLate),
                TOO_EARLY_US.. => return Err(TxAckError::TooEarly),
                us => now + Duration::from_micros(u64::from(us.unsigned_abs())),
            },
        };
        let end = at + Duration::from_micros(sending_us(packet));
        let mut busy = self.busy.lock().unwrap_or_else(PoisonError::into_inner);
        busy.retain(|(_, end)| *end > now);
        if busy.iter().any(|(from, to)| at < *to && *from < end) {
            return Err(TxAckError::CollisionPacket);
        }
        busy.push((at, end));
        self.sent.fetch_add(1, Ordering::Relaxed);
        Ok(at)
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    pub(crate) fn packet(when: TxTime) -> TxPacket {
        TxPacket {
            when,
            frequency_hz: 868_100_000,
            rf_chain: 0,
            power_dbm: 14,
            modulation: Modulation::lora(7, 125).unwrap(),
            inverted_polarity: true,
            deviation_hz: None,
            no_crc: true,
            no_header: false,
            preamble_symbols: None,
            phy_payload: vec![0; 20],
        }
    }

    #[test]
    fn a_transmission_has_its_time_and_the_transmitter_to_itself() {
        let radio = Transmitter::new(false, Faults::default());
        let now = Instant::now();
        let clock = |after_us: u32| TxTime::Clock(radio.clock_us(now).wrapping_add(after_us));
        assert_eq!(radio.plan(&packet(clock(0)), now), Err(TxAckError::TooLate));
        assert_eq!(radio.plan(&packet(clock(u32::MAX)), now), Err(TxAckError::TooLate), "a microsecond ago");
        assert_eq!(radio.plan(&packet(clock(20_000_000)), now), Err(TxAckError::TooEarly));
        assert_eq!(radio.plan(&packet(clock(1_000_000)), now), Ok(now + Duration::from_secs(1)));
        // 20 bytes at SF7 without CRC take 56.576 ms.
        assert_eq!(radio.plan(&packet(clock(1_050_000)), now), Err(TxAckError::CollisionPacket));
        assert!(radio.plan(&packet(clock(1_056_576)), now).is_ok());
        assert_eq!(radio.plan(&packet(TxTime::AtOnce), now), Ok(now), "at once");
        assert_eq!(radio.plan(&packet(TxTime::GpsMs(1_400_000_000_000)), now), Err(TxAckError::GpsUnlocked));
    }
}

//! Frames between the engine's terms and those of the UDP protocol, which MQTT carries as well.

use engine::{FrameHeard, Reception, Transmission, TxFailure, When, Window};
use gateway_link::udp::{RxPacket, TxAckError, TxPacket, TxTime};
use lorawan::{Eui64, Modulation};

/// FSK frequency deviation of LoRaWAN (RP002 §4.2).
const FSK_DEVIATION_HZ: u32 = 25_000;

/// A transmission as it is sent to gateways.
pub(crate) fn packet(transmission: &Transmission) -> TxPacket {
    let deviation_hz = matches!(transmission.modulation, Modulation::Fsk { .. }).then_some(FSK_DEVIATION_HZ);
    let beacon = transmission.window == Window::Beacon;
    TxPacket {
        when: match transmission.when {
            When::Clock(clock_us) => TxTime::Clock(clock_us),
            When::AtOnce => TxTime::AtOnce,
            // The protocol counts milliseconds, and both beacons and ping slots begin with one.
            When::Gps(us) => TxTime::GpsMs(us.unsigned_abs() / 1000),
        },
        frequency_hz: transmission.frequency_hz,
        rf_chain: 0,
        power_dbm: transmission.power_dbm,
        modulation: transmission.modulation,
        // Devices must hear a beacon as other gateways do not (TS001-1.1 §15.1).
        inverted_polarity: !beacon,
        no_header: beacon,
        preamble_symbols: beacon.then_some(10),
        deviation_hz,
        // LoRa downlinks carry no CRC (TS001 §3.1); an FSK packet always does (RP002 §4.2).
        no_crc: deviation_hz.is_none(),
        phy_payload: transmission.phy_payload.clone(),
    }
}

/// The gateway's error as the engine's type.
pub(super) fn failure(word: TxAckError) -> TxFailure {
    match word {
        TxAckError::TooLate => TxFailure::TooLate,
        TxAckError::TooEarly => TxFailure::TooEarly,
        TxAckError::CollisionPacket => TxFailure::CollisionPacket,
        TxAckError::CollisionBeacon => TxFailure::CollisionBeacon,
        TxAckError::TxFreq => TxFailure::Frequency,
        TxAckError::TxPower => TxFailure::Power,
        TxAckError::GpsUnlocked => TxFailure::GpsUnlocked,
        TxAckError::Other(word) => TxFailure::Refused(word),
    }
}

/// A frame that a gateway heard.
pub(super) fn heard(gateway: Eui64, frame: RxPacket) -> FrameHeard {
    FrameHeard {
        phy_payload: frame.phy_payload,
        reception: Reception {
            gateway,
            // The network's to say.
            heard_at: engine::Timestamp::default(),
            clock_us: frame.clock_us,
            has_gps: frame.gps_time_ms.is_some(),
            frequency_hz: frame.frequency_hz,
            modulation: frame.modulation,
            rssi_dbm: frame.rssi_dbm as f32,
            snr_db: frame.snr_db.map(|snr| snr as f32),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use engine::{Timestamp, TransmissionId};

    #[test]
    fn only_lora_frames_go_without_crc() {
        let transmission = |modulation| Transmission {
            id: TransmissionId(1),
            towards: None,
            gateway: Eui64(1),
            when: When::Clock(7),
            at: Timestamp(0),
            window: Window::Rx1,
            frequency_hz: 868_800_000,
            modulation,
            power_dbm: 14,
            airtime_us: 1,
            phy_payload: vec![0x60],
        };
        let lora = packet(&transmission(Modulation::lora(7, 125).expect("a data rate")));
        assert!(lora.no_crc && lora.deviation_hz.is_none());
        let fsk = packet(&transmission(Modulation::Fsk { bit_rate_bps: 50_000 }));
        assert!(!fsk.no_crc && fsk.deviation_hz == Some(25_000));
    }
}

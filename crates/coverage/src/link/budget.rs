//! A link from its loss: received power, margin by data rate, airtime, duty cycle and charge, both ways.

use lorawan::airtime::uplink_us;
use lorawan::limits::{duty_cycle, noise_dbm, sensitivity_dbm};
use lorawan::modulation::{Modulation, SpreadingFactor};
use serde::{Deserialize, Serialize};

use super::antenna::{Antenna, AntennaError};
use super::shadowing::{fade_margin_db, reliability};
use crate::range::{RangeError, within};

/// A gateway's radio.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Station {
    /// Its antenna.
    pub antenna: Antenna,
    /// Above the ground, in metres.
    pub height_m: f64,
    /// What it transmits, before the cable, in dBm.
    pub power_dbm: f64,
    /// Lost in the cable, in dB.
    pub cable_loss_db: f64,
    /// Noise of its receiver, in dB.
    pub noise_figure_db: f64,
}

impl Default for Station {
    fn default() -> Self {
        Self {
            antenna: Antenna::Omni { gain_dbi: 3.0, vertical_beam_deg: 75.0 },
            height_m: 10.0,
            power_dbm: 14.0,
            cable_loss_db: 1.0,
            noise_figure_db: lorawan::limits::NOISE_FIGURE_DB,
        }
    }
}

impl Station {
    /// Checks its numbers.
    ///
    /// # Errors
    /// One is outside its range.
    pub fn check(&self) -> Result<(), AntennaError> {
        self.antenna.check()?;
        within("height_m", self.height_m, 0.5..=1_000.0, "m")?;
        within("power_dbm", self.power_dbm, -10.0..=40.0, "dBm")?;
        within("cable_loss_db", self.cable_loss_db, 0.0..=30.0, "dB")?;
        within("noise_figure_db", self.noise_figure_db, 0.0..=30.0, "dB")?;
        Ok(())
    }
}

/// A device's radio.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Terminal {
    /// Its antenna's gain, in dBi: it lies as it likes, so that it has no direction.
    pub gain_dbi: f64,
    /// Above the ground, in metres.
    pub height_m: f64,
    /// What it transmits, in dBm.
    pub power_dbm: f64,
    /// Lost in walls, soil or a body, in dB.
    pub penetration_loss_db: f64,
    /// Noise of its receiver, in dB.
    pub noise_figure_db: f64,
    /// What it draws while transmitting and receiving.
    pub draw: Draw,
}

impl Default for Terminal {
    fn default() -> Self {
        Self {
            gain_dbi: 0.0,
            height_m: 1.5,
            power_dbm: 14.0,
            penetration_loss_db: 0.0,
            noise_figure_db: lorawan::limits::NOISE_FIGURE_DB,
            draw: Draw::default(),
        }
    }
}

impl Terminal {
    /// Checks its numbers.
    ///
    /// # Errors
    /// One is outside its range.
    pub fn check(&self) -> Result<(), RangeError> {
        within("gain_dbi", self.gain_dbi, -20.0..=20.0, "dBi")?;
        within("height_m", self.height_m, 0.0..=1_000.0, "m")?;
        within("power_dbm", self.power_dbm, -10.0..=30.0, "dBm")?;
        within("penetration_loss_db", self.penetration_loss_db, 0.0..=60.0, "dB")?;
        within("noise_figure_db", self.noise_figure_db, 0.0..=30.0, "dB")?;
        within("transmit_ma", self.draw.transmit_ma, 0.0..=1_000.0, "mA")?;
        within("receive_ma", self.draw.receive_ma, 0.0..=1_000.0, "mA")?;
        within("receive_s", self.draw.receive_s, 0.0..=60.0, "s")
    }
}

/// What a device draws.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Draw {
    /// While it transmits, in mA.
    pub transmit_ma: f64,
    /// While it receives, in mA.
    pub receive_ma: f64,
    /// How long it receives after each uplink, in seconds.
    pub receive_s: f64,
}

impl Default for Draw {
    /// A radio of today at 14 dBm, and two empty receive windows.
    fn default() -> Self {
        Self { transmit_ma: 44.0, receive_ma: 11.0, receive_s: 0.1 }
    }
}

/// How a link is judged.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Judgement {
    /// The share of places where it is to work, 0.01 to 0.999.
    pub reliability: f64,
    /// How losses differ between places that look the same, as a standard deviation in dB.
    pub shadowing_db: f64,
    /// The device's application payload, in bytes.
    pub payload_bytes: usize,
    /// How often it sends, in seconds.
    pub interval_s: f64,
}

impl Default for Judgement {
    fn default() -> Self {
        Self { reliability: 0.9, shadowing_db: 6.0, payload_bytes: 20, interval_s: 600.0 }
    }
}

impl Judgement {
    /// Checks its numbers.
    ///
    /// # Errors
    /// One is outside its range.
    pub fn check(&self) -> Result<(), RangeError> {
        within("reliability", self.reliability, 0.01..=0.999, "")?;
        within("shadowing_db", self.shadowing_db, 0.0..=20.0, "dB")?;
        within("payload_bytes", self.payload_bytes as f64, 0.0..=242.0, "bytes")?;
        within("interval_s", self.interval_s, 1.0..=31_536_000.0, "s")
    }

    /// The margin kept for places that are worse, in dB.
    pub fn fade_margin_db(&self) -> f64 {
        fade_margin_db(self.reliability, self.shadowing_db).max(0.0)
    }
}

/// A data rate that a device may use: its number, its modulation.
pub type DataRate = (u8, Modulation);

/// A link at one data rate.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RateBudget {
    /// The data rate's number in the region.
    pub data_rate: u8,
    /// Its spreading factor.
    pub spreading_factor: SpreadingFactor,
    /// Its bandwidth, in kHz.
    pub bandwidth_khz: u32,
    /// The weakest signal that the gateway understands, in dBm.
    pub sensitivity_dbm: f64,
    /// Above it, the fade margin taken off, in dB.
    pub margin_db: f64,
    /// The share of places where it works.
    pub reliability: f64,
    /// How long a frame is on the air, in ms.
    pub airtime_ms: f64,
    /// The share of the time that the device is on the air.
    pub duty_cycle: f64,
    /// What a message costs, in µAh.
    pub charge_uah: f64,
}

/// A link.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Budget {
    /// What the gateway receives, in dBm.
    pub uplink_dbm: f64,
    /// Over the noise of 125 kHz, in dB.
    pub uplink_snr_db: f64,
    /// What the device receives, in dBm.
    pub downlink_dbm: f64,
    /// Over the noise of 125 kHz, in dB.
    pub downlink_snr_db: f64,
    /// Kept for places that are worse, in dB.
    pub fade_margin_db: f64,
    /// Each data rate, in the order given.
    pub rates: Vec<RateBudget>,
    /// The fastest that works; none if none does.
    pub best_data_rate: Option<u8>,
}

/// Bytes around an application payload: MHDR, DevAddr, FCtrl, FCnt, FPort, MIC (LoRaWAN L2 1.0.4 §4).
const AROUND_PAYLOAD: usize = 13;
/// The bandwidth of the noise that both SNRs are told over.
const SNR_BANDWIDTH_HZ: u32 = 125_000;

/// The budget of a link with this loss. `direction` is the way from the station to the terminal: bearing and elevation, in
/// degrees.
pub fn budget(
    (station, terminal): (&Station, &Terminal),
    loss_db: f64,
    direction: (f64, f64),
    rates: &[DataRate],
    judgement: &Judgement,
) -> Budget {
    let station_db = station.antenna.gain_dbi(direction.0, direction.1) - station.cable_loss_db;
    let way_db = station_db + terminal.gain_dbi - terminal.penetration_loss_db - loss_db;
    let (uplink_dbm, downlink_dbm) = (terminal.power_dbm + way_db, station.power_dbm + way_db);
    let fade_margin_db = judgement.fade_margin_db();
    let rate = |&(data_rate, modulation): &DataRate| {
        let Modulation::Lora { spreading_factor, bandwidth } = modulation else { return None };
        let sensitivity_dbm = sensitivity_dbm(spreading_factor, bandwidth.hz(), station.noise_figure_db);
        let airtime_us = uplink_us(modulation, judgement.payload_bytes + AROUND_PAYLOAD);
        let airtime_s = airtime_us as f64 / 1e6;
        let draw = &terminal.draw;
        Some(RateBudget {
            data_rate,
            spreading_factor,
            bandwidth_khz: bandwidth.khz(),
            sensitivity_dbm,
            margin_db: uplink_dbm - sensitivity_dbm - fade_margin_db,
            reliability: reliability(uplink_dbm - sensitivity_dbm, judgement.shadowing_db),
            airtime_ms: airtime_s * 1000.0,
            duty_cycle: duty_cycle(airtime_us, (judgement.interval_s * 1e6) as u64),
            charge_uah: (draw.transmit_ma * airtime_s + draw.receive_ma * draw.receive_s) / 3.6,
        })
    };
    let rates: Vec<RateBudget> = rates.iter().filter_map(rate).collect();
    let works = |one: &&RateBudget| one.margin_db >= 0.0;
    let best = rates.iter().filter(works).min_by(|a, b| a.airtime_ms.total_cmp(&b.airtime_ms));
    Budget {
        uplink_dbm,
        uplink_snr_db: uplink_dbm - noise_dbm(SNR_BANDWIDTH_HZ, station.noise_figure_db),
        downlink_dbm,
        downlink_snr_db: downlink_dbm - noise_dbm(SNR_BANDWIDTH_HZ, terminal.noise_figure_db),
        fade_margin_db,
        best_data_rate: best.map(|best| best.data_rate),
        rates,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn eu868() -> Vec<DataRate> {
        (0..6).map(|n| (n, Modulation::lora(12 - n, 125).unwrap())).collect()
    }

    fn of(loss_db: f64, judgement: &Judgement) -> Budget {
        let station = Station { antenna: Antenna::ISOTROPIC, cable_loss_db: 0.0, ..Station::default() };
        budget((&station, &Terminal::default()), loss_db, (0.0, 0.0), &eu868(), judgement)
    }

    #[test]
    fn a_budget_is_the_sum_that_is_done_by_hand() {
        let sure = Judgement { shadowing_db: 0.0, ..Judgement::default() };
        let one = of(130.0, &sure);
        // 14 dBm - 130 dB; noise of 125 kHz and 6 dB is -117.03 dBm.
        assert_eq!((one.uplink_dbm, one.downlink_dbm), (-116.0, -116.0));
        assert!((one.uplink_snr_db - 1.03).abs() < 0.01);
        // SF7 needs -7.5 dB: -124.5 dBm.
        let fastest = one.rates.last().unwrap();
        assert!((fastest.sensitivity_dbm + 124.53).abs() < 0.01 && (fastest.margin_db - 8.53).abs() < 0.01);
        assert_eq!((one.best_data_rate, fastest.reliability), (Some(5), 1.0));
        // 33 bytes at SF7 are 71.9 ms; 44 mA of them and 11 mA for 0.1 s are 1.18 µAh.
        assert!((fastest.airtime_ms - 71.9).abs() < 0.1 && (fastest.charge_uah - 1.185).abs() < 0.01, "{fastest:?}");
        assert!((fastest.duty_cycle - 71.936e-3 / 600.0).abs() < 1e-6);
        assert_eq!(of(141.0, &sure).best_data_rate, Some(4));
        assert_eq!(of(160.0, &sure).best_data_rate, None);
    }

    #[test]
    fn reliability_costs_margin() {
        let careful = of(130.0, &Judgement { reliability: 0.95, ..Judgement::default() });
        assert!((careful.fade_margin_db - 9.87).abs() < 0.01);
        assert_eq!(careful.best_data_rate, Some(4), "8.5 dB are too few for 9.9");
        assert!(careful.rates.windows(2).all(|pair| pair[0].reliability >= pair[1].reliability));
        let weak = of(200.0, &Judgement::default());
        assert_eq!(weak.best_data_rate, None);
        let why = Judgement { reliability: 1.0, ..Judgement::default() }.check().unwrap_err().to_string();
        assert!(why.contains("reliability is 1"), "{why}");
        assert!(Station { height_m: 0.0, ..Station::default() }.check().is_err());
        assert!(Terminal { penetration_loss_db: -3.0, ..Terminal::default() }.check().is_err());
    }

    #[test]
    fn a_beam_and_a_cable_count_both_ways() {
        let beam = Antenna::Sector {
            gain_dbi: 10.0,
            azimuth_deg: 0.0,
            tilt_deg: 0.0,
            horizontal_beam_deg: 60.0,
            vertical_beam_deg: 20.0,
            front_to_back_db: 20.0,
        };
        let station = Station { antenna: beam, cable_loss_db: 2.0, power_dbm: 20.0, ..Station::default() };
        let at =
            |bearing| budget((&station, &Terminal::default()), 120.0, (bearing, 0.0), &eu868(), &Judgement::default());
        assert_eq!((at(0.0).uplink_dbm, at(0.0).downlink_dbm), (-98.0, -92.0));
        assert_eq!(at(180.0).uplink_dbm, -118.0);
    }
}

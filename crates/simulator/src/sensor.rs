//! What stand-in devices measure, and how they put it into bytes. The decoders that belong to these
//! bytes are in the catalogue.

use rand::RngExt as _;
use rand::rngs::ThreadRng;
use serde::Deserialize;

/// The port on which a sluice takes commands: one byte, the opening wanted in percent.
pub const SLUICE_COMMAND_PORT: u8 = 10;

/// A kind of sensor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SensorKind {
    /// Water level and salinity.
    TideGauge,
    /// The same with a firmware that nobody has told the decoder of: another port, and the water's temperature as well.
    TideGauge3,
    /// A gate that can be opened by command.
    Sluice,
    /// A collar on a grazing animal.
    Collar,
}

/// A sensor with its state.
#[derive(Debug, Clone)]
pub struct Sensor {
    kind: SensorKind,
    /// Seconds since the start, advanced with each measurement.
    clock_s: f64,
    opening_percent: u8,
    battery_mv: u16,
    /// Offset from where the animal was put, in 1e-5 degrees.
    wander: (i32, i32),
    origin: (f64, f64),
}

impl Sensor {
    /// A sensor of this kind, at this place.
    pub fn new(kind: SensorKind, latitude_deg: f64, longitude_deg: f64) -> Self {
        Self {
            kind,
            clock_s: rand::rng().random_range(0.0..40_000.0),
            opening_percent: 0,
            battery_mv: rand::rng().random_range(3_400..3_650),
            wander: (0, 0),
            origin: (latitude_deg, longitude_deg),
        }
    }

    /// Port and payload of the next measurement, `passed_s` after the last.
    pub fn measure(&mut self, passed_s: f64) -> (u8, Vec<u8>) {
        let rng = &mut rand::rng();
        self.clock_s += passed_s;
        match self.kind {
            SensorKind::TideGauge => (2, self.tide(rng)),
            SensorKind::TideGauge3 => {
                let decidegrees = (160.0 + 30.0 * (self.clock_s / 86_400.0).sin() + rng.random_range(-4.0..4.0)) as i16;
                (5, [self.tide(rng).as_slice(), &decidegrees.to_be_bytes()].concat())
            }
            SensorKind::Sluice => (3, vec![self.opening_percent, u8::from(self.opening_percent > 0), self.decivolts()]),
            SensorKind::Collar => (4, self.collar(rng)),
        }
    }

    /// u16 level in mm, u16 salinity in 0.01 g/kg, u16 battery in mV.
    fn tide(&mut self, rng: &mut ThreadRng) -> Vec<u8> {
        // The principal lunar tide has a period of 12.42 hours.
        let phase = self.clock_s / (12.42 * 3600.0) * std::f64::consts::TAU;
        let level_mm = 2_400.0 + 1_300.0 * phase.sin() + rng.random_range(-25.0..25.0);
        let salinity = 3_150.0 + 180.0 * phase.sin() + rng.random_range(-12.0..12.0);
        [level_mm as u16, salinity as u16, self.battery_mv].iter().flat_map(|v| v.to_be_bytes()).collect()
    }

    /// i32 latitude and longitude in 1e-5 degrees, u8 steps a minute, u8 battery in 20 mV.
    fn collar(&mut self, rng: &mut ThreadRng) -> Vec<u8> {
        let limit = 400;
        self.wander.0 = (self.wander.0 + rng.random_range(-30..=30)).clamp(-limit, limit);
        self.wander.1 = (self.wander.1 + rng.random_range(-30..=30)).clamp(-limit, limit);
        let latitude = (self.origin.0 * 1e5) as i32 + self.wander.0;
        let longitude = (self.origin.1 * 1e5) as i32 + self.wander.1;
        let mut out = [latitude.to_be_bytes(), longitude.to_be_bytes()].concat();
        out.extend([rng.random_range(0..60u8), (self.battery_mv / 20) as u8]);
        out
    }

    fn decivolts(&self) -> u8 {
        (self.battery_mv / 20) as u8
    }

    /// Takes a command; says what it does.
    pub fn command(&mut self, port: u8, payload: &[u8]) -> String {
        match (self.kind, port, payload) {
            (SensorKind::Sluice, SLUICE_COMMAND_PORT, [opening @ 0..=100]) => {
                self.opening_percent = *opening;
                format!("the gate goes to {opening} %")
            }
            _ => "it does not know this command".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sluice_does_as_it_is_told() {
        let mut sluice = Sensor::new(SensorKind::Sluice, 54.7, 3.9);
        assert_eq!(sluice.measure(1.0).1[0], 0);
        sluice.command(SLUICE_COMMAND_PORT, &[40]);
        assert_eq!(sluice.measure(1.0).1[..2], [40, 1]);
        assert!(sluice.command(SLUICE_COMMAND_PORT, &[101]).contains("does not know"));
        assert_eq!(sluice.measure(1.0).1[0], 40);
    }
}

//! What stand-in devices measure, and how they put it into bytes. The decoders that belong to these bytes are in the catalogue.
//!
//! All but a gate that was moved by command follows from the moment: a device that was off goes on as if it had been there.

use coverage::geo::Place;
use lorawan::mac::Battery;
use serde::{Deserialize, Serialize};

use crate::environment::{
    DAY_US, MomentUs, drift, hour, humidity_percent, pressure_hpa, rain_since_midnight_mm, temperature_c, tide_m,
    wind_from_deg, wind_mps,
};
use crate::walk::activity;

/// The port on which a sluice takes commands: one byte, the opening wanted in percent.
pub const SLUICE_COMMAND_PORT: u8 = 10;
/// A gate that works by itself obeys a command for this long.
const OBEYS_US: i64 = 12 * 3_600_000_000;

/// A kind of sensor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SensorKind {
    /// Water level and salinity.
    TideGauge,
    /// The same with a firmware that nobody has told the decoder of: another port, and the water's temperature as well.
    TideGauge3,
    /// A gate that is moved by command.
    Sluice,
    /// A gate that opens by itself while the sea is low, and obeys a command for some hours.
    TideSluice,
    /// A collar on a grazing animal.
    Collar,
    /// A scale under a nest.
    NestScale,
    /// A counter at the door of a hide.
    HideCounter,
    /// A mast that measures the weather.
    WeatherMast,
}

impl SensorKind {
    fn has_mains(self) -> bool {
        matches!(self, Self::Sluice | Self::TideSluice | Self::WeatherMast)
    }
}

/// A battery.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cell {
    /// When it was put in.
    pub since_us: MomentUs,
    /// How long it lasts, in days.
    pub lasts_days: f64,
}

impl Cell {
    /// What is left of it, 0 to 1.
    fn left(self, at_us: MomentUs) -> f64 {
        let days = (at_us - self.since_us) as f64 / DAY_US as f64;
        (1.0 - days / self.lasts_days).clamp(0.0, 1.0)
    }

    /// Its voltage: even for most of its life, and less in the cold.
    fn volts(self, at_us: MomentUs) -> f64 {
        let (left, cold) = (self.left(at_us), (10.0 - temperature_c(at_us)).max(0.0));
        3.02 + 0.55 * (left * 6.0).min(1.0) + 0.07 * left - 0.004 * cold
    }
}

/// The opening a gate was told to have, and when.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    opening_percent: u8,
    at_us: MomentUs,
}

/// A sensor with its state.
#[derive(Debug, Clone)]
pub struct Sensor {
    kind: SensorKind,
    /// Tells it from others of its kind.
    seed: u64,
    cell: Cell,
    /// What a gate was last told.
    pub told: Option<Told>,
}

fn be16(value: f64) -> [u8; 2] {
    (value.round().clamp(0.0, 65_535.0) as u16).to_be_bytes()
}

fn be16_signed(value: f64) -> [u8; 2] {
    (value.round().clamp(-32_768.0, 32_767.0) as i16).to_be_bytes()
}

impl Sensor {
    /// A sensor of this kind with this battery.
    pub fn new(kind: SensorKind, seed: u64, cell: Cell) -> Self {
        Self { kind, seed, cell, told: None }
    }

    /// Makes it one of another kind: new firmware.
    pub fn become_kind(&mut self, kind: SensorKind) {
        self.kind = kind;
    }

    /// What it says of its battery.
    pub fn battery(&self, at_us: MomentUs) -> Battery {
        match self.kind.has_mains() {
            true => Battery::External,
            false => Battery::Level((self.cell.left(at_us) * 253.0) as u8 + 1),
        }
    }

    /// Port and payload of a measurement, at the place where the device is.
    pub fn measure(&self, at_us: MomentUs, place: Place) -> (u8, Vec<u8>) {
        match self.kind {
            SensorKind::TideGauge => (2, self.tide(at_us)),
            SensorKind::TideGauge3 => {
                let decidegrees = 10.0 * (0.5 * temperature_c(at_us) + 6.0);
                (5, [self.tide(at_us).as_slice(), &be16_signed(decidegrees)].concat())
            }
            SensorKind::Sluice | SensorKind::TideSluice => {
                let opening = self.opening_percent(at_us);
                (3, vec![opening, u8::from(opening > 0), 180 + (drift(self.seed, at_us, 4e4) * 1.4) as u8])
            }
            SensorKind::Collar => (4, self.collar(at_us, place)),
            SensorKind::NestScale => (1, self.nest(at_us)),
            SensorKind::HideCounter => (1, self.hide(at_us)),
            SensorKind::WeatherMast => (1, weather(self.seed, at_us)),
        }
    }

    /// u16 level in mm, u16 salinity in 0.01 g/kg, u16 battery in mV. Each gauge has its own creek: high water comes later, and
    /// the water is fresher after rain.
    fn tide(&self, at_us: MomentUs) -> Vec<u8> {
        let late_us = (self.seed % 7) as i64 * 240_000_000;
        let level_m = tide_m(at_us - late_us) + 0.02 * drift(self.seed ^ 1, at_us, 90.0);
        let fresh = 2.2 * (rain_since_midnight_mm(at_us) / 20.0).min(1.0) + (self.seed % 5) as f64 * 0.4;
        let salinity = 32.4 + 0.8 * (level_m - 2.4) - fresh + 0.15 * drift(self.seed ^ 2, at_us, 1_800.0);
        [be16(level_m * 1000.0), be16(salinity * 100.0), be16(self.cell.volts(at_us) * 1000.0)].concat()
    }

    fn opening_percent(&self, at_us: MomentUs) -> u8 {
        let told = self.told.filter(|told| self.kind == SensorKind::Sluice || at_us - told.at_us < OBEYS_US);
        match told {
            Some(told) => told.opening_percent,
            None if self.kind == SensorKind::Sluice => 0,
            // The land behind it drains while the sea is lower.
            None => ((2.1 - tide_m(at_us)) * 90.0).round().clamp(0.0, 100.0) as u8,
        }
    }

    /// i32 latitude and longitude in 1e-5 degrees, u8 steps a minute, u8 battery in 20 mV.
    fn collar(&self, at_us: MomentUs, place: Place) -> Vec<u8> {
        let fix = |degrees: f64| ((degrees * 1e5).round() as i32).to_be_bytes();
        let mut out = [fix(place.latitude_deg), fix(place.longitude_deg)].concat();
        out.extend([activity(self.seed, at_us), self.in_20_mv(at_us)]);
        out
    }

    /// A mark, i16 weight in g, i8 temperature in half degrees, u8 battery in 20 mV. Chicks grow for a month and more; a parent is
    /// there or away.
    fn nest(&self, at_us: MomentUs) -> Vec<u8> {
        let brood_days = (at_us / DAY_US + (self.seed % 17) as i64).rem_euclid(75) as f64 + (hour(at_us) / 24.0);
        let chicks = 1.0 + (self.seed % 3) as f64;
        let chick_g = 55.0 + 1_150.0 / (1.0 + (-(brood_days - 24.0) / 5.0).exp());
        let chicks_g = if (0.0..48.0).contains(&brood_days) { chicks * chick_g } else { 0.0 };
        let (day, there) = ((6.0..20.0).contains(&hour(at_us)), drift(self.seed, at_us, 5_400.0));
        let parent_g = if chicks_g > 0.0 && (!day || there > -0.1) { 1_180.0 + (self.seed % 240) as f64 } else { 0.0 };
        let twigs_g =
            14.0 * drift(self.seed ^ 9, at_us, 2e5) + 3.0 * wind_mps(at_us) * drift(self.seed ^ 8, at_us, 60.0);
        let half_degrees = (temperature_c(at_us) * 2.0).round().clamp(-128.0, 127.0) as i8;
        let weight = be16_signed(chicks_g + parent_g + twigs_g);
        vec![0x0a, weight[0], weight[1], half_degrees as u8, self.in_20_mv(at_us)]
    }

    /// u16 visitors since midnight, u8 inside, u8 battery in percent.
    fn hide(&self, at_us: MomentUs) -> Vec<u8> {
        const STEP_US: i64 = 900_000_000;
        let midnight_us = at_us - at_us.rem_euclid(DAY_US);
        // 1970 began on a Thursday.
        let weekend = matches!((at_us.div_euclid(DAY_US) + 4).rem_euclid(7), 0 | 6);
        let busy = if weekend { 5.0 } else { 2.2 } + (self.seed % 3) as f64 * 0.6;
        let come = |step_us: i64| {
            let day = ((hour(step_us) - 8.0) / 11.0 * std::f64::consts::PI).sin();
            let open = (8.0..19.0).contains(&hour(step_us));
            let draw = drift(self.seed ^ 0x41de, step_us, 900.0) + 0.4;
            if open { (busy * day * draw).max(0.0).round() } else { 0.0 }
        };
        let steps = (at_us - midnight_us) / STEP_US;
        let visitors: f64 = (0..steps).map(|n| come(midnight_us + n * STEP_US)).sum();
        let inside: f64 = (0..3).map(|n| come(at_us - at_us.rem_euclid(STEP_US) - n * STEP_US)).sum();
        let [high, low] = be16(visitors);
        vec![high, low, inside.min(visitors) as u8, (self.cell.left(at_us) * 100.0).ceil() as u8]
    }

    fn in_20_mv(&self, at_us: MomentUs) -> u8 {
        (self.cell.volts(at_us) * 50.0).round() as u8
    }

    /// Takes a command; says what it does.
    pub fn command(&mut self, port: u8, payload: &[u8], at_us: MomentUs) -> String {
        match (self.kind, port, payload) {
            (SensorKind::Sluice | SensorKind::TideSluice, SLUICE_COMMAND_PORT, [opening @ 0..=100]) => {
                self.told = Some(Told { opening_percent: *opening, at_us });
                format!("the gate goes to {opening} %")
            }
            _ => "it does not know this command".into(),
        }
    }
}

/// u16 wind and gust in 0.1 m/s, u16 direction, i16 temperature in 0.1 °C, u8 humidity, u16 pressure in 0.1 hPa, u16 rain since
/// midnight in 0.1 mm.
fn weather(seed: u64, at_us: MomentUs) -> Vec<u8> {
    let wind = wind_mps(at_us) * (0.9 + (seed % 5) as f64 * 0.06);
    let gust = wind * (1.35 + 0.25 * drift(seed, at_us, 300.0));
    let mut out = [be16(wind * 10.0), be16(gust * 10.0), be16(wind_from_deg(at_us))].concat();
    out.extend(be16_signed(temperature_c(at_us) * 10.0));
    out.push(humidity_percent(at_us).round() as u8);
    out.extend([be16(pressure_hpa(at_us) * 10.0), be16(rain_since_midnight_mm(at_us) * 10.0)].concat());
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLACE: Place = Place { latitude_deg: 54.7, longitude_deg: 3.9 };
    const MAY: MomentUs = 1_777_593_600_000_000;

    fn sensor(kind: SensorKind) -> Sensor {
        Sensor::new(kind, 0x02b0_0200_0000_0007, Cell { since_us: MAY - 100 * DAY_US, lasts_days: 900.0 })
    }

    #[test]
    fn a_sluice_does_as_it_is_told() {
        let mut sluice = sensor(SensorKind::Sluice);
        assert_eq!(sluice.measure(MAY, PLACE).1[0], 0);
        sluice.command(SLUICE_COMMAND_PORT, &[40], MAY);
        assert_eq!(sluice.measure(MAY + 5 * DAY_US, PLACE).1[..2], [40, 1]);
        assert!(sluice.command(SLUICE_COMMAND_PORT, &[101], MAY).contains("does not know"));
        assert_eq!(sluice.measure(MAY, PLACE).1[0], 40);
    }

    #[test]
    fn a_sluice_that_works_by_itself_drains_at_low_water() {
        let mut sluice = sensor(SensorKind::TideSluice);
        let opening = |sluice: &Sensor, minutes: i64| sluice.measure(MAY + minutes * 60_000_000, PLACE).1[0];
        let day: Vec<u8> = (0..1440).map(|minutes| opening(&sluice, minutes)).collect();
        assert!(day.contains(&0) && day.iter().any(|opening| *opening > 30));
        sluice.command(SLUICE_COMMAND_PORT, &[33], MAY);
        assert!((0..720).all(|minutes| opening(&sluice, minutes) == 33));
        assert_eq!(opening(&sluice, 800), day[800], "after twelve hours it works by itself again");
    }

    #[test]
    fn batteries_run_down() {
        let collar = sensor(SensorKind::Collar);
        let volts = |days: i64| f64::from(collar.measure(MAY + days * DAY_US, PLACE).1[9]) / 50.0;
        assert!((3.5..3.7).contains(&volts(0)), "{}", volts(0));
        assert!(volts(790) < 3.3 && volts(700) < volts(0) + 0.1, "{}", volts(790));
        let level = |days: i64| match collar.battery(MAY + days * DAY_US) {
            Battery::Level(level) => level,
            other => panic!("{other:?}"),
        };
        assert!(level(0) > level(300) && level(2000) == 1);
        assert_eq!(sensor(SensorKind::Sluice).battery(MAY), Battery::External);
    }

    #[test]
    fn what_is_measured_is_what_the_models_read() {
        let lengths = [
            (SensorKind::TideGauge, 6),
            (SensorKind::TideGauge3, 8),
            (SensorKind::TideSluice, 3),
            (SensorKind::Collar, 10),
            (SensorKind::NestScale, 5),
            (SensorKind::HideCounter, 4),
            (SensorKind::WeatherMast, 13),
        ];
        for (kind, length) in lengths {
            assert_eq!(sensor(kind).measure(MAY + 50_000_000_000, PLACE).1.len(), length, "{kind:?}");
        }
        let hide = sensor(SensorKind::HideCounter);
        let visitors = |hours: i64| {
            let bytes = hide.measure(MAY + hours * 3_600_000_000, PLACE).1;
            u16::from_be_bytes([bytes[0], bytes[1]])
        };
        assert!(
            visitors(3) == 0 && visitors(23) > 20 && visitors(12) <= visitors(23),
            "they are counted from midnight"
        );
        assert_eq!(visitors(25), 0);
    }
}

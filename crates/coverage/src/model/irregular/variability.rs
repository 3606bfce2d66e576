//! How the loss varies with time, place and situation (Algorithm §27 to §39).

use super::terrain::Shape;
use super::{Climate, Medium, Mode, Settings};
use crate::model::p1812::inverse_complementary_normal;

/// A curve over the effective distance: c₁, c₂, x₁, x₂, x₃, the lengths in km.
type Curve = [f64; 5];

/// What a climate does (NTIA 82-100 Figures 10 and 11, as the algorithm tabulates them in §29).
struct Table {
    /// The difference between the median and the reference.
    median: Curve,
    /// Deviation with time below the median, and above.
    below: Curve,
    above: Curve,
    /// Beyond this many deviations another slope holds, and its ratio.
    bend: f64,
    bend_ratio: f64,
    /// Factors by frequency: below, and above.
    frequency: [[f64; 3]; 2],
}

const PLAIN: [f64; 3] = [1.0, 0.0, 0.0];

const fn table(climate: Climate) -> Table {
    let (median, below, above) = match climate {
        Climate::Equatorial => {
            ([-9.67, 12.7, 144.9, 190.3, 133.8], [2.13, 159.5, 762.2, 123.6, 94.5], [2.11, 102.3, 636.9, 134.8, 95.6])
        }
        Climate::ContinentalSubtropical => {
            ([-0.62, 9.19, 228.9, 205.2, 143.6], [2.66, 7.67, 100.4, 172.5, 136.4], [6.87, 15.53, 138.7, 143.7, 98.6])
        }
        Climate::MaritimeSubtropical => {
            ([1.26, 15.5, 262.6, 185.2, 99.8], [6.11, 6.65, 138.2, 242.2, 178.6], [10.08, 9.60, 165.3, 225.7, 129.7])
        }
        Climate::Desert => {
            ([-9.21, 9.05, 84.1, 101.1, 98.6], [1.98, 13.11, 139.1, 132.7, 193.5], [3.68, 159.3, 464.4, 93.1, 94.2])
        }
        Climate::ContinentalTemperate => {
            ([-0.62, 9.19, 228.9, 205.2, 143.6], [2.68, 7.16, 93.7, 186.8, 133.5], [4.75, 8.12, 93.2, 135.9, 113.4])
        }
        Climate::MaritimeTemperateLand => {
            ([-0.39, 2.86, 141.7, 315.9, 167.4], [6.86, 10.38, 187.8, 169.6, 108.9], [8.58, 13.97, 216.0, 152.0, 122.7])
        }
        Climate::MaritimeTemperateSea => {
            ([3.15, 857.9, 2222.0, 164.8, 116.3], [8.51, 169.8, 609.8, 119.9, 106.6], [8.43, 8.19, 136.2, 188.5, 122.9])
        }
    };
    let (bend_ratio, bend) = match climate {
        Climate::Equatorial | Climate::ContinentalTemperate => (1.224, 1.282),
        Climate::ContinentalSubtropical => (0.801, 2.161),
        Climate::MaritimeSubtropical => (1.380, 1.282),
        Climate::Desert => (1.000, 20.0),
        Climate::MaritimeTemperateLand | Climate::MaritimeTemperateSea => (1.518, 1.282),
    };
    let frequency = match climate {
        Climate::ContinentalSubtropical => [PLAIN, [0.93, 0.31, 2.00]],
        Climate::Desert => [PLAIN, [0.93, 0.19, 1.79]],
        Climate::ContinentalTemperate => [[0.92, 0.25, 1.77], [0.93, 0.31, 2.00]],
        _ => [PLAIN, PLAIN],
    };
    Table { median, below, above, bend, bend_ratio, frequency }
}

/// §30: a curve at an effective distance.
fn at(curve: Curve, distance_m: f64) -> f64 {
    let [c1, c2, x1, x2, x3] = curve;
    let km = distance_m / 1000.0;
    let far = (km / x1).powi(2);
    (c1 + c2 / (1.0 + ((km - x2) / x3).powi(2))) * far / (1.0 + far)
}

/// How a path varies, in dB.
pub(super) struct Variability {
    median_db: f64,
    below_db: f64,
    above_db: f64,
    bend: f64,
    bend_ratio: f64,
    places_db: f64,
    situations_db2: f64,
}

impl Variability {
    /// §31 to §34.
    pub(super) fn of(shape: &Shape, medium: &Medium, settings: &Settings) -> Self {
        let table = table(settings.climate);
        let [tx, rx] = shape.effective_m;
        let reach_m = (18e6 * tx).sqrt() + (18e6 * rx).sqrt() + (575.7e12 / medium.wave_number).cbrt();
        let effective_m =
            if shape.length_m < reach_m { 130e3 * shape.length_m / reach_m } else { 130e3 + shape.length_m - reach_m };
        let log = (0.133 * medium.wave_number).ln();
        let [below, above] = table.frequency.map(|[a, b, c]| a + b / ((c * log).powi(2) + 1.0));
        let rough = (1.0 - 0.8 * (-shape.length_m / 50e3).exp()) * shape.irregularity_m * medium.wave_number;
        Self {
            median_db: at(table.median, effective_m),
            below_db: at(table.below, effective_m) * below,
            above_db: at(table.above, effective_m) * above,
            bend: table.bend,
            bend_ratio: table.bend_ratio,
            places_db: 10.0 * rough / (rough + 13.0),
            situations_db2: (5.0 + 3.0 * (-effective_m / 100e3).exp()).powi(2),
        }
    }

    /// The attenuation that is not exceeded in the shares asked for (§35 to §39).
    pub(super) fn attenuation_db(&self, reference_db: f64, settings: &Settings) -> f64 {
        let deviations = |percent: f64| inverse_complementary_normal(percent / 100.0);
        let situation = deviations(settings.situations_percent);
        let (mut time, mut place) = (deviations(settings.time_percent), deviations(settings.places_percent));
        match settings.mode {
            Mode::SingleMessage => (time, place) = (situation, situation),
            Mode::Individual => place = situation,
            Mode::Mobile => place = time,
            Mode::Broadcast => {}
        }
        let time_db = if time < 0.0 {
            self.below_db
        } else if time <= self.bend {
            self.above_db
        } else {
            let beyond = self.above_db * self.bend_ratio;
            beyond + (self.above_db - beyond) * self.bend / time
        };
        let spread2 = self.situations_db2
            + (time_db * time).powi(2) / (7.8 + situation * situation)
            + (self.places_db * place).powi(2) / (24.0 + situation * situation);
        let (shift_db, spread_db) = match settings.mode {
            Mode::SingleMessage => (0.0, (time_db.powi(2) + self.places_db.powi(2) + spread2).sqrt()),
            Mode::Individual => (time_db * time, (self.places_db.powi(2) + spread2).sqrt()),
            Mode::Mobile => (time_db.hypot(self.places_db) * time, spread2.sqrt()),
            Mode::Broadcast => (time_db * time + self.places_db * place, spread2.sqrt()),
        };
        let db = reference_db - self.median_db - shift_db - spread_db * situation;
        // Never much better than free space (§39).
        if db < 0.0 { db * (29.0 - db) / (29.0 - 10.0 * db) } else { db }
    }
}

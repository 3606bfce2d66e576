//! Tides and weather of the made-up island, as functions of time alone.

use std::f64::consts::TAU;

/// A moment, in microseconds since 1970.
pub type MomentUs = i64;

/// A day, in microseconds.
pub const DAY_US: i64 = 86_400_000_000;

const HOUR_S: f64 = 3600.0;
const DAY_S: f64 = 86_400.0;

fn seconds(at_us: MomentUs) -> f64 {
    at_us as f64 / 1e6
}

/// A number from -1 to 1 for a seed and a whole number, each time the same.
fn draw(seed: u64, n: i64) -> f64 {
    let mut x = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (n as u64);
    // SplitMix64 (Steele, Lea and Flood, "Fast splittable pseudorandom number generators", 2014).
    x = (x ^ (x >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    x ^= x >> 31;
    (x >> 11) as f64 / (1u64 << 52) as f64 - 1.0
}

/// A value from -1 to 1 that changes smoothly, in about this time.
pub fn drift(seed: u64, at_us: MomentUs, period_s: f64) -> f64 {
    let steps = seconds(at_us) / period_s;
    let (step, part) = (steps.floor(), steps.fract());
    let smooth = part * part * (3.0 - 2.0 * part);
    let (from, to) = (draw(seed, step as i64), draw(seed, step as i64 + 1));
    from + (to - from) * smooth
}

/// The hour of the day, at the island.
pub fn hour(at_us: MomentUs) -> f64 {
    seconds(at_us).rem_euclid(DAY_S) / HOUR_S
}

/// The share of the year that has passed.
fn year(at_us: MomentUs) -> f64 {
    (seconds(at_us) / (365.2425 * DAY_S)).rem_euclid(1.0)
}

/// How high the sea stands above the gauges' zero, in metres. The tides of the moon and of the sun, 12.42 and 12 hours, make
/// springs and neaps; wind adds to them.
pub fn tide_m(at_us: MomentUs) -> f64 {
    let t = seconds(at_us);
    let moon = 1.18 * (t / (12.420_601_2 * HOUR_S) * TAU).sin();
    let sun = 0.41 * (t / (12.0 * HOUR_S) * TAU).sin();
    2.4 + moon + sun + 0.22 * drift(11, at_us, 30.0 * HOUR_S)
}

/// The air, in °C: by season, by day, and with the weather.
pub fn temperature_c(at_us: MomentUs) -> f64 {
    let season = -((year(at_us) - 0.06) * TAU).cos();
    let day = -((hour(at_us) - 3.0) / 24.0 * TAU).cos();
    10.0 + 6.0 * season + 2.2 * day + 3.5 * drift(12, at_us, 40.0 * HOUR_S)
}

/// Mean wind, in m/s.
pub fn wind_mps(at_us: MomentUs) -> f64 {
    (7.0 + 6.0 * drift(13, at_us, 14.0 * HOUR_S) + 1.5 * drift(14, at_us, HOUR_S)).max(0.3)
}

/// Where the wind comes from, in degrees.
pub fn wind_from_deg(at_us: MomentUs) -> f64 {
    (240.0 + 80.0 * drift(15, at_us, 20.0 * HOUR_S) + 8.0 * drift(16, at_us, 0.5 * HOUR_S)).rem_euclid(360.0)
}

/// Pressure, in hPa: low when it blows.
pub fn pressure_hpa(at_us: MomentUs) -> f64 {
    1012.0 - 14.0 * drift(13, at_us + 3 * 3_600_000_000, 14.0 * HOUR_S) + 6.0 * drift(17, at_us, 90.0 * HOUR_S)
}

/// Relative humidity, in percent.
pub fn humidity_percent(at_us: MomentUs) -> f64 {
    (83.0 + 12.0 * drift(18, at_us, 9.0 * HOUR_S) + 4.0 * ((hour(at_us) - 3.0) / 24.0 * TAU).cos()).clamp(35.0, 100.0)
}

/// How hard it rains, in mm an hour.
fn rain_mm_h(at_us: MomentUs) -> f64 {
    (drift(19, at_us, 5.0 * HOUR_S) - 0.45).max(0.0) * 9.0
}

/// Rain since midnight, in mm.
pub fn rain_since_midnight_mm(at_us: MomentUs) -> f64 {
    const STEP_US: i64 = 1_200_000_000;
    let midnight_us = at_us - at_us.rem_euclid(DAY_US);
    let steps = (at_us - midnight_us) / STEP_US;
    (0..steps).map(|n| rain_mm_h(midnight_us + n * STEP_US) / 3.0).sum()
}

/// By how much waves carry further than usual, in dB; less if negative. Layers of warm air over the sea come and go with the
/// weather.
pub fn ducting_db(pair: u64, at_us: MomentUs) -> f64 {
    1.4 * drift(0x00d0_c000 ^ pair, at_us, 7.0 * HOUR_S) + 1.6 * drift(20, at_us, 60.0 * HOUR_S)
}

#[cfg(test)]
mod tests {
    use super::*;

    const MARCH: MomentUs = 1_772_323_200_000_000;
    const HOUR_US: i64 = 3_600_000_000;

    #[test]
    fn the_tide_turns_twice_a_day_with_springs_and_neaps() {
        let levels: Vec<f64> = (0..30 * 24 * 6).map(|n| tide_m(MARCH + n * HOUR_US / 6)).collect();
        let high = levels.windows(3).filter(|w| w[1] > w[0] && w[1] >= w[2]).count();
        assert!((57..=59).contains(&high), "{high} high waters in thirty days");
        assert!(levels.iter().all(|level| (0.4..4.4).contains(level)), "it fits the gauges");
        let range = |day: usize| {
            let day = &levels[day * 144..(day + 1) * 144];
            day.iter().copied().fold(0.0, f64::max) - day.iter().copied().fold(9.0, f64::min)
        };
        let ranges: Vec<f64> = (0..30).map(range).collect();
        let (most, least) = (ranges.iter().copied().fold(0.0, f64::max), ranges.iter().copied().fold(9.0, f64::min));
        assert!(most > least + 1.0, "springs {most:.1} m, neaps {least:.1} m");
    }

    #[test]
    fn the_weather_stays_within_what_can_be() {
        for hours in 0..24 * 365 {
            let at = MARCH + hours * HOUR_US;
            assert!((-12.0..32.0).contains(&temperature_c(at)));
            assert!((0.0..20.0).contains(&wind_mps(at)) && (0.0..360.0).contains(&wind_from_deg(at)));
            assert!((970.0..1050.0).contains(&pressure_hpa(at)) && (35.0..=100.0).contains(&humidity_percent(at)));
            assert!((0.0..120.0).contains(&rain_since_midnight_mm(at)));
        }
        let next = |at| (drift(5, at, 600.0) - drift(5, at + 1_000_000, 600.0)).abs();
        assert!((0..5000).all(|n| next(MARCH + n * 1_000_000) < 0.02), "it does not jump");
    }
}

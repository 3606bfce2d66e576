//! What the model sees of a profile: horizons, effective heights, and how irregular the ground is (Algorithm §43 to §53).

use super::Medium;
use crate::model::Path;

/// The shape of a path. Arrays hold the transmitter's value and the receiver's. Lengths are in metres, angles in radians.
#[derive(Debug, Clone)]
pub(super) struct Shape {
    /// The length of the path.
    pub length_m: f64,
    /// The antennas above the ground.
    pub structural_m: [f64; 2],
    /// The antennas above the ground that matters for them.
    pub effective_m: [f64; 2],
    /// To the horizons.
    pub horizon_m: [f64; 2],
    /// Elevations of the horizons.
    pub elevation: [f64; 2],
    /// The range between the highest and the lowest tenth of heights, Δh.
    pub irregularity_m: f64,
}

/// The ground at equal steps.
struct Heights<F> {
    step_m: f64,
    last: usize,
    value: F,
}

impl<F: Fn(usize) -> f64> Heights<F> {
    /// The heights at both ends of the line that fits best between two distances (§53).
    fn line(&self, from_m: f64, to_m: f64) -> (f64, f64) {
        let last = self.last as f64;
        let mut first_at = (from_m / self.step_m).max(0.0).trunc();
        let mut last_at = last - (last - to_m / self.step_m).max(0.0).trunc();
        if last_at <= first_at {
            first_at = (first_at - 1.0).max(0.0);
            last_at = last - (last - (last_at + 1.0)).max(0.0);
        }
        let count = last_at - first_at;
        let middle = (first_at + last_at) / 2.0;
        let (mut sum, mut moment) = (0.0, 0.0);
        for at in first_at as usize..=last_at as usize {
            let weight = if at as f64 == first_at || at as f64 == last_at { 0.5 } else { 1.0 };
            sum += weight * (self.value)(at);
            moment += weight * (self.value)(at) * (at as f64 - middle);
        }
        let (mean, slope) = (sum / count, moment * 12.0 / ((count * count + 2.0) * count));
        (mean - slope * middle, mean + slope * (last - middle))
    }

    /// Between samples.
    fn at(&self, steps: f64) -> f64 {
        let low = (steps.max(0.0) as usize).min(self.last - 1);
        let share = steps - low as f64;
        (self.value)(low) * (1.0 - share) + (self.value)(low + 1) * share
    }

    /// Δh between two distances: heights above the line that fits best, the highest tenth over the lowest (§48).
    fn irregularity_m(&self, from_m: f64, to_m: f64) -> f64 {
        let (from, to) = (from_m / self.step_m, to_m / self.step_m);
        if to - from < 2.0 {
            return 0.0;
        }
        let tenth = ((0.1 * (to - from + 8.0)) as usize).clamp(4, 25);
        let count = 10 * tenth - 5;
        let step = (to - from) / (count - 1) as f64;
        let mut values: Vec<f64> = (0..count).map(|n| self.at(from + step * n as f64)).collect();
        let (first, last) = heights_of(1.0, &values).line(0.0, (count - 1) as f64);
        let slope = (last - first) / (count - 1) as f64;
        for (n, value) in values.iter_mut().enumerate() {
            *value -= first + slope * n as f64;
        }
        values.sort_by(f64::total_cmp);
        let range = values[count - tenth] - values[tenth - 1];
        range / (1.0 - 0.8 * (-(to_m - from_m) / 50e3).exp())
    }
}

fn heights_of(step_m: f64, values: &[f64]) -> Heights<impl Fn(usize) -> f64> {
    Heights { step_m, last: values.len() - 1, value: |at| values[at] }
}

/// Horizons as seen from both antennas (§47).
fn horizons<F: Fn(usize) -> f64>(heights: &Heights<F>, antennas_m: [f64; 2], curvature: f64) -> ([f64; 2], [f64; 2]) {
    let last = heights.last;
    let length = heights.step_m * last as f64;
    let half = 0.5 * curvature;
    let slope = (antennas_m[1] - antennas_m[0]) / length;
    let mut elevation = [slope - half * length, -slope - half * length];
    let mut horizon = [length; 2];
    for at in 1..last {
        let far = [heights.step_m * at as f64, heights.step_m * (last - at) as f64];
        for end in 0..2 {
            let above = (heights.value)(at) - antennas_m[end] - (half * far[end] + elevation[end]) * far[end];
            // Where the transmitter's view is free so far, so is the receiver's.
            if above > 0.0 && (end == 0 || horizon[0] < length) {
                elevation[end] += above / far[end];
                horizon[end] = far[end];
            }
        }
    }
    (horizon, elevation)
}

impl Shape {
    pub(super) fn of(path: &Path<'_>, medium: &Medium) -> Self {
        let samples = path.profile.samples();
        let heights =
            Heights { step_m: path.profile.step_m(), last: samples.len() - 1, value: |at: usize| samples[at].ground_m };
        let (tx_m, rx_m) = path.antennas_m();
        let length_m = path.profile.length_m();
        let structural_m = [path.tx_height_m, path.rx_height_m];
        let (mut horizon_m, mut elevation) = horizons(&heights, [tx_m, rx_m], medium.curvature);
        let near = |end: usize| (15.0 * structural_m[end]).min(0.1 * horizon_m[end]);
        let (from_m, to_m) = (near(0), length_m - near(1));
        let irregularity_m = heights.irregularity_m(from_m, to_m);
        let ends = [path.profile.first().ground_m, path.profile.last().ground_m];
        let raised = |line: [f64; 2]| [0, 1].map(|end| structural_m[end] + (ends[end] - line[end]).max(0.0));
        let mut effective_m;
        if horizon_m[0] + horizon_m[1] > 1.5 * length_m {
            let (first, last) = heights.line(from_m, to_m);
            effective_m = raised([first, last]);
            let smooth = |height_m: f64| (2.0 * height_m / medium.curvature).sqrt();
            let rough = |height_m: f64| smooth(height_m) * (-0.07 * (irregularity_m / height_m.max(5.0)).sqrt()).exp();
            horizon_m = effective_m.map(rough);
            let sum = horizon_m[0] + horizon_m[1];
            if sum <= length_m {
                let factor = (length_m / sum).powi(2);
                effective_m = effective_m.map(|height_m| height_m * factor);
                horizon_m = effective_m.map(rough);
            }
            elevation = [0, 1].map(|end| {
                let smooth_m = smooth(effective_m[end]);
                (0.65 * irregularity_m * (smooth_m / horizon_m[end] - 1.0) - 2.0 * effective_m[end]) / smooth_m
            });
        } else {
            let (first, _) = heights.line(from_m, 0.9 * horizon_m[0]);
            let (_, last) = heights.line(length_m - 0.9 * horizon_m[1], to_m);
            effective_m = raised([first, last]);
        }
        Self { length_m, structural_m, effective_m, horizon_m, elevation, irregularity_m }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_irregularity_of_waves_is_their_range() {
        let level = vec![20.0; 101];
        assert_eq!(heights_of(100.0, &level).irregularity_m(0.0, 10_000.0), 0.0);
        let slope: Vec<f64> = (0..101).map(f64::from).collect();
        assert!(heights_of(100.0, &slope).irregularity_m(0.0, 10_000.0).abs() < 0.5);
        // The highest and the lowest tenth of a sine are 0.95 of its range apart.
        let waves: Vec<f64> = (0..1001).map(|n| 50.0 * (f64::from(n) / 10.0).sin()).collect();
        let heights = heights_of(100.0, &waves);
        let range = heights.irregularity_m(0.0, 100_000.0) * (1.0 - 0.8 * (-2.0f64).exp());
        assert!((range - 95.0).abs() < 5.0, "{range}");
        let (first, last) = heights_of(1.0, &slope).line(0.0, 100.0);
        assert!(first.abs() < 1.0 && (last - 100.0).abs() < 1.0, "{first} {last}");
    }

    #[test]
    fn a_hill_is_the_horizon_of_both() {
        let mut values = vec![0.0; 101];
        values[40] = 100.0;
        let heights = heights_of(100.0, &values);
        let (horizon, elevation) = horizons(&heights, [10.0, 5.0], 0.0);
        assert_eq!(horizon, [4_000.0, 6_000.0]);
        assert!((elevation[0] - 90.0 / 4_000.0).abs() < 1e-12 && (elevation[1] - 95.0 / 6_000.0).abs() < 1e-12);
    }
}

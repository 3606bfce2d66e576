//! Limits suggested from the values that a reading has had.

/// Values from which something can be said.
const LEAST: usize = 50;
/// The part of the values at each end that counts as unusual already.
const TAIL: f64 = 0.01;
/// How far beyond the usual values a limit lies, as a part of their range; and how far back an alert is cleared.
const BEYOND: f64 = 0.25;
const BACK: f64 = 0.1;
/// Steps that a limit is rounded to, in a tenth to a whole of the range's power of ten: people like round numbers.
const STEPS: [f64; 3] = [0.01, 0.02, 0.05];

/// Limits that the values so far have not reached, or hardly.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Suggested {
    /// A limit above the usual values.
    pub above: f64,
    /// A limit below them.
    pub below: f64,
    /// How far back from a limit an alert is cleared.
    pub back_by: f64,
}

/// Limits for a reading with these values; `None` if there are too few, or they are all the same.
pub fn suggest(values: impl IntoIterator<Item = f64>) -> Option<Suggested> {
    let mut values: Vec<f64> = values.into_iter().filter(|value| value.is_finite()).collect();
    if values.len() < LEAST {
        return None;
    }
    values.sort_by(f64::total_cmp);
    let at = |part: f64| values[((values.len() - 1) as f64 * part).round() as usize];
    let (low, high) = (at(TAIL), at(1.0 - TAIL));
    let range = high - low;
    if range <= 0.0 || !range.is_finite() {
        return None;
    }
    let step = step_of(range);
    let round = |value: f64, to: fn(f64) -> f64| tidy(to(value / step) * step);
    Some(Suggested {
        above: round(high + BEYOND * range, f64::ceil),
        below: round(low - BEYOND * range, f64::floor),
        back_by: round(BACK * range, f64::ceil),
    })
}

/// The largest round step that is at most a twentieth of the range.
fn step_of(range: f64) -> f64 {
    let ten = 10_f64.powi((range.log10().floor()) as i32 + 1);
    let fitting = STEPS.iter().rev().map(|step| step * ten).find(|step| *step <= range / 20.0);
    fitting.unwrap_or(STEPS[0] * ten / 2.0)
}

/// Without the last digits that multiplying has made up.
fn tidy(value: f64) -> f64 {
    format!("{value:.12e}").parse().unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn limits_are_round_and_lie_beyond_what_is_usual() {
        let tide = (0..2_000).map(|n| 1.5 + 1.2 * (f64::from(n) / 40.0).sin());
        let suggested = suggest(tide.clone()).unwrap();
        assert_eq!(suggested, Suggested { above: 3.3, below: -0.3, back_by: 0.3 });
        // A few broken values do not move them.
        let broken = tide.chain([900.0, -900.0, f64::NAN, f64::INFINITY]);
        assert_eq!(suggest(broken), Some(suggested));
    }

    #[test]
    fn too_few_or_equal_values_say_nothing() {
        assert_eq!(suggest((0..49).map(f64::from)), None);
        assert_eq!(suggest([7.0; 500]), None);
        assert_eq!(suggest([f64::NAN; 500]), None);
    }

    proptest! {
        #[test]
        fn few_values_are_beyond_them(values in prop::collection::vec(-1e6_f64..1e6, 50..400)) {
            if let Some(Suggested { above, below, back_by }) = suggest(values.iter().copied()) {
                let beyond = values.iter().filter(|value| **value > above || **value < below).count();
                prop_assert!(beyond as f64 <= values.len() as f64 * 0.03 + 2.0);
                prop_assert!(below < above && back_by > 0.0 && back_by < above - below);
            }
        }
    }
}

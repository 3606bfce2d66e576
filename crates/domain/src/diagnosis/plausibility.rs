//! Values that look wrong: too large or small by a power of ten, of another unit, or without their sign.
//!
//! What is usual for a unit is taken wide: what is found anywhere outdoors on land, and in devices' batteries. Only when
//! *all* values of a time lie outside is something said.

use std::fmt;

use api::diagnosis::plausibility::Doubt;

/// What a time's values were like.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// The lowest.
    pub least: f64,
    /// The highest.
    pub most: f64,
    /// How many.
    pub count: u64,
}

/// What values of a unit usually are; with words in a reading's name for which it is otherwise.
struct Usual {
    unit: &'static str,
    names: &'static [&'static str],
    range: (f64, f64),
}

const fn usual(unit: &'static str, names: &'static [&'static str], low: f64, high: f64) -> Usual {
    Usual { unit, names, range: (low, high) }
}

/// The first that fits counts.
const USUAL: [Usual; 27] = [
    usual("°C", &["board", "chip", "cpu", "core"], -60.0, 125.0),
    usual("°C", &[], -60.0, 85.0),
    usual("°F", &[], -76.0, 185.0),
    usual("K", &[], 210.0, 360.0),
    usual("%", &[], 0.0, 100.0),
    usual("V", &["bat", "cell"], 0.5, 30.0),
    usual("mV", &["bat", "cell"], 500.0, 30_000.0),
    usual("hPa", &[], 300.0, 1100.0),
    usual("mbar", &["air", "baro", "atm", "press"], 300.0, 1100.0),
    usual("kPa", &["air", "baro", "atm"], 30.0, 110.0),
    usual("Pa", &["air", "baro", "atm"], 30_000.0, 110_000.0),
    usual("pH", &[], 0.0, 14.0),
    usual("ppm", &["co2"], 250.0, 40_000.0),
    usual("dBm", &[], -160.0, 40.0),
    usual("dB", &["snr"], -30.0, 30.0),
    usual("m/s", &["wind", "gust"], 0.0, 115.0),
    usual("km/h", &["wind", "gust"], 0.0, 410.0),
    usual("lx", &[], 0.0, 200_000.0),
    usual("g/kg", &["salin"], 0.0, 360.0),
    usual("psu", &["salin"], 0.0, 360.0),
    usual("°", &["lat"], -90.0, 90.0),
    usual("°", &["lon", "lng"], -180.0, 180.0),
    usual("°", &[], -360.0, 360.0),
    usual("mm", &["rain"], 0.0, 10_000.0),
    usual("m³/m³", &[], 0.0, 1.0),
    usual("dBA", &[], 0.0, 194.0),
    usual("", &["ph"], 0.0, 14.0),
];

/// What values of a reading usually are, if that can be said.
pub fn usual_range(name: &str, unit: &str) -> Option<(f64, f64)> {
    let name = name.to_ascii_lowercase();
    let named = |names: &[&str]| match (names, unit) {
        ([], _) => true,
        // Without a unit, only the whole word counts.
        (names, "") => names.iter().any(|word| name.split(['.', '_']).any(|part| part == *word)),
        (names, _) => names.iter().any(|word| name.contains(word)),
    };
    USUAL.iter().find(|usual| usual.unit == unit && named(usual.names)).map(|usual| usual.range)
}

fn short(number: f64) -> String {
    let text = format!("{number:.3}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn with_unit(number: f64, unit: &str) -> String {
    let space = if unit.is_empty() || unit == "%" { "" } else { " " };
    format!("{}{space}{unit}", short(number))
}

/// What is questionable about a reading's values of the last day. `range` is what its model says can be right.
pub fn doubt(name: &str, unit: Option<&str>, range: (Option<f64>, Option<f64>), seen: Seen) -> Option<Doubt> {
    let unit = unit.unwrap_or("");
    let (low, high) = match (range, usual_range(name, unit)) {
        ((None, None), usual) => usual?,
        ((low, high), usual) => {
            let usual = usual.unwrap_or((f64::NEG_INFINITY, f64::INFINITY));
            (low.unwrap_or(usual.0), high.unwrap_or(usual.1))
        }
    };
    if seen.count == 0 || !(seen.least > high || seen.most < low) {
        return None;
    }
    let told = |n: f64| with_unit(n, unit);
    let values = match seen.count {
        1 => format!("the only value of the last day is {}", told(seen.least)),
        n if seen.least.to_bits() == seen.most.to_bits() => {
            format!("all {n} values of the last day are {}", told(seen.least))
        }
        n => format!("all {n} values of the last day are between {} and {}", short(seen.least), told(seen.most)),
    };
    let question = Question::of(unit, (low, high), seen);
    let factor = if let Question::Factor(factor) = question { Some(factor) } else { None };
    Some(Doubt { reading: name.into(), seen: values, question: question.to_string(), factor })
}

/// What may be wrong with values that cannot be right.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Question<'a> {
    Fahrenheit,
    Kelvin,
    /// A little below where an unsigned number ends, as it is or with one or two decimals.
    Unsigned,
    /// The values would be usual if multiplied by it.
    Factor(f64),
    Unit {
        usual: (f64, f64),
        unit: &'a str,
    },
}

impl<'a> Question<'a> {
    fn of(unit: &'a str, (low, high): (f64, f64), Seen { least, most, .. }: Seen) -> Self {
        let fits = |least: f64, most: f64| least >= low && most <= high;
        // Zero times anything is zero, and says nothing.
        let factors = [0.1, 0.01, 0.001, 10.0, 100.0, 1000.0, 1e-5, 1e-7];
        let factor = factors.into_iter().find(|f| most != 0.0 && fits(least * f, most * f));
        let ends_at = |end: f64| least > 0.97 * end && most < end && fits(least - end, most - end);
        if unit == "°C" && fits((least - 32.0) / 1.8, (most - 32.0) / 1.8) && most < 130.0 {
            Self::Fahrenheit
        } else if unit == "°C" && least > 210.0 && fits(least - 273.15, most - 273.15) && factor.is_none() {
            Self::Kelvin
        } else if low < 0.0 && [65_536.0, 6553.6, 655.36, 256.0].into_iter().any(ends_at) {
            Self::Unsigned
        } else if let Some(factor) = factor {
            Self::Factor(factor)
        } else {
            Self::Unit { usual: (low, high), unit }
        }
    }
}

impl fmt::Display for Question<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fahrenheit => f.write_str("are they in °F?"),
            Self::Kelvin => f.write_str("are they in kelvin?"),
            Self::Unsigned => f.write_str("are they negative numbers, read without their sign?"),
            Self::Factor(factor) if *factor < 1.0 => write!(f, "a factor of {}?", short((1.0 / factor).round())),
            Self::Factor(factor) => write!(f, "a factor of {}?", short(*factor)),
            Self::Unit { usual: (low, high), unit } => {
                write!(f, "usual are {} to {}; is the unit right?", short(*low), with_unit(*high, unit))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn asked(name: &str, unit: &str, least: f64, most: f64) -> Option<String> {
        doubt(name, Some(unit), (None, None), Seen { least, most, count: 144 }).map(|doubt| doubt.question)
    }

    #[test]
    fn ten_times_too_much_is_asked_about() {
        let found =
            doubt("temperature", Some("°C"), (None, None), Seen { least: 180.0, most: 260.0, count: 144 }).unwrap();
        assert_eq!(found.seen, "all 144 values of the last day are between 180 and 260 °C");
        assert_eq!((found.question.as_str(), found.factor), ("a factor of 10?", Some(0.1)));
        assert_eq!(asked("battery", "V", 3510.0, 3620.0).as_deref(), Some("a factor of 1000?"));
        assert_eq!(asked("battery", "mV", 3.5, 3.6).as_deref(), Some("a factor of 1000?"));
        assert_eq!(
            asked("position.latitude", "°", 547_120_000.0, 547_130_000.0).as_deref(),
            Some("a factor of 10000000?")
        );
        assert_eq!(asked("pressure", "hPa", 10_130.0, 10_210.0).as_deref(), Some("a factor of 10?"));
    }

    #[test]
    fn other_units_and_lost_signs_are_asked_about() {
        assert_eq!(asked("temperature", "°C", 100.0, 120.0).as_deref(), Some("are they in °F?"));
        assert_eq!(
            asked("temperature", "°C", 6540.1, 6551.2).as_deref(),
            Some("are they negative numbers, read without their sign?")
        );
        assert_eq!(
            asked("temperature", "°C", 65_500.0, 65_530.0).as_deref(),
            Some("are they negative numbers, read without their sign?")
        );
        assert_eq!(asked("ph", "", 70.0, 74.0).as_deref(), Some("a factor of 10?"));
    }

    #[test]
    fn what_can_be_right_is_not_questioned() {
        for (name, unit, least, most) in [
            ("temperature", "°C", -12.0, 31.0),
            ("temperature", "°C", 20.0, 600.0),
            ("alpha", "", 70.0, 74.0),
            ("humidity", "%", 100.0, 100.0),
            ("level", "m", 4000.0, 5000.0),
            ("board_temp", "°C", 90.0, 99.0),
        ] {
            assert_eq!(asked(name, unit, least, most), None, "{name}");
        }
        assert_eq!(doubt("t", Some("°C"), (None, None), Seen { least: 500.0, most: 500.0, count: 0 }), None);
    }

    #[test]
    fn what_the_model_says_counts_before_what_is_usual() {
        let seen = Seen { least: 41.0, most: 57.0, count: 2 };
        let found = doubt("level", Some("m"), (Some(0.0), Some(12.0)), seen).unwrap();
        assert_eq!(found.question, "a factor of 10?");
        let oven = Seen { least: 180.0, most: 260.0, count: 3 };
        assert_eq!(doubt("temperature", Some("°C"), (None, Some(400.0)), oven), None);
        let none = doubt("level", Some("m"), (Some(1.0), Some(1.1)), Seen { least: 4.0, most: 9.0, count: 5 }).unwrap();
        assert_eq!(none.question, "usual are 1 to 1.1 m; is the unit right?");
        assert_eq!(
            doubt("level", Some("m"), (Some(5.0), None), Seen { least: 0.0, most: 0.0, count: 1 }).unwrap().factor,
            None
        );
    }

    proptest! {
        #[test]
        fn a_factor_that_is_proposed_makes_all_values_usual(least in -1e9..1e9f64, span in 0.0..1e6f64) {
            let seen = Seen { least, most: least + span, count: 9 };
            if let Some(factor) = doubt("temperature", Some("°C"), (None, None), seen).and_then(|doubt| doubt.factor) {
                prop_assert!(seen.least * factor >= -60.0 && seen.most * factor <= 85.0);
            }
        }
    }
}

//! Applying a model's reading rules: unit, scale, limits, decimals, words, running totals.

use std::collections::BTreeMap;

use api::message::{Reading, ReadingValue};
use api::problem::{Problem, bad_field};
use api::reading::{ReadingKind, ReadingRule};
use chrono::DateTime;
use payload::ReadingValue as Decoded;

use crate::input;

/// Words that a reading's values can have.
const MOST_WORDS: usize = 64;

/// Decimals that a value can be rounded to.
const MOST_DECIMALS: u8 = 12;

/// The kind of a reading without a rule: from its value and its name.
pub fn guessed_kind(name: &str, value: &ReadingValue) -> ReadingKind {
    let last = name.rsplit('.').next().unwrap_or(name).to_ascii_lowercase();
    match value {
        ReadingValue::Boolean(_) => ReadingKind::State,
        ReadingValue::Text(_) => ReadingKind::Text,
        ReadingValue::Number(_) => match last.trim_end_matches("_deg") {
            "latitude" | "longitude" | "lat" | "lon" | "lng" => ReadingKind::Position,
            _ => ReadingKind::Measured,
        },
    }
}

/// The last value of a running total, as the device counts it and as it is shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Counted {
    /// The device's value, after scale and offset.
    pub counter: f64,
    /// The sum of what its counter had reached each time it was reset.
    pub carried: f64,
}

/// The same with its values checked.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn check(rule: &ReadingRule, name: &str) -> Result<(), Problem> {
    let field = |of: &str| format!("readings.{name}.{of}");
    let short = |of: &str, text: &str| input::name(&field(of), text).map(drop);
    input::name("readings", name)?;
    rule.unit.iter().try_for_each(|unit| short("unit", unit))?;
    let numbers = [
        ("scale", rule.scale),
        ("offset", rule.offset),
        ("min", rule.min),
        ("max", rule.max),
        ("wraps_at", rule.wraps_at),
    ];
    for (of, value) in numbers {
        if value.is_some_and(|value| !value.is_finite()) {
            return Err(bad_field(&field(of), "not a number", "a finite number is wanted"));
        }
    }
    if rule.scale == Some(0.0) {
        return Err(bad_field(&field("scale"), "0", "any number but 0 is allowed: every value would be the offset"));
    }
    if let (Some(min), Some(max)) = (rule.min, rule.max)
        && min > max
    {
        return Err(bad_field(&field("min"), &min.to_string(), format!("at most the max, {max}, is allowed")));
    }
    if let Some(decimals) = rule.decimals.filter(|decimals| *decimals > MOST_DECIMALS) {
        return Err(bad_field(&field("decimals"), &decimals.to_string(), format!("0 to {MOST_DECIMALS} are allowed")));
    }
    if let Some(wraps_at) = rule.wraps_at {
        if rule.kind != Some(ReadingKind::Total) {
            let allowed = "only a running total (kind \"total\") has a counter that begins again";
            return Err(bad_field(&field("wraps_at"), &wraps_at.to_string(), allowed));
        }
        if wraps_at <= 0.0 {
            return Err(bad_field(&field("wraps_at"), &wraps_at.to_string(), "a number above 0 is wanted"));
        }
    }
    if rule.words.len() > MOST_WORDS {
        let given = format!("{} of them", rule.words.len());
        return Err(bad_field(&field("words"), &given, format!("at most {MOST_WORDS} are allowed")));
    }
    rule.words.iter().try_for_each(|(value, word)| short("words", value).and_then(|()| short("words", word)))
}

/// After scale and offset: 7 × 0.1 is 0.7, whatever binary numbers make of it.
pub fn scaled(rule: &ReadingRule, number: f64) -> f64 {
    if rule.scale.is_none() && rule.offset.is_none() {
        return number;
    }
    let scaled = number * rule.scale.unwrap_or(1.0) + rule.offset.unwrap_or(0.0);
    format!("{scaled:.12e}").parse().unwrap_or(scaled)
}

fn rounded(rule: &ReadingRule, number: f64) -> f64 {
    // Far from its point a number has no such decimals, and multiplying would make it infinite.
    match rule.decimals {
        Some(decimals) if number.abs() < 1e15 => {
            let power = 10f64.powi(i32::from(decimals));
            (number * power).round() / power
        }
        _ => number,
    }
}

/// A decoder's value under the model's rule. Doubts go to `warnings`; a running total continues `counted`, which is
/// updated.
pub fn apply(
    rule: &ReadingRule,
    found: &payload::Reading,
    counted: Option<&mut Option<Counted>>,
    warnings: &mut Vec<String>,
) -> Reading {
    let name = found.name();
    let unit = rule.unit.clone().or_else(|| found.unit().map(str::to_owned)).or_else(|| unit_of_name(name));
    let bytes = found.bytes.as_ref().and_then(|span| Some([span.start.try_into().ok()?, span.end.try_into().ok()?]));
    let (mut value, mut raw) = (wire_value(found.value.clone()), None);
    if let ReadingValue::Number(given) = value {
        let scaled = rounded(rule, scaled(rule, given));
        let mut told = scaled;
        if let (Some(ReadingKind::Total), Some(before)) = (rule.kind, counted) {
            let now = count(rule, *before, scaled);
            if let Some(before) = before.filter(|before| now.carried > before.carried) {
                warnings.push(format!(
                    "{name} fell from {} to {scaled}: its device restarted its count, and the total goes on from {}",
                    before.counter,
                    rounded(rule, now.carried)
                ));
            }
            *before = Some(now);
            told = rounded(rule, now.carried + now.counter);
        }
        if rule.min.is_some_and(|min| scaled < min) || rule.max.is_some_and(|max| scaled > max) {
            warnings.push(format!("{name} is {scaled}, outside of what can be right: {}", range(rule)));
        }
        raw = Some(given).filter(|given| given.to_bits() != told.to_bits());
        value = ReadingValue::Number(told);
    }
    let word = rule.words.get(&value.to_string()).cloned();
    let time = found.at_ms.and_then(DateTime::from_timestamp_millis);
    Reading { value, unit, word, raw, bytes, time, earlier: Vec::new() }
}

/// The word for a stored value, which is a number or a text; none if there is no word for it.
pub fn word_of(words: &BTreeMap<String, String>, value: Option<f64>, text: Option<&str>) -> Option<String> {
    let key = match (text, value) {
        (Some(text), _) => text.to_owned(),
        (None, Some(value)) => ReadingValue::Number(value).to_string(),
        (None, None) => return None,
    };
    words.get(&key).cloned()
}

/// Continues a running total. A counter that falls was reset to 0, or has passed `wraps_at`.
fn count(rule: &ReadingRule, before: Option<Counted>, counter: f64) -> Counted {
    match before {
        None => Counted { counter, carried: 0.0 },
        Some(before) if counter >= before.counter => Counted { counter, ..before },
        Some(before) => Counted { counter, carried: before.carried + rule.wraps_at.unwrap_or(before.counter) },
    }
}

/// In words.
pub fn in_words(rule: &ReadingRule) -> String {
    let number = |sign: &str, n: Option<f64>| n.map(|n| format!("{sign} {n}"));
    let parts = [
        rule.unit.as_ref().map(|unit| format!("in {unit}")),
        rule.kind.map(|kind| kind.label().to_owned()),
        number("×", rule.scale),
        number("+", rule.offset),
        (rule.min.is_some() || rule.max.is_some()).then(|| range(rule)),
        rule.decimals.map(|n| format!("{n} decimals")),
        rule.wraps_at.map(|n| format!("begins again at {n}")),
        (!rule.words.is_empty()).then(|| {
            let words: Vec<_> = rule.words.iter().map(|(value, word)| format!("{value} is {word}")).collect();
            words.join(", ")
        }),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// As text: the plausible values.
fn range(rule: &ReadingRule) -> String {
    match (rule.min, rule.max) {
        (Some(min), Some(max)) => format!("{min} to {max}"),
        (Some(min), None) => format!("at least {min}"),
        (None, Some(max)) => format!("at most {max}"),
        (None, None) => "anything".into(),
    }
}

/// A decoder's value, as it goes over the wire.
pub fn wire_value(value: Decoded) -> ReadingValue {
    match value {
        Decoded::Boolean(b) => ReadingValue::Boolean(b),
        Decoded::Number(n) => ReadingValue::Number(n),
        Decoded::Text(t) => ReadingValue::Text(t),
    }
}

/// Endings of names that give a unit. A single letter does so only after an underscore.
const ENDINGS: [(&str, &str); 45] = [
    ("celsius", "°C"),
    ("degc", "°C"),
    ("c", "°C"),
    ("fahrenheit", "°F"),
    ("degf", "°F"),
    ("kelvin", "K"),
    ("percent", "%"),
    ("pct", "%"),
    ("mv", "mV"),
    ("v", "V"),
    ("volt", "V"),
    ("volts", "V"),
    ("ma", "mA"),
    ("a", "A"),
    ("mw", "mW"),
    ("kw", "kW"),
    ("w", "W"),
    ("wh", "Wh"),
    ("kwh", "kWh"),
    ("hpa", "hPa"),
    ("kpa", "kPa"),
    ("mbar", "mbar"),
    ("bar", "bar"),
    ("pa", "Pa"),
    ("mm", "mm"),
    ("cm", "cm"),
    ("km", "km"),
    ("m", "m"),
    ("kmh", "km/h"),
    ("mps", "m/s"),
    ("deg", "°"),
    ("ppm", "ppm"),
    ("ppb", "ppb"),
    ("lux", "lx"),
    ("lx", "lx"),
    ("kg", "kg"),
    ("g", "g"),
    ("l", "l"),
    ("m3", "m³"),
    ("hz", "Hz"),
    ("ms", "ms"),
    ("s", "s"),
    ("db", "dB"),
    ("dbm", "dBm"),
    ("ph", "pH"),
];

/// The unit that a reading's name ends with: `battery_mv`, `airTempCelsius`.
pub fn unit_of_name(name: &str) -> Option<String> {
    let last = name.rsplit('.').next()?;
    let unit = |ending: &str| {
        let ending = ending.to_ascii_lowercase();
        ENDINGS.iter().find(|(known, _)| *known == ending).map(|(_, unit)| (*unit).to_owned())
    };
    if let Some((before, ending)) = last.rsplit_once('_') {
        return unit(ending).filter(|_| !before.is_empty());
    }
    let hump = last.rfind(|c: char| c.is_ascii_uppercase()).filter(|at| *at > 0)?;
    // `batteryMV` and `tempC` are written so too, but so is `planB`.
    let hump = last[..hump].rfind(|c: char| !c.is_ascii_uppercase()).map_or(hump, |at| at + 1);
    last.get(hump..).filter(|ending| ending.len() > 1).and_then(unit)
}

#[cfg(test)]
#[path = "rule_tests.rs"]
mod tests;

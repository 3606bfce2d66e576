//! What a model says of its readings, and what becomes of a decoder's value by that.

use std::collections::BTreeMap;

use payload::ReadingValue as Decoded;
use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

use crate::message::{Reading, ReadingValue};
use crate::problem::{self, Problem, bad_field};

/// Words that a reading's values can have.
const MOST_WORDS: usize = 64;
/// Decimals that a value can be rounded to.
const MOST_DECIMALS: u8 = 12;

/// What kind of value a reading is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReadingKind {
    /// A measured value.
    #[default]
    Measured,
    /// A running total: it only grows, and goes on growing where its device starts counting anew.
    Total,
    /// One of few states.
    State,
    /// Any text.
    Text,
    /// A coordinate.
    Position,
}

impl ReadingKind {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Measured => "measured value",
            Self::Total => "running total",
            Self::State => "state",
            Self::Text => "text",
            Self::Position => "position",
        }
    }

    /// What a reading is, where its model does not say: by its value and its name.
    pub fn guessed(name: &str, value: &ReadingValue) -> Self {
        let last = name.rsplit('.').next().unwrap_or(name).to_ascii_lowercase();
        match value {
            ReadingValue::Boolean(_) => Self::State,
            ReadingValue::Text(_) => Self::Text,
            ReadingValue::Number(_) => match last.trim_end_matches("_deg") {
                "latitude" | "longitude" | "lat" | "lon" | "lng" => Self::Position,
                _ => Self::Measured,
            },
        }
    }
}

/// What a model says of one of its readings. A text alone is a unit.
#[derive(Debug, Clone, Default, PartialEq, Serialize, ToSchema)]
pub struct ReadingRule {
    /// Its unit, after scale and offset.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = "m")]
    pub unit: Option<String>,
    /// What kind of value it is; by its name and values if not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<ReadingKind>,
    /// What the decoder's value is multiplied with.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = 0.1)]
    pub scale: Option<f64>,
    /// What is added then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub offset: Option<f64>,
    /// The lowest value that can be right.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min: Option<f64>,
    /// The highest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max: Option<f64>,
    /// Decimals that mean something.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub decimals: Option<u8>,
    /// Where the device's counter begins again at 0, for a running total; a counter that falls has started anew
    /// if this is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(example = 65536)]
    pub wraps_at: Option<f64>,
    /// Words for values: `true`, `false`, numbers or texts.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub words: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Whole {
    unit: Option<String>,
    kind: Option<ReadingKind>,
    scale: Option<f64>,
    offset: Option<f64>,
    min: Option<f64>,
    max: Option<f64>,
    decimals: Option<u8>,
    wraps_at: Option<f64>,
    #[serde(default)]
    words: BTreeMap<String, String>,
}

impl<'de> Deserialize<'de> for ReadingRule {
    /// By what it is, so that an unknown field is named.
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = ReadingRule;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a unit, or what is to be known of a reading")
            }

            fn visit_str<E: serde::de::Error>(self, unit: &str) -> Result<ReadingRule, E> {
                Ok(ReadingRule::of_unit(unit))
            }

            fn visit_map<M: serde::de::MapAccess<'de>>(self, map: M) -> Result<ReadingRule, M::Error> {
                let whole = Whole::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let Whole { unit, kind, scale, offset, min, max, decimals, wraps_at, words } = whole;
                let unit = unit.filter(|unit| !unit.is_empty());
                Ok(ReadingRule { unit, kind, scale, offset, min, max, decimals, wraps_at, words })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// The last value of a running total, as its device counts and as it is told.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Counted {
    /// What the device said, after scale and offset.
    pub counter: f64,
    /// What its counter had reached each time when it started anew, in all.
    pub carried: f64,
}

impl ReadingRule {
    /// With nothing but a unit.
    pub fn of_unit(unit: &str) -> Self {
        Self { unit: Some(unit.to_owned()).filter(|unit| !unit.is_empty()), ..Self::default() }
    }

    /// The same with its values checked.
    ///
    /// # Errors
    /// Names the field, the value and what is allowed.
    pub fn check(&self, name: &str) -> Result<(), Problem> {
        let field = |of: &str| format!("readings.{name}.{of}");
        let short = |of: &str, text: &str| problem::name(&field(of), text).map(drop);
        problem::name("readings", name)?;
        self.unit.iter().try_for_each(|unit| short("unit", unit))?;
        let numbers = [
            ("scale", self.scale),
            ("offset", self.offset),
            ("min", self.min),
            ("max", self.max),
            ("wraps_at", self.wraps_at),
        ];
        for (of, value) in numbers {
            if value.is_some_and(|value| !value.is_finite()) {
                return Err(bad_field(&field(of), "not a number", "a finite number is wanted"));
            }
        }
        if self.scale == Some(0.0) {
            return Err(bad_field(
                &field("scale"),
                "0",
                "any number but 0 is allowed: every value would be the offset",
            ));
        }
        if let (Some(min), Some(max)) = (self.min, self.max)
            && min > max
        {
            return Err(bad_field(&field("min"), &min.to_string(), format!("at most the max, {max}, is allowed")));
        }
        if let Some(decimals) = self.decimals.filter(|decimals| *decimals > MOST_DECIMALS) {
            return Err(bad_field(
                &field("decimals"),
                &decimals.to_string(),
                format!("0 to {MOST_DECIMALS} are allowed"),
            ));
        }
        if let Some(wraps_at) = self.wraps_at {
            if self.kind != Some(ReadingKind::Total) {
                let allowed = "only a running total (kind \"total\") has a counter that begins again";
                return Err(bad_field(&field("wraps_at"), &wraps_at.to_string(), allowed));
            }
            if wraps_at <= 0.0 {
                return Err(bad_field(&field("wraps_at"), &wraps_at.to_string(), "a number above 0 is wanted"));
            }
        }
        if self.words.len() > MOST_WORDS {
            let given = format!("{} of them", self.words.len());
            return Err(bad_field(&field("words"), &given, format!("at most {MOST_WORDS} are allowed")));
        }
        self.words.iter().try_for_each(|(value, word)| short("words", value).and_then(|()| short("words", word)))
    }

    /// After scale and offset: 7 × 0.1 is 0.7, whatever binary numbers make of it.
    pub fn scaled(&self, number: f64) -> f64 {
        if self.scale.is_none() && self.offset.is_none() {
            return number;
        }
        let scaled = number * self.scale.unwrap_or(1.0) + self.offset.unwrap_or(0.0);
        format!("{scaled:.12e}").parse().unwrap_or(scaled)
    }

    fn rounded(&self, number: f64) -> f64 {
        // Far from its point a number has no such decimals, and multiplying would make it infinite.
        match self.decimals {
            Some(decimals) if number.abs() < 1e15 => {
                let power = 10f64.powi(i32::from(decimals));
                (number * power).round() / power
            }
            _ => number,
        }
    }

    /// A decoder's value as the model means it. What is questionable about it goes to `warnings`; a running total goes
    /// on from `counted`, which follows.
    pub fn apply(
        &self,
        found: &payload::Reading,
        counted: Option<&mut Option<Counted>>,
        warnings: &mut Vec<String>,
    ) -> Reading {
        let name = found.name();
        let unit = self.unit.clone().or_else(|| found.unit().map(str::to_owned)).or_else(|| unit_of_name(name));
        let bytes =
            found.bytes.as_ref().and_then(|span| Some([span.start.try_into().ok()?, span.end.try_into().ok()?]));
        let (mut value, mut raw) = (ReadingValue::from(found.value.clone()), None);
        if let ReadingValue::Number(given) = value {
            let scaled = self.rounded(self.scaled(given));
            let mut told = scaled;
            if let (Some(ReadingKind::Total), Some(before)) = (self.kind, counted) {
                let now = self.count(*before, scaled);
                if let Some(before) = before.filter(|before| now.carried > before.carried) {
                    warnings.push(format!(
                        "{name} fell from {} to {scaled}: its device counts anew, and the total goes on from {}",
                        before.counter,
                        self.rounded(now.carried)
                    ));
                }
                *before = Some(now);
                told = self.rounded(now.carried + now.counter);
            }
            if self.min.is_some_and(|min| scaled < min) || self.max.is_some_and(|max| scaled > max) {
                warnings.push(format!("{name} is {scaled}, outside of what can be right: {}", self.range()));
            }
            raw = Some(given).filter(|given| given.to_bits() != told.to_bits());
            value = ReadingValue::Number(told);
        }
        let word = self.words.get(&value.to_string()).cloned();
        Reading { value, unit, word, raw, bytes }
    }

    /// Goes on counting. A counter that falls has begun again, at 0 or after `wraps_at`.
    fn count(&self, before: Option<Counted>, counter: f64) -> Counted {
        match before {
            None => Counted { counter, carried: 0.0 },
            Some(before) if counter >= before.counter => Counted { counter, ..before },
            Some(before) => Counted { counter, carried: before.carried + self.wraps_at.unwrap_or(before.counter) },
        }
    }

    /// In words.
    pub fn in_words(&self) -> String {
        let number = |sign: &str, n: Option<f64>| n.map(|n| format!("{sign} {n}"));
        let parts = [
            self.unit.as_ref().map(|unit| format!("in {unit}")),
            self.kind.map(|kind| kind.words().to_owned()),
            number("×", self.scale),
            number("+", self.offset),
            (self.min.is_some() || self.max.is_some()).then(|| self.range()),
            self.decimals.map(|n| format!("{n} decimals")),
            self.wraps_at.map(|n| format!("begins again at {n}")),
            (!self.words.is_empty()).then(|| {
                let words: Vec<_> = self.words.iter().map(|(value, word)| format!("{value} is {word}")).collect();
                words.join(", ")
            }),
        ];
        parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// In words: which values can be right.
    fn range(&self) -> String {
        match (self.min, self.max) {
            (Some(min), Some(max)) => format!("{min} to {max}"),
            (Some(min), None) => format!("at least {min}"),
            (None, Some(max)) => format!("at most {max}"),
            (None, None) => "anything".into(),
        }
    }
}

impl From<Decoded> for ReadingValue {
    fn from(value: Decoded) -> Self {
        match value {
            Decoded::Boolean(b) => Self::Boolean(b),
            Decoded::Number(n) => Self::Number(n),
            Decoded::Text(t) => Self::Text(t),
        }
    }
}

/// Endings of names that say a unit. One letter alone says it only after an underscore.
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
#[path = "reading_tests.rs"]
mod tests;

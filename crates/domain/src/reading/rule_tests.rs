use std::collections::BTreeMap;
use std::sync::Arc;

use payload::{Meaning, Reading as Found};
use proptest::prelude::*;
use serde_json::json;

use super::*;

fn found(name: &str, value: Decoded) -> Found {
    let of = Arc::new(Meaning { name: name.into(), unit: None });
    Found { of, value, bytes: Some(2..4), at_ms: None }
}

fn rule(json: serde_json::Value) -> ReadingRule {
    serde_json::from_value(json).unwrap()
}

#[test]
fn a_text_alone_is_a_unit_and_an_unknown_field_is_named() {
    assert_eq!(rule(json!("m")), ReadingRule::of_unit("m"));
    assert_eq!(rule(json!({"unit": "m", "kind": "total"})).kind, Some(ReadingKind::Total));
    let why = serde_json::from_value::<ReadingRule>(json!({"units": "m"})).unwrap_err().to_string();
    assert!(why.contains("unknown field `units`"), "{why}");
    let whole = rule(json!({"unit": "l", "kind": "total", "wraps_at": 65536.0, "words": {"0": "none"}}));
    assert_eq!(rule(serde_json::to_value(&whole).unwrap()), whole);
}

#[test]
fn a_value_is_scaled_rounded_and_checked() {
    let rule = rule(json!({"unit": "°C", "scale": 0.1, "offset": -40, "decimals": 1, "min": -30, "max": 50}));
    let mut warnings = Vec::new();
    let reading = apply(&rule, &found("t", Decoded::Number(612.3)), None, &mut warnings);
    assert_eq!((reading.value, reading.raw), (ReadingValue::Number(21.2), Some(612.3)));
    assert_eq!((reading.unit.as_deref(), reading.bytes), (Some("°C"), Some([2, 4])));
    assert!(warnings.is_empty());
    apply(&rule, &found("t", Decoded::Number(2000.0)), None, &mut warnings);
    assert_eq!(warnings, ["t is 160, outside of what can be right: -30 to 50"]);
    let plain = apply(&ReadingRule::default(), &found("battery_mv", Decoded::Number(3.5)), None, &mut warnings);
    assert_eq!((plain.unit.as_deref(), plain.raw), (Some("mV"), None));
}

#[test]
fn states_have_words() {
    let rule = rule(json!({"kind": "state", "words": {"true": "open", "2": "half", "ebb": "going out"}}));
    let word = |value| apply(&rule, &found("gate", value), None, &mut Vec::new()).word;
    assert_eq!(word(Decoded::Boolean(true)).as_deref(), Some("open"));
    assert_eq!(word(Decoded::Number(2.0)).as_deref(), Some("half"));
    assert_eq!(word(Decoded::Text("ebb".into())).as_deref(), Some("going out"));
    assert_eq!(word(Decoded::Boolean(false)), None);
}

#[test]
fn a_total_goes_on_when_its_device_is_reset() {
    let mut warnings = Vec::new();
    let mut totals = |rule: &ReadingRule, counters: &[f64]| -> Vec<f64> {
        let mut counted = None;
        let mut told = Vec::new();
        for counter in counters {
            let reading = apply(rule, &found("litres", Decoded::Number(*counter)), Some(&mut counted), &mut warnings);
            let ReadingValue::Number(total) = reading.value else { panic!() };
            told.push(total);
        }
        told
    };
    let restarts = rule(json!({"kind": "total"}));
    assert_eq!(totals(&restarts, &[5.0, 9.0, 2.0, 2.0, 1.0]), [5.0, 9.0, 11.0, 11.0, 12.0]);
    let wraps = rule(json!({"kind": "total", "wraps_at": 256}));
    assert_eq!(totals(&wraps, &[250.0, 4.0, 8.0]), [250.0, 260.0, 264.0]);
    let measured = rule(json!({"kind": "measured"}));
    assert_eq!(totals(&measured, &[5.0, 2.0]), [5.0, 2.0]);
    assert_eq!(warnings[0], "litres fell from 9 to 2: its device restarted its count, and the total goes on from 9");
    assert_eq!(warnings.len(), 3);
}

#[test]
fn bad_rules_name_field_value_and_what_is_allowed() {
    for (given, said) in [
        (json!({"scale": 0}), "readings.t.scale"),
        (json!({"min": 3, "max": 2}), "readings.t.min"),
        (json!({"decimals": 13}), "readings.t.decimals"),
        (json!({"wraps_at": 256}), "readings.t.wraps_at"),
        (json!({"wraps_at": -1, "kind": "total"}), "readings.t.wraps_at"),
        (json!({"words": {"1": ""}}), "readings.t.words"),
        (json!({"words": (0..65).map(|n| (n.to_string(), "x")).collect::<BTreeMap<_, _>>()}), "readings.t.words"),
    ] {
        assert_eq!(check(&rule(given.clone()), "t").unwrap_err().field.as_deref(), Some(said), "{given}");
    }
    assert!(check(&rule(json!({"scale": 0.1, "min": 1, "max": 1})), "t").is_ok());
    assert!(check(&ReadingRule::default(), "").is_err());
}

#[test]
fn names_say_units() {
    for (name, unit) in [
        ("battery_mv", Some("mV")),
        ("probe.0.temp_c", Some("°C")),
        ("airTempCelsius", Some("°C")),
        ("batteryMV", Some("mV")),
        ("volume_m3", Some("m³")),
        ("planB", None),
        ("tempC", None),
        ("music", None),
        ("_m", None),
        ("level", None),
    ] {
        assert_eq!(unit_of_name(name).as_deref(), unit, "{name}");
    }
}

#[test]
fn kinds_are_guessed_by_value_and_name() {
    let number = ReadingValue::Number(1.0);
    assert_eq!(guessed_kind("position.latitude", &number), ReadingKind::Position);
    assert_eq!(guessed_kind("lateral", &number), ReadingKind::Measured);
    assert_eq!(guessed_kind("open", &ReadingValue::Boolean(true)), ReadingKind::State);
}

proptest! {
    #[test]
    fn a_total_never_falls(counters in prop::collection::vec(0.0..1e9f64, 1..40)) {
        let rule = rule(json!({"kind": "total"}));
        let (mut counted, mut last) = (None, f64::MIN);
        for counter in counters {
            let reading = apply(&rule, &found("n", Decoded::Number(counter)), Some(&mut counted), &mut Vec::new());
            let ReadingValue::Number(total) = reading.value else { panic!() };
            prop_assert!(total >= last && total >= counter);
            last = total;
        }
    }

    #[test]
    fn no_name_is_too_odd(name in ".{0,40}") {
        let _ = unit_of_name(&name);
    }
}

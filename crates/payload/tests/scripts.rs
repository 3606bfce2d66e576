//! Scripts as people have them, and scripts that mean harm.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use payload::{DecodeError, Decoded, Entry, Interpreter, Limits, ReadingValue, Script};
use proptest::prelude::*;

fn script(source: &str) -> Script {
    Script::new(source, Limits::default()).unwrap()
}

fn decode(source: &str, bytes: &[u8]) -> Result<Decoded, DecodeError> {
    script(source).decode_uplink(&mut Interpreter::new(), bytes, 2, 1_790_000_000_123, || false)
}

/// The error of a script whose `decodeUplink` has this body.
fn error_of(body: &str) -> DecodeError {
    decode(&format!("function decodeUplink(input) {{\n{body}\n}}"), &[1]).unwrap_err()
}

#[test]
fn readings_come_out_by_name() {
    let decoded = decode(
        "function decodeUplink(input) {
            return {
                data: {
                    water_level: ((input.bytes[0] << 8) | input.bytes[1]) / 1000,
                    gate: { open: input.bytes[2] === 1 },
                    port: input.fPort,
                    when: input.recvTime.toISOString(),
                    none: 0 / 0,
                },
                warnings: ['battery low'],
            };
        }",
        &[0x09, 0x6d, 1],
    )
    .unwrap();
    let get = |name: &str| decoded.readings.iter().find(|r| r.name() == name).unwrap().value.clone();
    assert_eq!(get("water_level"), ReadingValue::Number(2.413));
    assert_eq!(get("gate.open"), ReadingValue::Boolean(true));
    assert_eq!(get("port"), ReadingValue::Number(2.0));
    assert_eq!(get("when"), ReadingValue::Text("2026-09-21T14:13:20.123Z".into()));
    assert_eq!(decoded.warnings, ["battery low", "none: null or not a number, left out"]);
}

#[test]
fn arrow_functions_and_newer_language_work() {
    let decoded = decode(
        "const decodeUplink = ({bytes: [first, ...rest]}) => ({data: {first, rest: rest?.length ?? 0}});",
        &[5, 6, 7],
    );
    assert_eq!(decoded.unwrap().readings.len(), 2);
}

#[test]
fn a_script_that_throws_names_line_and_column() {
    let DecodeError::Threw { message, place, .. } = error_of("  const b = input.bytes;\n  return b.missing.field;")
    else {
        panic!("threw")
    };
    assert!(message.starts_with("TypeError: "), "{message}");
    assert_eq!(place.unwrap().line, 3);
    assert_eq!(error_of("throw 'short frame'").to_string(), "decodeUplink threw: short frame");
}

#[test]
fn a_script_that_does_not_parse_is_refused_at_the_door() {
    let DecodeError::Load { place, .. } = Script::new("let a = 1;\nlet a = ;", Limits::default()).unwrap_err() else {
        panic!("does not load")
    };
    assert_eq!(place.unwrap().line, 2);
    assert_eq!(Script::new("let a = 1", Limits::default()).unwrap_err(), DecodeError::Missing(Entry::DecodeUplink));
    assert!(matches!(Script::new(" ".repeat(300_000), Limits::default()), Err(DecodeError::TooLong(300_000))));
    assert_eq!(Script::new("for (;;) {}", Limits::default()).unwrap_err(), DecodeError::TooSlow);
}

#[test]
fn loops_and_memory_have_an_end() {
    assert_eq!(error_of("for (;;) {}"), DecodeError::TooSlow);
    assert_eq!(error_of("for (;;) { try { for (;;) {} } catch (e) {} }"), DecodeError::TooSlow);
    assert_eq!(error_of("return /(a+)+$/.test('a'.repeat(40) + 'b')"), DecodeError::TooSlow);
    let limit = Limits::default().memory_bytes;
    assert_eq!(
        error_of("const all = []; for (;;) all.push(new Array(1000).fill(7))"),
        DecodeError::TooMuchMemory(limit)
    );
    assert_eq!(error_of("return {data: {n: new Uint8Array(1e8).length}}"), DecodeError::TooMuchMemory(limit));
    assert!(
        matches!(error_of("const f = () => f() + 1; return f()"), DecodeError::Threw { .. }),
        "the stack has an end"
    );
}

#[test]
fn a_clock_can_stop_a_script() {
    let slow = script("function decodeUplink() { for (let i = 0; i < 1e5; i++) {} return {data: {}} }");
    let mut interpreter = Interpreter::new();
    assert_eq!(slow.decode_uplink(&mut interpreter, &[], 1, 0, || true), Err(DecodeError::TooSlow));
    assert!(slow.decode_uplink(&mut interpreter, &[], 1, 0, || false).is_ok());
}

#[test]
fn wrong_results_are_named() {
    for (body, part) in [
        ("return 7", "expected struct"),
        ("return undefined", "undefined"),
        ("return {}", "data is missing"),
        ("return {data: [1]}", "not an object"),
        ("return {data: {a: 'x'.repeat(70000)}}", "are allowed"),
    ] {
        let DecodeError::BadResult(_, why) = error_of(body) else { panic!("{body}: {:?}", error_of(body)) };
        assert!(why.contains(part), "{body}: {why}");
    }
    assert_eq!(error_of("return {errors: ['unknown port']}"), DecodeError::Reported(vec!["unknown port".into()]));
    assert!(matches!(error_of("const a = {}; a.a = a; return {data: a}"), DecodeError::Threw { .. }));
}

#[test]
fn nothing_is_left_behind_and_nothing_leads_out() {
    let counting = script("let calls = 0; function decodeUplink() { return {data: {calls: ++calls}} }");
    let mut interpreter = Interpreter::new();
    for _ in 0..2 {
        let decoded = counting.decode_uplink(&mut interpreter, &[], 1, 0, || false).unwrap();
        assert_eq!(decoded.readings[0].value, ReadingValue::Number(1.0));
    }
    // Undeclared variables, members of built-in objects, globals redefined, prototypes.
    for body in [
        "if (typeof left === 'undefined') left = 0; return {data: {calls: ++left}}",
        "Math.left = (Math.left || 0) + 1; return {data: {calls: Math.left}}",
        "this.left = (this.left || 0) + 1; return {data: {calls: this.left}}",
        "var was = parseInt('1'); parseInt = function () { return 2 }; return {data: {calls: was}}",
        "var a = []; a['__pro' + 'to__'].left = (a.left || 0) + 1; return {data: {calls: a.left || 1}}",
        "Array.prototype.left = ([].left || 0) + 1; return {data: {calls: [].left}}",
    ] {
        let source = format!("function decodeUplink() {{ {body} }}");
        let (script, mut interpreter) = (script(&source), Interpreter::new());
        for call in 0..3 {
            let decoded = script.decode_uplink(&mut interpreter, &[], 1, 0, || false).unwrap();
            // A name pieced together is seen through by nobody; it harms its own device's readings alone.
            let pieced = body.contains("'__pro'");
            assert!(
                pieced || decoded.readings[0].value == ReadingValue::Number(1.0),
                "call {call} of {body}: {decoded:?}"
            );
        }
    }
    let ways_out = "['require', 'process', 'fetch', 'std', 'os', 'setTimeout', 'console'].filter(n => n in globalThis)";
    let decoded = decode(&format!("function decodeUplink() {{ return {{data: {{ways: {ways_out}.length}}}} }}"), &[]);
    assert_eq!(decoded.unwrap().readings[0].value, ReadingValue::Number(0.0));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn any_source_is_answered(source in "\\PC{0,80}") {
        let _ = Script::new(source, Limits::default());
    }

    #[test]
    fn bytes_arrive_as_they_are(bytes in proptest::collection::vec(any::<u8>(), 0..60)) {
        let decoded = decode("function decodeUplink(i) { return {data: {sum: i.bytes.reduce((a, b) => a + b, 0)}} }", &bytes);
        let sum: u32 = bytes.iter().map(|b| u32::from(*b)).sum();
        prop_assert_eq!(&decoded.unwrap().readings[0].value, &ReadingValue::Number(f64::from(sum)));
    }
}

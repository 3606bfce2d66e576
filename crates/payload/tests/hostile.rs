//! What a script can do wrong, or mean to: each ends as an error or in readings, and leaves nothing behind.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use std::collections::BTreeMap;

use payload::outcome::MAX_SCRIPT_BYTES;
use payload::{DecodeError, Decoded, Interpreter, Limits, ReadingValue, Script};

fn decode(body: &str, bytes: &[u8]) -> Result<Decoded, DecodeError> {
    let source = format!("function decodeUplink(input) {{\n{body}\n}}");
    let mut interpreter = Interpreter::new();
    let script = Script::new(source, Limits::default())?;
    let once = script.decode_uplink(&mut interpreter, bytes, 2, 1_790_000_000_123, || false);
    // The same again, in the world that the first call may have left.
    let again = script.decode_uplink(&mut interpreter, bytes, 2, 1_790_000_000_123, || false);
    assert_eq!(once, again, "{body}");
    // And somebody else's, which must not notice.
    let other =
        Script::new("function decodeUplink(i) { return {data: {n: i.bytes.length}} }", Limits::default()).unwrap();
    let other = other.decode_uplink(&mut interpreter, bytes, 2, 0, || false).unwrap();
    assert_eq!(other.readings[0].value, ReadingValue::Number(bytes.len() as f64), "after {body}");
    once
}

fn readings(body: &str) -> BTreeMap<String, ReadingValue> {
    let decoded = decode(body, &[1, 2, 3]).unwrap_or_else(|why| panic!("{body}: {why}"));
    decoded.readings.into_iter().map(|reading| (reading.of.name.clone(), reading.value)).collect()
}

fn said(body: &str) -> String {
    decode(body, &[1, 2, 3]).map(|decoded| panic!("{body}: {decoded:?}")).unwrap_err().to_string()
}

#[test]
fn recursion_ends() {
    for body in [
        "const f = (n) => f(n + 1) + 1; return {data: {n: f(0)}}",
        "const o = { get a() { return this.a } }; return {data: {n: o.a}}",
        "const o = { toJSON() { return this } }; let d = o; for (let i = 0; i < 1e4; i++) d = {d}; return {data: d}",
        "let s = '['.repeat(1e5); return {data: {n: JSON.parse(s)}}",
        "return {data: {n: new RegExp('('.repeat(1e5) + ')'.repeat(1e5)).test('')}}",
        "class A extends (A) {}; return {data: {}}",
    ] {
        let why = said(body);
        assert!(!why.is_empty() && why.len() < 1000, "{body}: {why}");
    }
}

#[test]
fn huge_texts_and_arrays_end() {
    for body in [
        "let s = 'x'; for (;;) s += s",
        "return {data: {s: 'x'.repeat(2 ** 29)}}",
        "return {data: {s: 'x'.padStart(1e9)}}",
        "return {data: {n: new Array(4294967295).fill(1).length}}",
        "return {data: {n: Array.from({length: 1e9}).length}}",
        "return {data: {n: [...Array(1e7).keys()].length}}",
        "return {data: {s: JSON.stringify(Array(1e6).fill('\\u0000'))}}",
        "const m = new Map(); for (let i = 0; ; i++) m.set(i, 'x'.repeat(1000))",
        "throw new Error('x'.repeat(1e6))",
        "throw 'x'.repeat(1e6)",
        "return {data: {}, errors: ['x'.repeat(60000)]}",
    ] {
        let why = said(body);
        assert!(why.len() < 2000, "{body}: {} bytes", why.len());
    }
    // A sparse array is no memory, but would be too many readings, or too long as text.
    assert!(said("const a = []; a[1e6] = 1; return {data: {a}}").contains("are allowed"));
}

#[test]
fn what_is_thrown_may_be_anything() {
    for (thrown, part) in [
        ("null", "null"),
        ("undefined", "undefined"),
        ("7", "7"),
        ("'a text'", "a text"),
        ("10n", "10"),
        ("Symbol('s')", "a symbol"),
        ("{ message: 'no error' }", "no error"),
        ("[1, 2]", "1,2"),
        ("(() => 1)", ""),
        ("new RangeError('far')", "RangeError: far"),
        ("Object.create(null)", ""),
        ("new Proxy({}, { get() { throw 1 } })", ""),
        ("Object.assign(new Error('x'), { stack: 7, name: {} })", ""),
        ("{ get message() { for (;;) {} } }", ""),
        ("Object.defineProperty(new Error('x'), 'message', { get() { for (;;) {} } })", ""),
        ("Promise.reject(1)", ""),
    ] {
        let why = said(&format!("throw {thrown}"));
        assert!(why.contains(part) && why.len() < 1000, "{thrown}: {why}");
    }
}

#[test]
fn numbers_that_are_none_are_left_out_and_said() {
    let decoded =
        decode("return {data: {a: NaN, b: Infinity, c: -Infinity, d: 0 / 0, e: 5, f: null, g: undefined}}", &[])
            .unwrap();
    assert_eq!(decoded.readings.len(), 1);
    assert_eq!(decoded.warnings.len(), 5, "{:?}", decoded.warnings);
    let huge = readings("return {data: {a: 1e308 * 10 > 0 ? 1e308 : 0, b: -0, c: 5e-324, d: 2 ** 53}}");
    assert_eq!(huge["a"], ReadingValue::Number(1e308));
    assert_eq!(huge["d"], ReadingValue::Number(9_007_199_254_740_992.0));
}

#[test]
fn values_of_odd_types_become_readings_or_are_refused() {
    assert!(said("return {data: {n: 10n}}").contains("BigInt"));
    let date = readings("return {data: {at: new Date(0), from: input.recvTime.getTime()}}");
    assert_eq!(date["at"], ReadingValue::Text("1970-01-01T00:00:00.000Z".into()));
    assert_eq!(date["from"], ReadingValue::Number(1_790_000_000_123.0));
    assert!(said("const a = {}; a.b = {a}; return {data: a}").contains("circular"));
    let odd = readings(
        "return {data: {set: new Set([1]), map: new Map(), f() {}, s: Symbol(), u: new Uint8Array([4, 5]), b: new Boolean(true)}}",
    );
    assert_eq!(odd["u.1"], ReadingValue::Number(5.0));
    assert_eq!(odd["b"], ReadingValue::Boolean(true));
    assert!(said("return Promise.resolve({data: {n: 1}})").contains("data is missing"));
    assert!(said("return [1]").contains("something else"));
    assert!(said("return {data: 'text'}").contains("not an object"));
    // Lone surrogates are no UTF-8.
    let text = readings("return {data: {t: '\\ud800', u: String.fromCharCode(0xdfff) + 'x'}}");
    assert!(matches!(&text["t"], ReadingValue::Text(_)));
}

#[test]
fn tricks_with_prototypes_stay_in_their_call() {
    for body in [
        "Object.prototype.left = 1; return {data: {n: 1}}",
        "({}).__proto__.toString = null; return {data: {n: 1}}",
        "Array.prototype.push = () => { throw 1 }; return {data: {n: 1}}",
        "({}).constructor.constructor('return this')().left = 1; return {data: {n: 1}}",
        "Object.setPrototypeOf(input.bytes, { get length() { return 1e9 } }); return {data: {n: 1}}",
        "JSON.stringify = () => '{}'; return {data: {n: 1}}",
        "Object.prototype.toJSON = function () { return 7 }; return {data: {n: 1}}",
        "Date.prototype.getTime = () => { for (;;) {} }; return {data: {n: 1}}",
        "globalThis.decodeUplink = null; return {data: {n: 1}}",
        "decodeUplink = null; return {data: {n: 1}}",
        "return JSON.parse('{\"data\": {\"__proto__\": {\"n\": 1}, \"n\": 1}}')",
    ] {
        // The other script's call in `decode` shows that nothing was left behind.
        let _ = decode(body, &[1]);
    }
    let named = readings("return {data: JSON.parse('{\"__proto__\": 3, \"constructor\": 4}')}");
    assert_eq!((&named["__proto__"], &named["constructor"]), (&ReadingValue::Number(3.0), &ReadingValue::Number(4.0)));
}

#[test]
fn sources_of_any_size_and_bytes_are_answered() {
    let long = format!("// {}\nfunction decodeUplink() {{ return {{data: {{}}}} }}", "x".repeat(10_000_000));
    assert_eq!(Script::new(long.clone(), Limits::default()).unwrap_err(), DecodeError::TooLong(long.len()));
    let just =
        format!("function decodeUplink() {{ return {{data: {{n: 1}}}} }}\n//{}", "x".repeat(MAX_SCRIPT_BYTES - 60));
    assert!(Script::new(just, Limits::default()).is_ok());
    for source in [
        "\u{feff}function decodeUplink() { return {data: {n: 1}} }",
        "#!/usr/bin/env node\nfunction decodeUplink() { return {data: {n: 1}} }",
        "'use strict'; function decodeUplink() { return {data: {n: 1}} }",
    ] {
        assert!(Script::new(source, Limits::default()).is_ok(), "{source}");
    }
    for source in ["", "\0", "function decodeUplink(", "function decodeUplink() {}\0", "}{", &"(".repeat(100_000)] {
        assert!(Script::new(source, Limits::default()).is_err(), "{source:.20}");
    }
}

#[test]
fn payloads_of_no_byte_and_of_all_that_fit_arrive() {
    let body = "return {data: {n: input.bytes.length, sum: input.bytes.reduce((a, b) => a + b, 0)}}";
    for (bytes, sum) in [(vec![], 0.0), (vec![255; 242], 61_710.0), (vec![0; 255], 0.0)] {
        let decoded = decode(body, &bytes).unwrap();
        assert_eq!(decoded.readings[0].value, ReadingValue::Number(bytes.len() as f64));
        assert_eq!(decoded.readings[1].value, ReadingValue::Number(sum));
    }
    let why = decode("return {data: {n: input.bytes[9].toString()}}", &[]).unwrap_err().to_string();
    assert!(why.contains("(line 2"), "{why}");
}

//! Test payloads: bytes with what a decoder must make of them, and commands with the bytes that must come of them.

use std::collections::BTreeMap;

use crate::{Decoded, Decoder, Interpreter, ReadingValue};

/// Two numbers that differ by less are the same: decoders multiply by 0.1 and the like.
const TOLERANCE: f64 = 1e-6;
/// Time handed to scripts as that of the uplink: tests must not depend on the day they are run.
const TIME_MS: i64 = 1_767_225_600_000;

/// Bytes, and what must come of them.
#[derive(Debug, Clone, Copy)]
pub struct Expected<'a> {
    /// FPort.
    pub port: u8,
    /// The payload.
    pub bytes: &'a [u8],
    /// Every reading, by name; `None` if the decoder must report an error.
    pub readings: Option<&'a BTreeMap<String, ReadingValue>>,
}

fn same(a: &ReadingValue, b: &ReadingValue) -> bool {
    match (a, b) {
        (ReadingValue::Number(a), ReadingValue::Number(b)) => (a - b).abs() <= TOLERANCE * b.abs().max(1.0),
        _ => a == b,
    }
}

fn label(value: &ReadingValue) -> String {
    match value {
        ReadingValue::Boolean(b) => b.to_string(),
        ReadingValue::Number(n) => n.to_string(),
        ReadingValue::Text(t) => format!("{t:?}"),
    }
}

/// Runs a decoder over a test payload.
///
/// # Errors
/// In words, what came out instead.
pub fn check(
    interpreter: &mut Interpreter,
    decoder: &Decoder,
    expected: Expected<'_>,
    over: impl Fn() -> bool + 'static,
) -> Result<(), String> {
    let decoded = decoder.decode(interpreter, expected.bytes, expected.port, TIME_MS, over);
    match (decoded, expected.readings) {
        (Err(_), None) => Ok(()),
        (Err(why), Some(_)) => Err(why.to_string()),
        (Ok(_), None) => Err("an error is expected, but it was decoded".into()),
        (Ok(decoded), Some(readings)) => compare(&decoded, readings),
    }
}

/// Named values, and the downlink that must come of them.
#[derive(Debug, Clone, Copy)]
pub struct ExpectedCommand<'a> {
    /// By name.
    pub values: &'a serde_json::Map<String, serde_json::Value>,
    /// FPort and payload; `None` if the encoder must report an error.
    pub downlink: Option<(u8, &'a [u8])>,
}

/// Runs a decoder's encoder over a command.
///
/// # Errors
/// In words, what came out instead.
pub fn check_command(
    interpreter: &mut Interpreter,
    decoder: &Decoder,
    expected: ExpectedCommand<'_>,
    over: impl Fn() -> bool + 'static,
) -> Result<(), String> {
    match (decoder.encode(interpreter, expected.values, over), expected.downlink) {
        (Err(_), None) => Ok(()),
        (Err(why), Some(_)) => Err(why.to_string()),
        (Ok(_), None) => Err("an error is expected, but it was encoded".into()),
        (Ok(encoded), Some((port, _))) if encoded.port.is_some_and(|given| given != port) => {
            Err(format!("FPort is {}, {port} expected", encoded.port.unwrap_or_default()))
        }
        (Ok(encoded), Some((_, bytes))) if encoded.bytes != bytes => {
            let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
            Err(format!("the bytes are {}, {} expected", hex(&encoded.bytes), hex(bytes)))
        }
        (Ok(_), Some(_)) => Ok(()),
    }
}

fn compare(decoded: &Decoded, expected: &BTreeMap<String, ReadingValue>) -> Result<(), String> {
    for (name, value) in expected {
        match decoded.readings.iter().find(|reading| reading.name() == name) {
            None => return Err(format!("{name} is missing, {} expected", label(value))),
            Some(reading) if !same(&reading.value, value) => {
                return Err(format!("{name} is {}, {} expected", label(&reading.value), label(value)));
            }
            Some(_) => {}
        }
    }
    match decoded.readings.iter().find(|reading| !expected.contains_key(reading.name())) {
        Some(more) => Err(format!("{} is {}, which is not expected", more.name(), label(&more.value))),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;

    const LEVEL: &str = "function decodeUplink(i) { if (i.bytes.length < 2) return {errors: ['too short']};
        return {data: {level: (i.bytes[0] * 256 + i.bytes[1]) * 0.001, port: i.fPort}} }";

    fn run(bytes: &[u8], readings: Option<&[(&str, f64)]>) -> Result<(), String> {
        let script = Decoder::new(Kind::Script, LEVEL).unwrap();
        let readings: Option<BTreeMap<String, ReadingValue>> =
            readings.map(|all| all.iter().map(|(name, n)| ((*name).to_owned(), ReadingValue::Number(*n))).collect());
        let expected = Expected { port: 2, bytes, readings: readings.as_ref() };
        check(&mut Interpreter::new(), &script, expected, || false)
    }

    #[test]
    fn what_is_expected_is_said_where_it_does_not_come() {
        assert_eq!(run(&[9, 110], Some(&[("level", 2.414), ("port", 2.0)])), Ok(()));
        assert_eq!(
            run(&[9, 110], Some(&[("level", 24.14), ("port", 2.0)])).unwrap_err(),
            "level is 2.414, 24.14 expected"
        );
        assert!(run(&[9, 110], Some(&[("level", 2.414)])).unwrap_err().contains("port is 2, which is not expected"));
        assert!(run(&[9, 110], Some(&[("depth", 1.0)])).unwrap_err().contains("depth is missing"));
        assert!(run(&[9], Some(&[])).unwrap_err().contains("too short"));
    }

    #[test]
    fn commands_are_checked_too() {
        let source = "function decodeUplink() { return {data: {}} }
            function encodeDownlink(i) { return i.data.open > 100 ? {errors: ['0 to 100']} : {bytes: [i.data.open], fPort: 10} }";
        let script = Decoder::new(Kind::Script, source).unwrap();
        let run = |open: u32, downlink: Option<(u8, &[u8])>| {
            let values = serde_json::Map::from_iter([("open".to_owned(), open.into())]);
            check_command(&mut Interpreter::new(), &script, ExpectedCommand { values: &values, downlink }, || false)
        };
        assert_eq!((run(40, Some((10, &[40]))), run(400, None)), (Ok(()), Ok(())));
        assert_eq!(run(40, Some((10, &[4, 0]))).unwrap_err(), "the bytes are 28, 0400 expected");
        assert_eq!(run(40, Some((9, &[40]))).unwrap_err(), "FPort is 10, 9 expected");
        assert_eq!(run(400, Some((10, &[40]))).unwrap_err(), "the script reports: 0 to 100");
        assert!(run(40, None).is_err());
    }

    #[test]
    fn an_error_can_be_what_is_expected() {
        assert_eq!(run(&[9], None), Ok(()));
        assert!(run(&[9, 110], None).unwrap_err().contains("an error is expected"));
    }
}

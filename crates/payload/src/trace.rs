//! Which bytes of a payload a reading came from, found by trying: each byte is changed, and what changes with it is
//! read from there. For decoders that cannot tell by themselves.

use std::collections::BTreeMap;

use crate::decoder::Decoder;
use crate::outcome::{DecodeError, Decoded};
use crate::script::interpreter::Interpreter;

/// What a byte is changed by: all of its bits, the lowest and the highest one. A clamp or a mask hides some of these.
const CHANGES: [u8; 3] = [0xff, 0x01, 0x80];

/// The bytes that each reading without a known place depends on, by its name. A byte that decides what the others mean
/// belongs to none: with another value there, the reading does not exist.
pub fn sources(
    decoder: &Decoder,
    interpreter: &mut Interpreter,
    (bytes, port, recv_time_ms): (&[u8], u8, i64),
    decoded: &Decoded,
    stop: impl Fn() -> bool + Clone + 'static,
) -> BTreeMap<String, Vec<usize>> {
    let mut found = BTreeMap::new();
    if decoded.readings.iter().all(|reading| reading.bytes.is_some()) {
        return found;
    }
    let mut changed = bytes.to_vec();
    for at in 0..bytes.len() {
        for change in CHANGES {
            if stop() {
                return found;
            }
            changed[at] = bytes[at] ^ change;
            let then = match decoder.decode(interpreter, &changed, port, recv_time_ms, stop.clone()) {
                Ok(then) => then,
                Err(DecodeError::TooSlow) => return found,
                Err(_) => continue,
            };
            for reading in decoded.readings.iter().filter(|reading| reading.bytes.is_none()) {
                let differs = then.readings.iter().any(|t| t.name() == reading.name() && t.value != reading.value);
                let places: &mut Vec<usize> = found.entry(reading.name().to_owned()).or_default();
                if differs && places.last() != Some(&at) {
                    places.push(at);
                }
            }
        }
        changed[at] = bytes[at];
    }
    found.retain(|_, places| !places.is_empty());
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;

    fn traced(kind: Kind, source: &str, bytes: &[u8]) -> BTreeMap<String, Vec<usize>> {
        let decoder = Decoder::new(kind, source).unwrap();
        let mut interpreter = Interpreter::new();
        let decoded = decoder.decode(&mut interpreter, bytes, 1, 0, || false).unwrap();
        sources(&decoder, &mut interpreter, (bytes, 1, 0), &decoded, || false)
    }

    #[test]
    fn bytes_are_found_by_changing_them() {
        let script = "function decodeUplink({bytes}) {
            if (bytes[0] !== 7) throw new Error('unknown');
            return {data: {level: bytes[1] * 256 + bytes[2], full: bytes[1] > 200, low: bytes[3] & 1, fixed: 5}};
        }";
        let found = traced(Kind::Script, script, &[7, 3, 232, 4]);
        assert_eq!(found["level"], [1, 2]);
        assert_eq!(found["full"], [1]);
        assert_eq!(found["low"], [3]);
        assert!(!found.contains_key("fixed"), "{found:?}");
    }

    #[test]
    fn what_a_table_knows_is_not_tried() {
        let table = "block = [{ field = [{ name = 'level', bytes = 1 }] }]";
        assert!(traced(Kind::Table, table, &[1]).is_empty());
    }

    #[test]
    fn it_ends_when_it_is_told_to() {
        let decoder = Decoder::new(Kind::Script, "var decodeUplink = (i) => ({data: {n: i.bytes[0]}})").unwrap();
        let mut interpreter = Interpreter::new();
        let decoded = decoder.decode(&mut interpreter, &[1, 2], 1, 0, || false).unwrap();
        assert!(sources(&decoder, &mut interpreter, (&[1, 2], 1, 0), &decoded, || true).is_empty());
    }
}

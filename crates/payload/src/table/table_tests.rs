use std::collections::BTreeMap;

use serde_json::{Value, json};

use super::*;
use crate::outcome::TableReadError;
use crate::readings::{Reading, ReadingValue};

const GAUGE: &str = "
[[block]]
ports = [2]
length = 6
field = [
  { name = 'water_level', bytes = 2, scale = 0.001, unit = 'm' },
  { name = 'salinity', bytes = 2, scale = 0.01, unit = 'g/kg', none = [0xffff] },
  { name = 'battery', bytes = 2, scale = 0.001, unit = 'V' },
]

[[block]]
ports = [2]
when = [{ at = 0, is = [0x10, 0x20], mask = 0xf0 }]
field = [{ name = 'kind', low_bit = 4, bits = 4 }, { name = 'alarm', at = 0, low_bit = 0, kind = 'flag', bytes = 1 }]
repeat = { name = 'sample', field = [{ name = 'level', bytes = 1 }, { name = 'dry', low_bit = 7, kind = 'flag' }] }

[[command]]
port = 3
lead = '01'
field = [{ name = 'interval', bytes = 2, unit = 's', min = 60 }]

[[command]]
port = 3
lead = '02 ff'
";

fn table(source: &str) -> Table {
    Table::new(source).unwrap_or_else(|why| panic!("{why}"))
}

fn decode(table: &Table, port: u8, bytes: &[u8]) -> Result<Vec<Reading>, TableReadError> {
    let mut out = Vec::new();
    table.decode(port, bytes, &mut out).map(|()| out)
}

fn named(readings: &[Reading]) -> BTreeMap<&str, &ReadingValue> {
    readings.iter().map(|reading| (reading.name(), &reading.value)).collect()
}

#[test]
fn the_first_block_that_fits_reads() {
    let table = table(GAUGE);
    let level = decode(&table, 2, &[0x09, 0x6d, 0x0c, 0xe4, 0x0e, 0x10]).unwrap();
    assert_eq!(level[0].value, ReadingValue::Number(2.413));
    assert_eq!((level[1].unit(), level[1].bytes.clone()), (Some("g/kg"), Some(2..4)));
    let dry = decode(&table, 2, &[0x09, 0x6d, 0xff, 0xff, 0x0e, 0x10]).unwrap();
    assert_eq!(dry.iter().map(Reading::name).collect::<Vec<_>>(), ["water_level", "battery"]);
    let short = decode(&table, 2, &[0x31, 0, 0]);
    assert_eq!(short.unwrap_err().to_string(), "no block of the table is for port 2 and 3 bytes that begin like this");
}

#[test]
fn groups_repeat_to_the_end() {
    let table = Table::new(
        &GAUGE.replace("{ name = 'dry', low_bit = 7, kind = 'flag' }", "{ name = 'dry', kind = 'flag', bytes = 1 }"),
    )
    .unwrap();
    let samples = decode(&table, 2, &[0x21, 7, 1, 8, 0]).unwrap();
    let found = named(&samples);
    assert_eq!(found["kind"], &ReadingValue::Number(2.0));
    assert_eq!(found["alarm"], &ReadingValue::Boolean(true));
    assert_eq!(
        (found["sample.0.level"], found["sample.1.level"]),
        (&ReadingValue::Number(7.0), &ReadingValue::Number(8.0))
    );
    assert_eq!(found["sample.0.dry"], &ReadingValue::Boolean(true));
    assert_eq!(samples.last().unwrap().bytes, Some(4..5));
    assert_eq!(decode(&table, 2, &[0x21]).unwrap().len(), 2, "none at all");
}

const RECORDS: &str = "
endian = 'little'
[[block]]
field = [{ name = 'version', bytes = 1 }]
records = { tag_bytes = 2 }
record = [
  { tag = 0x0367, field = [{ name = 'temperature', bytes = 2, kind = 'signed', scale = 0.1 }] },
  { tag = 0x0400, field = [{ name = 'door', bytes = 1, kind = 'choice', choices = { 0 = 'closed', 1 = 'open' } }] },
]
";

#[test]
fn records_begin_with_a_tag() {
    let sonde = table(RECORDS);
    let found = decode(&sonde, 9, &[1, 3, 0x67, 0x10, 0x01, 4, 0, 1, 3, 0x67, 0xff, 0xff]).unwrap();
    let found = named(&found);
    assert_eq!(found["temperature"], &ReadingValue::Number(27.2));
    assert_eq!(found["temperature.1"], &ReadingValue::Number(-0.1), "a second one");
    assert_eq!(found["door"], &ReadingValue::Text("open".into()));
    let why = |bytes: &[u8]| decode(&sonde, 9, bytes).unwrap_err().to_string();
    assert!(why(&[1, 9, 9, 1]).contains("no record with tag 0x909, which stands at byte 1"));
    assert!(why(&[1, 3, 0x67, 1]).contains("the record with tag 0x367 needs 5 bytes, and there are 4"));
    assert!(why(&[1, 3]).contains("a record's tag needs 3 bytes"));
    let lenient = table(&RECORDS.replace("tag_bytes = 2", "tag_bytes = 2, unknown = 'stop'"));
    assert_eq!(decode(&lenient, 9, &[1, 9, 9, 1]).unwrap().len(), 1);
}

#[test]
fn records_may_say_how_long_they_are() {
    let source = RECORDS.replace("tag_bytes = 2", "tag_bytes = 2, length_bytes = 1, unknown = 'skip'");
    let source = source.replace(
        "name = 'door', bytes = 1, kind = 'choice', choices = { 0 = 'closed', 1 = 'open' }",
        "name = 'serial', rest = true, kind = 'text'",
    );
    let found =
        decode(&table(&source), 9, &[1, 9, 9, 2, 0, 0, 4, 0, 3, b'T', b'G', b'2', 3, 0x67, 2, 0x10, 1]).unwrap();
    let found = named(&found);
    assert_eq!(
        (found["serial"], found["temperature"]),
        (&ReadingValue::Text("TG2".into()), &ReadingValue::Number(27.2))
    );
}

#[test]
fn what_cannot_be_is_named_with_its_place() {
    let field = |field: &str| format!("[[block]]\nfield = [{{ name = 'a', bytes = 2 }}, {field}]");
    for (source, said) in [
        (field("{ name = 'b', at = 1, bytes = 1 }"), "block 1, field b: it has bits in common with a"),
        (field("{ name = 'a', bytes = 1 }"), "another field has this name"),
        (field("{ name = 'b', at = 240, bytes = 4 }"), "block 1, field b: it ends at byte 244"),
        ("[[block]]\nports = [0]".into(), "ports has 0"),
        ("[[block]]\nwhen = [{ is = [] }]".into(), "a byte of a payload and its values"),
        ("[[block]]\nrecord = [{ tag = 1 }]".into(), "no [block.records]"),
        ("[[block]]\nrecords = { unknown = 'skip' }".into(), "only be skipped if length_bytes"),
        ("[[block]]\nrecords = {}\nrecord = [{ tag = 256 }]".into(), "does not fit into 1 bytes"),
        ("[[block]]\nrecords = {}\nrecord = [{ tag = 1 }, { tag = 1 }]".into(), "another record has this tag"),
        ("[[block]]\nrepeat = { name = 'r', field = [] }".into(), "do not lie within its 0 bytes"),
        (
            "[[command]]\nport = 3\nlead = '01'\nfield = [{ name = 'a', at = 0, bytes = 1 }]".into(),
            "in the bytes of its lead",
        ),
        ("[[command]]\nport = 3\nlead = 'x'".into(), "lead: "),
        (String::new(), "blocks are wanted"),
        ("[[block]]\n\nfeild = []".into(), "line 3, column 1: unknown field `feild`"),
        ("[[block]".into(), "line 1"),
        (" ".repeat(300_000), "300000 bytes"),
    ] {
        let why = Table::new(&source).expect_err(&source).to_string();
        assert!(why.contains(said), "{source}: {why}");
    }
    let meant = field("{ name = 'b', at = 1, bytes = 1, overlaps = true }");
    assert_eq!(decode(&table(&meant), 1, &[1, 2]).unwrap().len(), 2);
}

#[test]
fn commands_are_told_by_their_values() {
    let table = table(GAUGE);
    let encode = |values: Value| table.encode(values.as_object().unwrap());
    let encoded = encode(json!({ "interval": 600 })).unwrap();
    assert_eq!((encoded.port, encoded.bytes), (Some(3), vec![1, 2, 0x58]));
    assert_eq!(encode(json!({})).unwrap().bytes, [2, 255]);
    assert!(encode(json!({ "interval": 59 })).unwrap_err().contains("interval: 59 is given"));
    let why = encode(json!({ "opening": 1 })).unwrap_err();
    assert!(why.contains("one for interval, one for no values"), "{why}");
}

proptest::proptest! {
    #[test]
    fn any_payload_is_read_or_refused(port: u8, bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..243)) {
        let gauge = table(GAUGE);
        let records = table(RECORDS);
        for table in [gauge, records] {
            if let Ok(readings) = decode(&table, port, &bytes) {
                let within = |reading: &Reading| reading.bytes.as_ref().is_some_and(|span| span.start < span.end && span.end <= bytes.len());
                proptest::prop_assert!(readings.iter().all(within) && readings.len() <= MAX_READINGS);
            }
        }
    }

    #[test]
    fn any_text_is_a_table_or_refused(text in ".{0,200}") {
        let _ = Table::new(&text);
    }
}

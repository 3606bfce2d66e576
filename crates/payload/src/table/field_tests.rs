use serde_json::json;

use super::*;

fn field(toml: &str) -> Result<Field, String> {
    let spec: FieldSpec = toml::from_str(&format!("name = 'x'\n{toml}")).map_err(|why| why.to_string())?;
    spec.check(0, Endian::Big)
}

fn read(toml: &str, bytes: &[u8]) -> ReadingValue {
    field(toml).unwrap_or_else(|why| panic!("{toml}: {why}")).read(bytes).unwrap().expect("a value")
}

fn number(toml: &str, bytes: &[u8]) -> f64 {
    match read(toml, bytes) {
        ReadingValue::Number(n) => n,
        other => panic!("{toml}: {other:?}"),
    }
}

#[test]
fn numbers_are_read_as_they_are_described() {
    assert_eq!(number("bytes = 2\nscale = 0.001", &[0x09, 0x6d]), 2.413, "to the last digit");
    assert_eq!(number("bytes = 2\nendian = 'little'", &[0x6d, 0x09]), 2413.0);
    assert_eq!(number("bytes = 2\nkind = 'signed'\nscale = 0.1\noffset = 40", &[0xff, 0x9c]), 30.0);
    assert_eq!(number("bytes = 3\nkind = 'signed'\nendian = 'little'", &[0xff, 0xff, 0xff]), -1.0);
    assert_eq!(number("bytes = 8", &[0, 0, 0, 0, 0, 0, 1, 0]), 256.0);
    assert_eq!(number("bytes = 2\nkind = 'bcd'\nscale = 0.01", &[0x12, 0x34]), 12.34);
    assert_eq!(number("bytes = 4\nkind = 'float'", &[0x41, 0xc8, 0, 0]), 25.0);
    assert_eq!(number("bytes = 8\nkind = 'float'\nendian = 'little'", &[0, 0, 0, 0, 0, 0, 0xf8, 0xbf]), -1.5);
    // Known halves: 1, the largest, the least above nothing, -2 (IEEE 754).
    for (raw, value) in [(0x3c00, 1.0), (0x7bff, 65504.0), (0x0001, 2f64.powi(-24)), (0xc000, -2.0)] {
        assert_eq!(number("bytes = 2\nkind = 'float'", &u16::to_be_bytes(raw)), value);
    }
}

#[test]
fn bits_are_counted_from_the_least_significant_one() {
    assert_eq!(number("bytes = 2\nlow_bit = 4\nbits = 12", &[0xab, 0xcd]), f64::from(0xabc));
    assert_eq!(number("bits = 4", &[0xab]), 11.0);
    assert_eq!(number("low_bit = 6\nbits = 2\nkind = 'signed'", &[0b1000_0000]), -2.0);
    assert_eq!(read("low_bit = 7\nkind = 'flag'", &[0x80]), ReadingValue::Boolean(true));
    assert_eq!(read("at = 1\nkind = 'flag'\nbytes = 1", &[0xff, 0xfe]), ReadingValue::Boolean(false));
}

#[test]
fn words_texts_and_what_is_no_reading() {
    let door = "bits = 2\nkind = 'choice'\nchoices = { 0 = 'closed', 1 = 'open' }";
    assert_eq!(read(door, &[0xfd]), ReadingValue::Text("open".into()));
    assert_eq!(read(door, &[2]), ReadingValue::Text("2".into()), "a number that has no word");
    assert_eq!(read("bytes = 5\nkind = 'text'", b"ebb\0\0"), ReadingValue::Text("ebb".into()));
    assert_eq!(read("at = 1\nrest = true\nkind = 'hex'", &[1, 0xab, 2]), ReadingValue::Text("ab02".into()));
    let sensor = field("bytes = 2\nnone = [0xffff]").unwrap();
    assert_eq!(sensor.read(&[0xff, 0xff]), Ok(None));
    assert_eq!(sensor.read(&[0xff]), Err(FieldTrouble::TooShort { needs: 2 }));
    assert!(matches!(field("bytes = 1\nkind = 'bcd'").unwrap().read(&[0x1a]), Err(FieldTrouble::Other(_))));
    assert_eq!(field("bytes = 4\nkind = 'float'").unwrap().read(&[0x7f, 0xc0, 0, 0]), Ok(None), "not a number");
}

#[test]
fn what_cannot_be_is_refused() {
    for (toml, said) in [
        ("", "bytes or bits is wanted"),
        ("bytes = 0", "1 to 8 are allowed"),
        ("bytes = 9", "1 to 8 are allowed"),
        ("bytes = 3\nkind = 'float'", "2, 4 or 8"),
        ("bytes = 1\nlow_bit = 5\nbits = 4", "bits 5 to 8 are not all within its 8"),
        ("at = 242\nbytes = 1", "no payload has more than 242"),
        ("at = 18446744073709551615\nbytes = 8", "no payload has more"),
        ("at = 9223372036854775807\nbytes = 8", "no payload has more"),
        ("bits = 6\nkind = 'bcd'", "whole digits"),
        ("bytes = 1\nscale = 0", "other than 0"),
        ("bytes = 1\nscale = nan", "other than 0"),
        ("bytes = 1\nkind = 'flag'\nscale = 2", "are for numbers"),
        ("bytes = 1\nkind = 'choice'", "choices is wanted"),
        ("bytes = 1\nchoices = { 1 = 'a' }", "are for kind"),
        ("bytes = 1\nkind = 'choice'\nchoices = { a = 'a' }", "where a number is wanted"),
        ("rest = true", "for text and hex"),
        ("bytes = 2\nrest = true\nkind = 'hex'", "cannot both"),
        ("bytes = 1\nmin = 5\nmax = 4", "min is 5"),
        ("bytes = 1\nlow_bit = 4294967295\nbits = 4294967295", "not all within"),
        ("bytes = 1\nkind = 'number'", "unknown variant"),
        ("bytes = 1\nsize = 2", "unknown field"),
    ] {
        let why = field(toml).err().unwrap_or_else(|| panic!("{toml} is taken"));
        assert!(why.contains(said), "{toml}: {why}");
    }
    for name in ["", "a b", "a..b", "ä", ".a"] {
        assert!(check_name(name).is_err(), "{name}");
    }
}

#[test]
fn values_that_do_not_fit_are_not_written() {
    for (toml, value, said) in [
        ("bytes = 1", json!(256), "0 to 255 fit"),
        ("bytes = 1\nkind = 'signed'\nscale = 0.5", json!(-64.5), "-64 to 63.5 fit"),
        ("bytes = 1\nmax = 100", json!(101), "to 100 is allowed"),
        ("bytes = 1", json!("40"), "a number is wanted"),
        ("bytes = 1\nkind = 'bcd'", json!(100), "0 to 99 fit"),
        ("bytes = 1\nkind = 'flag'", json!(1), "true or false"),
        ("bytes = 1\nkind = 'choice'\nchoices = { 1 = 'open' }", json!("ajar"), "open is allowed"),
        ("bytes = 2\nkind = 'text'", json!("ebb"), "it has 3 bytes"),
        ("bytes = 2\nkind = 'hex'", json!("0"), "whole bytes"),
    ] {
        let why = field(toml).unwrap().write(&value, &mut vec![]).unwrap_err();
        assert!(why.contains(said), "{toml}: {why}");
    }
}

proptest::proptest! {
    #[test]
    fn what_is_written_is_read_again(
        kind in 0usize..4, bits in 1u32..=32, low in 0u32..32, little: bool, scale in 1u32..1000, raw: u32, before: [u8; 8],
    ) {
        let (kind, bits) = match kind {
            0 => ("unsigned", bits),
            1 => ("signed", bits),
            2 => ("bcd", bits.div_ceil(4).min(7) * 4),
            _ => ("float", 32),
        };
        let place = if kind == "float" { "bytes = 4".into() } else { format!("bytes = 8\nlow_bit = {low}\nbits = {bits}") };
        let scale = if kind == "float" { 1.0 } else { 1.0 / f64::from(scale) };
        let endian = if little { "little" } else { "big" };
        let field = field(&format!("{place}\nkind = '{kind}'\nendian = '{endian}'\nscale = {scale:?}")).unwrap();
        let mask = if bits >= 32 { u64::from(u32::MAX) } else { (1 << bits) - 1 };
        let value = match kind {
            "bcd" => f64::from(raw % 10u32.pow(bits / 4)) * scale,
            "signed" => ((u64::from(raw) & mask) as i64 - (mask / 2) as i64 - 1) as f64 * scale,
            "float" => f64::from(raw as f32),
            _ => (u64::from(raw) & mask) as f64 * scale,
        };
        let mut block = Vec::new();
        proptest::prop_assert_eq!(field.write(&json!(value), &mut block), Ok(()));
        let Ok(Some(ReadingValue::Number(again))) = field.read(&block) else { panic!("{field:?} {block:?}") };
        proptest::prop_assert!((again - value).abs() <= 1e-9 * value.abs().max(1.0), "{} {}", again, value);
        // Neighbours keep their bits.
        if kind != "float" {
            let beside = super::Field { low_bit: 0, bits: 64, ..field.clone() };
            let mut all = before.to_vec();
            let others = beside.number(&before) & !(mask << low);
            all.copy_from_slice(&if little { others.to_le_bytes() } else { others.to_be_bytes() });
            field.write(&json!(value), &mut all).unwrap();
            proptest::prop_assert_eq!(beside.number(&all) & !(mask << low), others);
        }
    }

    #[test]
    fn any_bytes_are_read_or_refused(at in 0usize..20, bytes in 1usize..9, kind in 0usize..6, payload: Vec<u8>) {
        let kind = ["unsigned", "signed", "bcd", "flag", "text", "hex"][kind];
        let _ = field(&format!("at = {at}\nbytes = {bytes}\nkind = '{kind}'")).unwrap().read(&payload);
    }
}

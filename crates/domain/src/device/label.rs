//! Reading the code on a device label (LoRa Alliance TR005, "LoRaWAN Device Identification QR Codes").

use api::device::label::Label;
use api::problem::{Problem, bad_field};
use lorawan::Eui64;

/// Characters of a code at most: a QR code of this kind has far fewer.
const LONGEST: usize = 300;

/// CRC-16 with the reflected polynomial 0x8005, from 0xffff, over the text in front of the checksum's field.
fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xffff, |crc: u16, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 == 1 { (crc >> 1) ^ 0xa001 } else { crc >> 1 })
    })
}

/// The code with colons between its fields. A scanner with another keyboard layout writes another character for the
/// colon, always the same one.
fn with_colons(text: &str) -> Option<String> {
    let between = text.chars().nth(2)?;
    if between.is_ascii_alphanumeric() || between.is_control() {
        return None;
    }
    let all: String = text.chars().map(|c| if c == between { ':' } else { c }).collect();
    all.is_ascii().then_some(all)
}

/// Its ProfileID: vendor, and profile of the vendor, in hex.
pub fn profile_id(label: &Label) -> String {
    format!("{:04x}{:04x}", label.vendor_id, label.vendor_profile_id)
}

/// Reads a code.
///
/// # Errors
/// If it is none of this kind, a field is missing or wrong, or the checksum does not agree.
pub fn read(text: &str) -> Result<Label, Problem> {
    let given = text.trim();
    let bad = |why: String| bad_field("label", given, why);
    let shape = "a label's code is LW:D0:JoinEUI:DevEUI:ProfileID, perhaps with more behind";
    if given.chars().count() > LONGEST {
        return Err(bad(format!("{shape}; it has at most {LONGEST} characters")));
    }
    let code = with_colons(given).ok_or_else(|| bad(shape.into()))?.to_ascii_uppercase();
    let mut fields = code.split(':');
    if fields.next() != Some("LW") {
        return Err(bad(shape.into()));
    }
    match fields.next() {
        Some("D0") => {}
        Some(schema) => return Err(bad(format!("its schema is {schema}; D0 is known"))),
        None => return Err(bad(shape.into())),
    }
    let mut hex = |what: &str, digits: usize| -> Result<u64, Problem> {
        let field = fields.next().unwrap_or("");
        let right = field.len() == digits && field.bytes().all(|byte| byte.is_ascii_hexdigit());
        let value = u64::from_str_radix(field, 16).ok().filter(|_| right);
        value.ok_or_else(|| bad(format!("its {what} is {field:?}, where {digits} hex digits should be")))
    };
    let (join_eui, dev_eui) = (Eui64(hex("JoinEUI", 16)?), Eui64(hex("DevEUI", 16)?));
    let profile = hex("ProfileID", 8)? as u32;
    let mut label = Label {
        join_eui,
        dev_eui,
        vendor_id: (profile >> 16) as u16,
        vendor_profile_id: profile as u16,
        owner_token: None,
        serial_number: None,
        proprietary: None,
    };
    for field in fields {
        let Some((kind, value)) = field.split_at_checked(1) else {
            return Err(bad("a field is empty: two colons stand together, or one at the end".into()));
        };
        let place = match kind {
            "O" => &mut label.owner_token,
            "S" => &mut label.serial_number,
            "P" => &mut label.proprietary,
            "C" => {
                let covered = code.len() - field.len() - 1;
                let right = crc16(&code.as_bytes()[..covered]);
                if !code.ends_with(field) || u16::from_str_radix(value, 16) != Ok(right) {
                    let why = format!("its checksum is {value}, and {right:04X} would agree: a character was misread");
                    return Err(bad(why));
                }
                continue;
            }
            other => return Err(bad(format!("a field begins with {other}; O, S, P and C are known"))),
        };
        *place = Some(value.to_owned());
    }
    Ok(label)
}

/// The code, with its checksum.
pub fn code(label: &Label) -> String {
    let eui = |eui: Eui64| eui.to_string().to_ascii_uppercase();
    let mut code = format!(
        "LW:D0:{}:{}:{:04X}{:04X}",
        eui(label.join_eui),
        eui(label.dev_eui),
        label.vendor_id,
        label.vendor_profile_id
    );
    for (kind, field) in [('O', &label.owner_token), ('S', &label.serial_number), ('P', &label.proprietary)] {
        if let Some(field) = field {
            code.push(':');
            code.push(kind);
            code.push_str(field);
        }
    }
    let crc = crc16(code.as_bytes());
    format!("{code}:C{crc:04X}")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of TR005.
    const EXAMPLE: &str = "LW:D0:1122334455667788:AABBCCDDEEFF0011:AABB1122:OAABBCCDDEEFF:SYYWWNNNNNN:PFOOBAR:CAF2C";

    #[test]
    fn the_standards_own_label() {
        let label = read(EXAMPLE).unwrap();
        assert_eq!((label.join_eui.0, label.dev_eui.0), (0x1122_3344_5566_7788, 0xaabb_ccdd_eeff_0011));
        assert_eq!((label.vendor_id, label.vendor_profile_id), (0xaabb, 0x1122));
        assert_eq!(label.owner_token.as_deref(), Some("AABBCCDDEEFF"));
        assert_eq!(
            (label.serial_number.as_deref(), label.proprietary.as_deref()),
            (Some("YYWWNNNNNN"), Some("FOOBAR"))
        );
        assert_eq!(code(&label), EXAMPLE);
    }

    #[test]
    fn a_scanner_may_type_on_another_countrys_keyboard() {
        let label = read(EXAMPLE).unwrap();
        for between in ["Ö", "ö", ";", "Ñ", ">", "."] {
            let typed = format!(" {}\r\n", EXAMPLE.to_lowercase().replace(':', between));
            assert_eq!(read(&typed).as_ref(), Ok(&label), "{typed}");
        }
    }

    #[test]
    fn what_is_wrong_is_named() {
        let said = |text: &str| read(text).unwrap_err().to_string();
        assert!(said("hello").contains("LW:D0:JoinEUI:DevEUI:ProfileID"));
        assert!(said("").contains("LW:D0"));
        assert!(said("LW:D1:1").contains("its schema is D1"));
        assert!(said("LW:D0:1122334455667788:AABBCCDDEEFF00:AABB1122").contains("its DevEUI is \"AABBCCDDEEFF00\""));
        assert!(said("LW:D0:1122334455667788:AABBCCDDEEFF0011").contains("ProfileID"));
        assert!(said(&EXAMPLE.replace("FOOBAR", "FOOBAZ")).contains("a character was misread"));
        assert!(said(&EXAMPLE.replace(":CAF2C", ":X1")).contains("begins with X"));
        assert!(said(&EXAMPLE.replace(":CAF2C", "::")).contains("a field is empty"));
        assert!(said(&"LW:".repeat(200)).contains("at most 300"));
    }

    proptest::proptest! {
        #[test]
        fn labels_are_read_as_written(join: u64, dev: u64, vendor_id: u16, vendor_profile_id: u16, serial in "[A-Z0-9]{0,12}") {
            let label = Label {
                join_eui: Eui64(join),
                dev_eui: Eui64(dev),
                vendor_id,
                vendor_profile_id,
                owner_token: None,
                serial_number: Some(serial),
                proprietary: None,
            };
            proptest::prop_assert_eq!(read(&code(&label)), Ok(label));
        }

        #[test]
        fn any_text_is_answered(text in ".{0,60}") {
            let _ = read(&text);
        }
    }
}

//! Reading bytes as people paste them.
//!
//! EUIs and keys arrive from labels, spreadsheets, terminals and C sources. What is accepted is
//! generous in punctuation and strict in meaning: hex digits in pairs, in the order written.

use base64::Engine;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use thiserror::Error;

/// Why a pasted text is not the bytes it should be.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TextError {
    /// A character that is neither a hex digit nor punctuation between bytes.
    #[error("{found:?} at character {at} is not a hex digit (0-9, a-f)")]
    NotHex {
        /// The character.
        found: char,
        /// Its place, counted from 1.
        at: usize,
    },
    /// An odd number of digits somewhere, so that a byte is cut in half.
    #[error("{digits} hex digits do not make whole bytes: a digit is missing or one too many")]
    HalfByte {
        /// Digits counted.
        digits: usize,
    },
    /// Neither hex digits nor base64.
    #[error("neither hex digits nor base64: {0}")]
    NeitherHexNorBase64(String),
    /// Whole bytes, but not as many as wanted.
    #[error("{found} hex digits given, {wanted} are needed ({wanted_bytes} bytes)")]
    WrongLength {
        /// Digits given.
        found: usize,
        /// Digits needed.
        wanted: usize,
        /// Bytes needed.
        wanted_bytes: usize,
    },
}

/// The bytes in `text`, in the order written.
///
/// Accepted: upper and lower case; colons, dashes, dots, spaces and commas between bytes; `0x`
/// before bytes or before the whole; braces round a C array, with or without a trailing comma or
/// semicolon. A lone digit between punctuation (`0x1, 0xA, 0`) stands for a byte below 16 where bytes
/// are marked with `0x`.
pub fn bytes(text: &str) -> Result<Vec<u8>, TextError> {
    let mut out = Vec::new();
    // Digits of the group being read, and whether `0x` introduced it.
    let mut group: Vec<u8> = Vec::new();
    let mut prefixed = false;
    let mut digits = 0;
    let marked = text.contains("0x") || text.contains("0X");
    for (i, c) in text.chars().enumerate() {
        match c {
            'x' | 'X' if group == [0] => {
                group.clear();
                digits -= 1;
                prefixed = true;
            }
            _ if c.is_ascii_hexdigit() => {
                group.push(c.to_digit(16).map_or(0, |d| d as u8));
                digits += 1;
            }
            ':' | '-' | '.' | ',' | ';' | '{' | '}' | '[' | ']' => {
                flush(&mut group, &mut prefixed, marked, digits, &mut out)?;
            }
            _ if c.is_whitespace() => flush(&mut group, &mut prefixed, marked, digits, &mut out)?,
            _ => return Err(TextError::NotHex { found: c, at: i + 1 }),
        }
    }
    flush(&mut group, &mut prefixed, marked, digits, &mut out)?;
    Ok(out)
}

fn flush(
    group: &mut Vec<u8>,
    prefixed: &mut bool,
    marked: bool,
    digits: usize,
    out: &mut Vec<u8>,
) -> Result<(), TextError> {
    if marked && group.len() == 1 {
        out.push(group[0]);
    } else {
        if group.len() % 2 == 1 || (*prefixed && group.is_empty()) {
            return Err(TextError::HalfByte { digits });
        }
        out.extend(group.chunks_exact(2).map(|pair| (pair[0] << 4) | pair[1]));
    }
    group.clear();
    *prefixed = false;
    Ok(())
}

/// A frame as tools print it: hex as [`bytes`] takes it, or base64 of either alphabet with or without
/// padding. What can be read as hex is hex: a frame in base64 that looks so would have to be made of
/// the letters a to f alone.
pub fn frame(text: &str) -> Result<Vec<u8>, TextError> {
    let hex = match bytes(text) {
        Err(why @ TextError::NotHex { .. }) => why,
        // Hex digits only, so the mistake is one of hex.
        other => return other,
    };
    let plain: String = text.chars().filter(|c| !c.is_whitespace() && *c != '=').collect();
    let url_safe = plain.contains(['-', '_']);
    let engine = if url_safe { base64::engine::general_purpose::URL_SAFE_NO_PAD } else { STANDARD_NO_PAD };
    engine.decode(&plain).map_err(|_| TextError::NeitherHexNorBase64(hex.to_string()))
}

/// Exactly `N` bytes from `text`; see [`bytes`] for what is accepted.
pub fn bytes_of<const N: usize>(text: &str) -> Result<[u8; N], TextError> {
    let found = bytes(text)?;
    <[u8; N]>::try_from(found.as_slice()).map_err(|_| TextError::WrongLength {
        found: found.len() * 2,
        wanted: N * 2,
        wanted_bytes: N,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn pasted_forms_mean_the_same() {
        let wanted = [0x02, 0xa0, 0x0b, 0x1c];
        for form in [
            "02a00b1c",
            "02A00B1C",
            "02:a0:0b:1c",
            "02-A0-0B-1C",
            "02 a0 0b 1c",
            "0x02a00b1c",
            "0x02, 0xA0, 0x0B, 0x1C",
            "{ 0x02, 0xA0, 0x0B, 0x1C, };",
            "{0x2,0xa0,0xb,0x1c}",
            " 02a0.0b1c\n",
        ] {
            assert_eq!(bytes_of::<4>(form), Ok(wanted), "{form}");
        }
        assert_eq!(bytes("{ 0x02, 0, 0xa, 0, }"), Ok(vec![2, 0, 10, 0]), "C writes a zero without its mark");
        assert!(
            matches!(bytes("02, 0, 0a"), Err(TextError::HalfByte { .. })),
            "where nothing is marked, one is missing"
        );
    }

    #[test]
    fn wrong_forms_name_what_is_wrong() {
        assert_eq!(bytes_of::<2>("02g0"), Err(TextError::NotHex { found: 'g', at: 3 }));
        assert_eq!(bytes_of::<2>("02a"), Err(TextError::HalfByte { digits: 3 }));
        assert_eq!(bytes("0x"), Err(TextError::HalfByte { digits: 0 }));
        let error = bytes_of::<8>("02a00b").unwrap_err();
        assert_eq!(error.to_string(), "6 hex digits given, 16 are needed (8 bytes)");
    }

    #[test]
    fn a_frame_may_be_hex_or_base64() {
        let wanted = vec![0x40, 0x67, 0x45, 0x23, 0xfb];
        for form in ["40674523fb", "0x40, 0x67, 0x45, 0x23, 0xfb", "QGdFI/s=", "QGdFI/s", "QGdFI_s", "QGdF\nI/s="] {
            assert_eq!(frame(form), Ok(wanted.clone()), "{form}");
        }
        assert_eq!(frame("40674523f"), Err(TextError::HalfByte { digits: 9 }));
        let why = frame("QGdFI/s!").unwrap_err().to_string();
        assert_eq!(why, "neither hex digits nor base64: 'Q' at character 1 is not a hex digit (0-9, a-f)");
        assert_eq!(frame(""), Ok(vec![]));
    }

    proptest! {
        #[test]
        fn any_text_is_answered(text in "\\PC{0,60}") {
            let _ = bytes(&text);
        }

        #[test]
        fn every_byte_string_survives_its_c_array(data in proptest::collection::vec(any::<u8>(), 0..40)) {
            let array = data.iter().map(|b| format!("0x{b:02X}, ")).collect::<String>();
            prop_assert_eq!(bytes(&format!("{{ {array} }}")), Ok(data));
        }
    }
}

//! Reading what people type or paste: EUIs, keys, payloads, names, numbers. Errors name the field, the value and what
//! is allowed.

use std::str::FromStr;

use api::problem::{Problem, bad_field};
use lorawan::{AesKey, Eui64, text};

/// Reads an EUI in any pasted form.
pub fn eui(field: &str, value: &str) -> Result<Eui64, Problem> {
    Eui64::from_str(value).map_err(|why| bad_field(field, value, format!("an EUI has 16 hex digits: {why}")))
}

/// Reads a key in any pasted form. The value is not repeated in the error: it may be a real key.
pub fn key(field: &str, value: &str) -> Result<AesKey, Problem> {
    AesKey::from_str(value).map_err(|why| bad_field(field, "(hidden)", format!("a key has 32 hex digits: {why}")))
}

/// Reads bytes in any pasted form, at most `max`.
pub fn payload(field: &str, value: &str, max: usize) -> Result<Vec<u8>, Problem> {
    let bytes = text::bytes(value).map_err(|why| bad_field(field, value, why))?;
    if bytes.len() > max {
        return Err(bad_field(
            field,
            value,
            format!("{} bytes are more than the {max} a frame can carry", bytes.len()),
        ));
    }
    Ok(bytes)
}

/// Checks a name for people: not empty, at most 80 characters, no control characters.
pub fn name(field: &str, value: &str) -> Result<String, Problem> {
    let trimmed = value.trim();
    if trimmed.is_empty() || trimmed.chars().count() > 80 || trimmed.chars().any(char::is_control) {
        return Err(bad_field(field, value, "1 to 80 characters are allowed, none of them a control character"));
    }
    Ok(trimmed.to_owned())
}

/// Checks a short name used in addresses: lower-case letters, digits and dashes.
pub fn slug(field: &str, value: &str) -> Result<String, Problem> {
    let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    if value.is_empty() || value.len() > 60 || !value.chars().all(good) || value.starts_with('-') {
        return Err(bad_field(
            field,
            value,
            "1 to 60 lower-case letters, digits and dashes are allowed, with no dash in front",
        ));
    }
    Ok(value.to_owned())
}

/// A tag as it is stored and compared: in lower case, so that one word is one tag.
pub fn stored_tag(text: &str) -> String {
    text.trim().to_lowercase()
}

/// Checks a tag: a short name in any language.
pub fn tag(field: &str, value: &str) -> Result<String, Problem> {
    let tag = stored_tag(value);
    let good = |c: char| c.is_alphanumeric() || c == '-';
    if tag.is_empty() || tag.chars().count() > 60 || !tag.chars().all(good) || tag.starts_with('-') {
        let allowed = "1 to 60 letters, digits and dashes are allowed, with no dash in front";
        return Err(bad_field(field, value, allowed));
    }
    Ok(tag)
}

/// Checks a number against its range; not-a-number is in no range.
pub fn range(field: &str, value: f64, from: f64, to: f64, unit: &str) -> Result<f64, Problem> {
    if (from..=to).contains(&value) {
        Ok(value)
    } else {
        Err(bad_field(field, &value.to_string(), format!("{from} to {to} {unit} are allowed")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn errors_name_field_value_and_what_is_allowed() {
        let problem = eui("dev_eui", "02bb00").unwrap_err();
        assert_eq!(problem.field.as_deref(), Some("dev_eui"));
        assert_eq!(
            problem.to_string(),
            "dev_eui: This value cannot be used: \"02bb00\" was given; an EUI has 16 hex digits: 6 hex digits given, 16 are needed (8 bytes)"
        );
        assert!(payload("payload", "00 11 22", 2).unwrap_err().to_string().contains("more than the 2"));
        assert!(range("latitude_deg", f64::NAN, -90.0, 90.0, "degrees").is_err());
        assert!(name("name", " \n").is_err() && name("name", "a\u{7}").is_err());
        assert_eq!(name("name", " chapel rise ").unwrap(), "chapel rise");
        for bad in ["", "Tide", "-a", "a b"] {
            assert!(slug("fleet", bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn tags_are_words_of_any_language() {
        assert_eq!(tag("tags", " Südufer-2 ").unwrap(), "südufer-2");
        for bad in ["", "-a", "a b", "a,b", "a;b"] {
            assert!(tag("tags", bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn a_key_is_not_repeated_in_an_error() {
        let problem = key("app_key", "c0ffee").unwrap_err();
        assert!(!problem.to_string().contains("c0ffee"));
    }
}

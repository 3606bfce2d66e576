//! Where a device is, and what else is known of it: the checks.

use std::collections::BTreeMap;

use api::device::place::Place;
use api::problem::{Problem, bad_field};

use crate::input;

/// Attributes of one device, at most.
pub const MOST_ATTRIBUTES: usize = 30;
/// Characters of an attribute's name and of its text, at most.
const LONGEST_NAME: usize = 40;
const LONGEST_TEXT: usize = 200;

/// A place as it is stored.
///
/// # Errors
/// Names the field, the value and what is allowed.
pub fn place(given: Place) -> Result<Place, Problem> {
    input::range("place.latitude_deg", given.latitude_deg, -90.0, 90.0, "degrees")?;
    input::range("place.longitude_deg", given.longitude_deg, -180.0, 180.0, "degrees")?;
    if let Some(height_m) = given.height_m {
        input::range("place.height_m", height_m, -500.0, 10_000.0, "m")?;
    }
    if let Some(gain_dbi) = given.antenna_gain_dbi {
        input::range("place.antenna_gain_dbi", gain_dbi, -20.0, 20.0, "dBi")?;
    }
    if let Some(loss_db) = given.penetration_loss_db {
        input::range("place.penetration_loss_db", loss_db, 0.0, 60.0, "dB")?;
    }
    Ok(given)
}

/// Attributes as they are stored: those with an empty text are left out.
///
/// # Errors
/// Names the attribute and what is allowed.
pub fn attributes(given: BTreeMap<String, String>) -> Result<BTreeMap<String, String>, Problem> {
    let is_name = |name: &str| {
        let long = name.chars().count();
        (1..=LONGEST_NAME).contains(&long) && name.chars().all(|c| c.is_alphanumeric() || " _-.".contains(c))
    };
    let mut kept = BTreeMap::new();
    for (name, text) in given {
        let (name, text) = (name.trim().to_owned(), text.trim().to_owned());
        if !is_name(&name) {
            let allowed = format!("a name is 1 to {LONGEST_NAME} letters, digits, blanks, dots, dashes or underscores");
            return Err(bad_field("attributes", &name, allowed));
        }
        if text.chars().count() > LONGEST_TEXT || text.chars().any(char::is_control) {
            let allowed = format!("at most {LONGEST_TEXT} characters are allowed, no control characters");
            return Err(bad_field(&format!("attributes.{name}"), &text, allowed));
        }
        if !text.is_empty() {
            kept.insert(name, text);
        }
    }
    if kept.len() > MOST_ATTRIBUTES {
        let count = format!("{} attributes", kept.len());
        return Err(bad_field("attributes", &count, format!("at most {MOST_ATTRIBUTES} are allowed")));
    }
    Ok(kept)
}

/// Attributes with changes: what is given replaces, nothing removes.
pub(crate) fn changed(
    now: &BTreeMap<String, String>,
    change: &BTreeMap<String, Option<String>>,
) -> Result<BTreeMap<String, String>, Problem> {
    let mut all = now.clone();
    for (name, text) in change {
        let name = name.trim();
        match text {
            Some(text) => drop(all.insert(name.to_owned(), text.clone())),
            None => drop(all.remove(name)),
        }
    }
    attributes(all)
}

/// Attributes on one line: `owner=harbour office; pole=12`.
pub(crate) fn line(attributes: &BTreeMap<String, String>) -> String {
    attributes.iter().map(|(name, text)| format!("{name}={text}")).collect::<Vec<_>>().join("; ")
}

/// Reads such a line. A text with a semicolon cannot be written in it.
pub(crate) fn of_line(text: &str) -> Result<BTreeMap<String, String>, Problem> {
    let parts = text.split(';').map(str::trim).filter(|part| !part.is_empty());
    let read = parts.map(|part| match part.split_once('=') {
        Some((name, text)) => Ok((name.trim().to_owned(), text.trim().to_owned())),
        None => Err(bad_field("attributes", part, "NAME=TEXT is wanted, with semicolons between")),
    });
    read.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn map(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect()
    }

    #[test]
    fn a_place_is_on_the_globe() {
        let of =
            |latitude_deg, longitude_deg, height_m| Place { latitude_deg, longitude_deg, height_m, ..Place::default() };
        assert!(place(of(54.7, 3.9, Some(-2.0))).is_ok());
        let field = |bad| place(bad).unwrap_err().field.unwrap();
        assert_eq!(field(of(90.1, 0.0, None)), "place.latitude_deg");
        assert_eq!(field(of(0.0, f64::NAN, None)), "place.longitude_deg");
        assert_eq!(field(of(0.0, 0.0, Some(1e5))), "place.height_m");
    }

    #[test]
    fn attributes_are_checked_changed_and_written_on_a_line() {
        let now = map(&[("owner", "harbour office"), ("pole", "12")]);
        let change = [("pole".to_owned(), None), ("key at".to_owned(), Some(" the mill ".to_owned()))].into();
        let after = changed(&now, &change).unwrap();
        assert_eq!(after, map(&[("key at", "the mill"), ("owner", "harbour office")]));
        assert_eq!(of_line(&line(&after)).unwrap(), after);
        assert!(of_line("owner").is_err());
        for (name, text) in [("", "x"), ("a/b", "x"), ("a", "x\ny")] {
            assert!(attributes(map(&[(name, text)])).is_err(), "{name:?} {text:?}");
        }
        let many: BTreeMap<_, _> = (0..=MOST_ATTRIBUTES).map(|n| (format!("a{n}"), "x".to_owned())).collect();
        assert_eq!(attributes(many).unwrap_err().field.as_deref(), Some("attributes"));
    }
}

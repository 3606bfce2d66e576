//! Payloads that are text: an object of JSON, values between separators, or pairs of name and value.

use std::sync::Arc;

use serde::Deserialize;
use serde_json::Value;

use crate::outcome::{Encoded, MAX_DEFINITION_BYTES, TableError, TextError};
use crate::readings;
use crate::readings::{Meaning, Reading, ReadingValue};
use crate::table::field::{MAX_PAYLOAD, check_name};
use crate::table::unreadable;
use crate::table::write::flat;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Form {
    Json,
    Separated,
    Pairs,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FieldSpec {
    /// Empty for a value that is of no interest.
    name: String,
    unit: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Spec {
    form: Form,
    separator: Option<String>,
    between: Option<String>,
    #[serde(default)]
    field: Vec<FieldSpec>,
    /// The port that values are sent to.
    port: Option<u8>,
}

/// How a text is read, and written.
#[derive(Debug, Clone)]
pub struct TextForm {
    form: Form,
    separator: String,
    between: String,
    names: Vec<Arc<Meaning>>,
    port: Option<u8>,
}

impl TextForm {
    /// Reads which form it is, in TOML.
    ///
    /// # Errors
    /// If it is not TOML of this layout, or something in it cannot be.
    pub fn new(source: &str) -> Result<Self, TableError> {
        if source.len() > MAX_DEFINITION_BYTES {
            return Err(TableError::TooLong(source.len()));
        }
        let Spec { form, separator, between, field, port } =
            toml::from_str(source).map_err(|why| unreadable(source, &why))?;
        let wrong = |why: &str| TableError::Wrong { place: "the form".into(), why: why.into() };
        let (separator, between) = (separator.unwrap_or_else(|| ",".into()), between.unwrap_or_else(|| "=".into()));
        if separator.is_empty() || between.is_empty() || separator == between {
            return Err(wrong("separator and between are wanted, and different"));
        }
        if form == Form::Separated && field.is_empty() || field.len() > readings::MAX_READINGS {
            return Err(wrong("the values' names are wanted, in their order: [[field]] with a name each"));
        }
        if port.is_some_and(|port| !(1..=223).contains(&port)) {
            return Err(wrong("port is 1 to 223"));
        }
        for name in field.iter().map(|field| &field.name).filter(|name| !name.is_empty()) {
            check_name(name).map_err(|why| wrong(&why))?;
        }
        let names = field.into_iter().map(|field| Meaning::new(field.name, field.unit.as_deref())).collect();
        Ok(Self { form, separator, between, names, port })
    }

    /// Whether values can be sent as such a text.
    pub const fn encodes(&self) -> bool {
        self.port.is_some()
    }

    fn of(&self, name: &str) -> Arc<Meaning> {
        let known = self.names.iter().find(|known| known.name == name);
        known.map_or_else(|| Meaning::new(name, None), Arc::clone)
    }

    /// Reads a payload; appends what is in it to `out`, and what was left out to `warnings`.
    ///
    /// # Errors
    /// If it is no text of this form.
    pub fn decode(&self, bytes: &[u8], out: &mut Vec<Reading>, warnings: &mut Vec<String>) -> Result<(), TextError> {
        let text = std::str::from_utf8(bytes).map_err(|why| TextError::NoText(why.valid_up_to()))?;
        let trimmed = text.trim_end_matches(['\0', '\r', '\n', ' ']);
        // Where a part lies in the payload: it is a slice of it.
        let span = |part: &str| {
            let start = part.as_ptr().addr() - text.as_ptr().addr();
            Some(start..start + part.len()).filter(|span| !span.is_empty())
        };
        match self.form {
            Form::Json => {
                let value: Value = serde_json::from_str(trimmed).map_err(|why| TextError::NoJson(why.to_string()))?;
                if !value.is_object() {
                    return Err(TextError::NoObject);
                }
                let found = readings::flatten(&value, warnings);
                out.extend(found.into_iter().map(|reading| Reading { of: self.of(reading.name()), ..reading }));
            }
            Form::Separated => {
                let parts: Vec<&str> = trimmed.split(&self.separator).map(str::trim).collect();
                if parts.len() != self.names.len() {
                    return Err(TextError::Values { found: parts.len(), wanted: self.names.len() });
                }
                let named = self.names.iter().zip(parts).filter(|(of, part)| !of.name.is_empty() && !part.is_empty());
                out.extend(named.map(|(of, part)| Reading {
                    of: Arc::clone(of),
                    value: value_of(part),
                    bytes: span(part),
                    at_ms: None,
                }));
            }
            Form::Pairs => {
                for part in trimmed.split(&self.separator).map(str::trim).filter(|part| !part.is_empty()) {
                    let pair = part.split_once(&self.between).map(|(name, value)| (name.trim(), value.trim()));
                    let good = pair.filter(|(name, value)| check_name(name).is_ok() && !value.is_empty());
                    let (name, value) = good.ok_or_else(|| TextError::NoPair(part.to_owned()))?;
                    if out.len() >= readings::MAX_READINGS {
                        warnings.push(format!("only the first {} values are kept", readings::MAX_READINGS));
                        break;
                    }
                    out.push(Reading { of: self.of(name), value: value_of(value), bytes: span(value), at_ms: None });
                }
            }
        }
        Ok(())
    }

    /// Makes a downlink of named values, in the same form.
    ///
    /// # Errors
    /// In words, if they do not fit the form or a frame.
    pub fn encode(&self, values: &serde_json::Map<String, Value>) -> Result<Encoded, String> {
        let text = match self.form {
            Form::Json => serde_json::to_string(values).map_err(|why| why.to_string())?,
            Form::Pairs => {
                let pair = |(name, value): (String, &Value)| Ok(format!("{name}{}{}", self.between, self.word(value)?));
                flat(values).into_iter().map(pair).collect::<Result<Vec<_>, String>>()?.join(&self.separator)
            }
            Form::Separated => {
                let mut values = flat(values);
                let mut word = |of: &Arc<Meaning>| match values.remove(&of.name) {
                    Some(value) => self.word(value),
                    None => Ok(String::new()),
                };
                let words = self.names.iter().map(&mut word).collect::<Result<Vec<_>, String>>()?;
                if let Some((stray, _)) = values.first_key_value() {
                    return Err(format!("{stray} has no place among the values"));
                }
                words.join(&self.separator)
            }
        };
        let bytes = text.into_bytes();
        match bytes.len() {
            0..=MAX_PAYLOAD => Ok(Encoded { bytes, port: self.port, warnings: Vec::new() }),
            n => Err(format!("{n} bytes, at most {MAX_PAYLOAD} fit into a frame")),
        }
    }

    fn word(&self, value: &Value) -> Result<String, String> {
        let word = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        match word.contains(&self.separator) {
            true => Err(format!("{word:?} has {:?} in it, which separates values", self.separator)),
            false => Ok(word),
        }
    }
}

fn value_of(text: &str) -> ReadingValue {
    match (text, text.parse::<f64>()) {
        ("true" | "false", _) => ReadingValue::Boolean(text == "true"),
        (_, Ok(number)) if number.is_finite() => ReadingValue::Number(number),
        _ => ReadingValue::Text(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn decode(form: &str, bytes: &[u8]) -> Result<Vec<Reading>, TextError> {
        let mut out = Vec::new();
        TextForm::new(form).unwrap().decode(bytes, &mut out, &mut vec![]).map(|()| out)
    }

    fn shown(readings: &[Reading]) -> Vec<String> {
        let unit = |reading: &Reading| reading.unit().unwrap_or_default().to_owned();
        readings.iter().map(|reading| format!("{} {:?}{}", reading.name(), reading.value, unit(reading))).collect()
    }

    #[test]
    fn json_becomes_readings() {
        let form = "form = 'json'\nfield = [{ name = 'tide.level', unit = 'm' }]";
        let found = decode(form, b"{\"tide\":{\"level\":2.4},\"mode\":\"ebb\"}\0\0").unwrap();
        assert_eq!(shown(&found), ["mode Text(\"ebb\")", "tide.level Number(2.4)m"]);
        assert_eq!(decode(form, b"[1]"), Err(TextError::NoObject));
        assert!(matches!(decode(form, b"{"), Err(TextError::NoJson(_))));
        assert_eq!(decode(form, b"{\"a\xff"), Err(TextError::NoText(3)));
    }

    #[test]
    fn values_between_separators_have_their_names_by_place() {
        let form = "form = 'separated'\nseparator = ';'\n\
                    field = [{ name = 'level', unit = 'm' }, { name = '' }, { name = 'wet' }, { name = 'mode' }]";
        let found = decode(form, b"2.41; 7 ;true;\r\n").unwrap();
        assert_eq!(shown(&found), ["level Number(2.41)m", "wet Boolean(true)"]);
        assert_eq!(found[1].bytes, Some(9..13));
        assert_eq!(decode(form, b"1;2"), Err(TextError::Values { found: 2, wanted: 4 }));
        let pairs = decode("form = 'pairs'\nseparator = ' '\nbetween = ':'", b"level:2.41 mode:ebb 9x:1").unwrap();
        assert_eq!(shown(&pairs), ["level Number(2.41)", "mode Text(\"ebb\")", "9x Number(1.0)"]);
        assert_eq!(decode("form = 'pairs'", b"level"), Err(TextError::NoPair("level".into())));
        assert_eq!(shown(&decode("form = 'pairs'", b"a=nan").unwrap()), ["a Text(\"nan\")"]);
    }

    #[test]
    fn forms_that_cannot_be_are_refused() {
        for (form, said) in [
            ("", "missing field `form`"),
            ("form = 'xml'", "unknown variant"),
            ("form = 'separated'", "names are wanted"),
            ("form = 'pairs'\nseparator = '='", "different"),
            ("form = 'json'\nport = 0", "1 to 223"),
            ("form = 'json'\nfield = [{ name = 'a b' }]", "is no name"),
        ] {
            let why = TextForm::new(form).err().unwrap().to_string();
            assert!(why.contains(said), "{form}: {why}");
        }
    }

    #[test]
    fn values_are_written_in_the_same_form() {
        let encode = |form: &str, values: Value| {
            let encoded = TextForm::new(&format!("port = 5\n{form}")).unwrap().encode(values.as_object().unwrap())?;
            Ok::<_, String>(String::from_utf8(encoded.bytes).unwrap())
        };
        assert_eq!(
            encode("form = 'json'", json!({ "gate": { "opening": 40 } })).unwrap(),
            "{\"gate\":{\"opening\":40}}"
        );
        assert_eq!(
            encode("form = 'pairs'", json!({ "gate": { "opening": 40 }, "mode": "ebb" })).unwrap(),
            "gate.opening=40,mode=ebb"
        );
        let places = "form = 'separated'\nfield = [{ name = 'mode' }, { name = 'opening' }]";
        assert_eq!(encode(places, json!({ "opening": 40 })).unwrap(), ",40");
        assert!(encode(places, json!({ "lid": 40 })).unwrap_err().contains("lid has no place"));
        assert!(encode("form = 'pairs'", json!({ "mode": "a,b" })).unwrap_err().contains("separates values"));
        assert!(encode("form = 'json'", json!({ "a": "x".repeat(300) })).unwrap_err().contains("at most 242"));
    }

    proptest::proptest! {
        #[test]
        fn any_payload_is_read_or_refused(bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..243), text in ".{0,60}") {
            for form in ["form = 'json'", "form = 'pairs'", "form = 'separated'\nfield = [{ name = 'a' }, { name = 'b' }]"] {
                let _ = decode(form, &bytes);
                let _ = decode(form, text.as_bytes());
            }
        }
    }
}

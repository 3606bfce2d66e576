//! The kinds of decoder there are, behind one door.

use serde_json::Value;

use crate::low_power::LowPower;
use crate::outcome::{DecodeError, Decoded, Encoded};
use crate::script::call::{Limits, Script};
use crate::script::interpreter::Interpreter;
use crate::table::Table;
use crate::text::TextForm;

/// A kind of decoder.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Kind {
    /// JavaScript with the interface of TS013.
    #[default]
    Script,
    /// A field table.
    Table,
    /// The low-power payload format.
    LowPower,
    /// Text or JSON.
    Text,
}

/// A decoder of any kind, ready to be used.
#[derive(Debug, Clone)]
pub enum Decoder {
    /// A script.
    Script(Script),
    /// A field table.
    Table(Table),
    /// The low-power payload format.
    LowPower(LowPower),
    /// Text or JSON.
    Text(TextForm),
}

impl Decoder {
    /// Reads a decoder's source. A script is loaded once.
    ///
    /// # Errors
    /// If it cannot be used; the place is named.
    pub fn new(kind: Kind, source: &str) -> Result<Self, DecodeError> {
        Ok(match kind {
            Kind::Script => Self::Script(Script::new(source, Limits::default())?),
            Kind::Table => Self::Table(Table::new(source)?),
            Kind::LowPower => Self::LowPower(LowPower::new(source)?),
            Kind::Text => Self::Text(TextForm::new(source)?),
        })
    }

    /// Whether it makes downlinks of named values.
    pub fn encodes(&self) -> bool {
        match self {
            Self::Script(script) => script.encodes(),
            Self::Table(table) => !table.commands.is_empty(),
            Self::LowPower(channels) => channels.encodes(),
            Self::Text(form) => form.encodes(),
        }
    }

    /// What was skipped in it, for its author.
    pub fn notes(&self) -> &[String] {
        match self {
            Self::Script(script) => script.notes(),
            _ => &[],
        }
    }

    /// Decodes `bytes`, received on `port` at `recv_time_ms`; for `stop` see [`Script::decode_uplink`].
    ///
    /// # Errors
    /// If the payload cannot be decoded.
    pub fn decode(
        &self,
        interpreter: &mut Interpreter,
        bytes: &[u8],
        port: u8,
        recv_time_ms: i64,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Decoded, DecodeError> {
        let (mut readings, mut warnings) = (Vec::with_capacity(8), Vec::new());
        match self {
            Self::Script(script) => return script.decode_uplink(interpreter, bytes, port, recv_time_ms, stop),
            Self::Table(table) => table.decode(port, bytes, &mut readings)?,
            Self::LowPower(channels) => channels.decode(bytes, &mut readings)?,
            Self::Text(form) => form.decode(bytes, &mut readings, &mut warnings)?,
        }
        Ok(Decoded { readings, warnings })
    }

    /// Reads a downlink as the device will, if it can.
    ///
    /// # Errors
    /// If it does not take the bytes.
    pub fn read_downlink(
        &self,
        interpreter: &mut Interpreter,
        bytes: &[u8],
        port: u8,
        stop: impl Fn() -> bool + 'static,
    ) -> Option<Result<Decoded, DecodeError>> {
        match self {
            Self::Script(script) if script.reads_downlinks() => {
                Some(script.decode_downlink(interpreter, bytes, port, stop))
            }
            _ => None,
        }
    }

    /// Makes a downlink of named values.
    ///
    /// # Errors
    /// If there is no encoder, or it does not take the values.
    pub fn encode(
        &self,
        interpreter: &mut Interpreter,
        values: &serde_json::Map<String, Value>,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Encoded, DecodeError> {
        let encoded = match self {
            Self::Script(script) => return script.encode_downlink(interpreter, values, stop),
            _ if !self.encodes() => Err("it has no command".into()),
            Self::Table(table) => table.encode(values),
            Self::LowPower(channels) => channels.encode(values),
            Self::Text(form) => form.encode(values),
        };
        encoded.map_err(DecodeError::NotWritten)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_decodes_and_encodes() {
        let none = serde_json::Map::new();
        let level = serde_json::Map::from_iter([("level".to_owned(), Value::from(7))]);
        for (kind, source, bytes, sent) in [
            (
                Kind::Script,
                "var decodeUplink = (i) => ({data: {level: i.bytes[0]}}), encodeDownlink = (i) => ({bytes: [i.data.level], fPort: 3})",
                &[7][..],
                &[7][..],
            ),
            (
                Kind::Table,
                "block = [{ field = [{ name = 'level', bytes = 1 }] }]\ncommand = [{ port = 3, field = [{ name = 'level', bytes = 1 }] }]",
                &[7],
                &[7],
            ),
            (
                Kind::LowPower,
                "channels = { 1 = 'level' }\ncommand = [{ name = 'level', port = 3, channel = 1, type = 'percentage' }]",
                &[1, 120, 7],
                &[1, 120, 7],
            ),
            (Kind::Text, "form = 'pairs'\nport = 3", b"level=7", b"level=7"),
        ] {
            let decoder = Decoder::new(kind, source).unwrap();
            let mut interpreter = Interpreter::new();
            let decoded = decoder.decode(&mut interpreter, bytes, 2, 0, || false).unwrap();
            assert_eq!(
                (decoded.readings[0].name(), &decoded.readings[0].value),
                ("level", &crate::ReadingValue::Number(7.0))
            );
            let encoded = decoder.encode(&mut interpreter, &level, || false).unwrap();
            assert_eq!((encoded.port, encoded.bytes.as_slice(), decoder.encodes()), (Some(3), sent, true), "{kind:?}");
            let _ = decoder.encode(&mut interpreter, &none, || false);
        }
        let mute = Decoder::new(Kind::Table, "block = [{ field = [{ name = 'level', bytes = 1 }] }]").unwrap();
        assert!(!mute.encodes());
        let why = mute.encode(&mut Interpreter::new(), &level, || false).unwrap_err();
        assert_eq!(why.to_string(), "it has no command");
        assert!(Decoder::new(Kind::Table, "block = 1").err().unwrap().to_string().contains("line 1, column 9"));
    }
}

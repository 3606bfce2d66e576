//! The low-power payload format: records of a channel, a type and a value, high byte first. A type is the number of an IPSO
//! smart object less 3200 (IPSO Smart Object Guideline, starter and expansion packs).

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::Deserialize;
use serde_json::Value;

use crate::outcome::MAX_DEFINITION_BYTES;
use crate::outcome::{Encoded, LowPowerError, TableError};
use crate::readings::{MAX_READINGS, Meaning, Reading, ReadingValue};
use crate::table::field::{Endian, MAX_PAYLOAD, check_name};
use crate::table::unreadable;
use crate::table::write::flat;

/// A number within a value.
#[derive(Debug)]
struct Part {
    /// What its name ends with, where a value has several.
    suffix: &'static str,
    bytes: usize,
    signed: bool,
    /// Divides what stands in the payload.
    over: f64,
    unit: &'static str,
}

/// A type of value.
#[derive(Debug)]
struct Type {
    number: u8,
    name: &'static str,
    /// Whether it is a state, on or off, when it is 0 or 1.
    state: bool,
    parts: &'static [Part],
}

const fn part(suffix: &'static str, bytes: usize, signed: bool, over: f64, unit: &'static str) -> Part {
    Part { suffix, bytes, signed, over, unit }
}

macro_rules! types {
    ($($number:literal $name:literal $state:literal [$($part:expr),+];)+) => {
        &[$(Type { number: $number, name: $name, state: $state, parts: &[$($part),+] }),+]
    };
}

/// Types by number: IPSO object 3200 + number.
static TYPES: &[Type] = types! {
    0 "digital_input" true [part("", 1, false, 1.0, "")];
    1 "digital_output" true [part("", 1, false, 1.0, "")];
    2 "analog_input" false [part("", 2, true, 100.0, "")];
    3 "analog_output" false [part("", 2, true, 100.0, "")];
    100 "generic" false [part("", 4, false, 1.0, "")];
    101 "illuminance" false [part("", 2, false, 1.0, "lx")];
    102 "presence" true [part("", 1, false, 1.0, "")];
    103 "temperature" false [part("", 2, true, 10.0, "°C")];
    104 "humidity" false [part("", 1, false, 2.0, "%")];
    113 "acceleration" false [part("x", 2, true, 1000.0, "g"), part("y", 2, true, 1000.0, "g"), part("z", 2, true, 1000.0, "g")];
    115 "barometer" false [part("", 2, false, 10.0, "hPa")];
    116 "voltage" false [part("", 2, false, 100.0, "V")];
    117 "current" false [part("", 2, false, 1000.0, "A")];
    118 "frequency" false [part("", 4, false, 1.0, "Hz")];
    120 "percentage" false [part("", 1, false, 1.0, "%")];
    121 "altitude" false [part("", 2, true, 1.0, "m")];
    125 "concentration" false [part("", 2, false, 1.0, "ppm")];
    128 "power" false [part("", 2, false, 1.0, "W")];
    130 "distance" false [part("", 4, false, 1000.0, "m")];
    131 "energy" false [part("", 4, false, 1000.0, "kWh")];
    132 "direction" false [part("", 2, false, 1.0, "°")];
    133 "time" false [part("", 4, false, 1.0, "s")];
    134 "rotation" false [part("x", 2, true, 100.0, "°/s"), part("y", 2, true, 100.0, "°/s"), part("z", 2, true, 100.0, "°/s")];
    135 "colour" false [part("red", 1, false, 1.0, ""), part("green", 1, false, 1.0, ""), part("blue", 1, false, 1.0, "")];
    136 "position" false [part("latitude", 3, true, 10000.0, "°"), part("longitude", 3, true, 10000.0, "°"), part("altitude", 3, true, 100.0, "m")];
    142 "switch" true [part("", 1, false, 1.0, "")];
};

impl Type {
    fn of(number: u8) -> Option<&'static Self> {
        TYPES.binary_search_by_key(&number, |kind| kind.number).ok().map(|at| &TYPES[at])
    }

    fn named(name: &str) -> Option<&'static Self> {
        TYPES.iter().find(|kind| kind.name == name)
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Spec {
    /// Names by channel.
    #[serde(default)]
    channels: BTreeMap<String, String>,
    #[serde(default)]
    command: Vec<CommandSpec>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandSpec {
    name: String,
    port: u8,
    channel: u8,
    #[serde(rename = "type")]
    kind: String,
}

#[derive(Debug, Clone)]
struct Command {
    name: String,
    port: u8,
    channel: u8,
    kind: &'static Type,
}

/// How channels are called, and which can be set.
#[derive(Debug, Clone)]
pub struct LowPower {
    channels: BTreeMap<u8, String>,
    commands: Vec<Command>,
}

impl LowPower {
    /// Reads names and commands, in TOML; nothing has to be there.
    ///
    /// # Errors
    /// If it is not TOML of this layout, or something in it cannot be.
    pub fn new(source: &str) -> Result<Self, TableError> {
        if source.len() > MAX_DEFINITION_BYTES {
            return Err(TableError::TooLong(source.len()));
        }
        let spec: Spec = toml::from_str(source).map_err(|why| unreadable(source, &why))?;
        let wrong = |place: String, why: String| TableError::Wrong { place, why };
        let mut channels = BTreeMap::new();
        for (channel, name) in spec.channels {
            let place = format!("channel {channel}");
            check_name(&name).map_err(|why| wrong(place.clone(), why))?;
            let channel = channel.parse().map_err(|_| wrong(place, "a channel is 0 to 255".into()))?;
            channels.insert(channel, name);
        }
        let mut commands = Vec::new();
        for CommandSpec { name, port, channel, kind } in spec.command {
            let place = format!("command {name}");
            check_name(&name).map_err(|why| wrong(place.clone(), why))?;
            if !(1..=223).contains(&port) {
                return Err(wrong(place, format!("port is {port}; 1 to 223 are allowed")));
            }
            let Some(kind) = Type::named(&kind) else {
                let known: Vec<&str> = TYPES.iter().map(|kind| kind.name).collect();
                return Err(wrong(place, format!("type is {kind:?}; one of {} is wanted", known.join(", "))));
            };
            commands.push(Command { name, port, channel, kind });
        }
        Ok(Self { channels, commands })
    }

    /// Whether there is anything that can be sent.
    pub const fn encodes(&self) -> bool {
        !self.commands.is_empty()
    }

    fn of(&self, channel: u8, kind: &Type, part: &Part) -> Arc<Meaning> {
        let name = match (self.channels.get(&channel), part.suffix) {
            (Some(name), "") => name.clone(),
            (Some(name), suffix) => format!("{name}.{suffix}"),
            (None, "") => format!("{}.{channel}", kind.name),
            (None, suffix) => format!("{}.{channel}.{suffix}", kind.name),
        };
        Meaning::new(name, Some(part.unit))
    }

    /// Reads a payload; appends what is in it to `out`.
    ///
    /// # Errors
    /// If it ends within a record, or a type is not known.
    pub fn decode(&self, payload: &[u8], out: &mut Vec<Reading>) -> Result<(), LowPowerError> {
        let mut at = 0;
        while at < payload.len() && out.len() < MAX_READINGS {
            let [channel, number] = payload[at..].first_chunk().copied().ok_or(LowPowerError::LoneChannel)?;
            let Some(kind) = Type::of(number) else {
                return Err(LowPowerError::UnknownType { kind: number, channel, at });
            };
            let mut start = at + 2;
            for part in kind.parts {
                let Part { bytes, signed, over, .. } = part;
                let needs = start + bytes;
                let Some(raw) = payload.get(start..needs) else {
                    return Err(LowPowerError::TooShort { kind: kind.name, channel, needs, has: payload.len() });
                };
                let raw = Endian::Big.number(raw);
                let unused = 64 - 8 * *bytes as u32;
                let number = if *signed { ((raw << unused) as i64 >> unused) as f64 } else { raw as f64 };
                let value = match (kind.state, raw) {
                    (true, 0 | 1) => ReadingValue::Boolean(raw == 1),
                    _ => ReadingValue::Number(number / over),
                };
                out.push(Reading { of: self.of(channel, kind, part), value, bytes: Some(start..needs), at_ms: None });
                start = needs;
            }
            at = start;
        }
        Ok(())
    }

    /// Makes a downlink of named values: a record for each command that is named.
    ///
    /// # Errors
    /// In words: if a name is no command, ports differ, or a value does not fit.
    pub fn encode(&self, values: &serde_json::Map<String, Value>) -> Result<Encoded, String> {
        let values = flat(values);
        let (mut bytes, mut port) = (Vec::new(), None);
        let known = || self.commands.iter().map(|command| command.name.as_str()).collect::<Vec<_>>().join(", ");
        let of = |name: &str| {
            self.commands.iter().find(|command| {
                name.strip_prefix(command.name.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
            })
        };
        if let Some(stray) = values.keys().find(|name| of(name).is_none()) {
            return Err(format!("{stray} is no command; {} can be set", known()));
        }
        for command in &self.commands {
            let named = |suffix: &str| match suffix {
                "" => command.name.clone(),
                suffix => format!("{}.{suffix}", command.name),
            };
            if !values.keys().any(|name| of(name).is_some_and(|found| std::ptr::eq(found, command))) {
                continue;
            }
            if port.is_some_and(|port| port != command.port) {
                return Err(format!(
                    "{} goes to another port than the values before it: send them apart",
                    command.name
                ));
            }
            port = Some(command.port);
            bytes.extend([command.channel, command.kind.number]);
            for Part { suffix, bytes: len, signed, over, .. } in command.kind.parts {
                let name = named(suffix);
                let value = values.get(&name).ok_or_else(|| format!("{name} is missing"))?;
                let number = value.as_f64().or_else(|| value.as_bool().map(f64::from));
                let number = number.ok_or_else(|| format!("{name}: {value} is given, a number is wanted"))?;
                let (all, raw) = (2f64.powi(8 * *len as i32), (number * over).round());
                let (least, most) = if *signed { (-all / 2.0, all / 2.0 - 1.0) } else { (0.0, all - 1.0) };
                if !(least..=most).contains(&raw) {
                    return Err(format!("{name}: {number} is given; {} to {} fit", least / over, most / over));
                }
                bytes.extend(&(raw as i64).to_be_bytes()[8 - len..]);
            }
        }
        if port.is_none() {
            return Err(format!("no value is given; {} can be set", known()));
        }
        if bytes.len() > MAX_PAYLOAD {
            return Err(format!("{} bytes, at most {MAX_PAYLOAD} fit into a frame", bytes.len()));
        }
        Ok(Encoded { bytes, port, warnings: Vec::new() })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn decode(source: &str, bytes: &[u8]) -> Result<Vec<(String, ReadingValue)>, LowPowerError> {
        let mut out = Vec::new();
        LowPower::new(source).unwrap().decode(bytes, &mut out)?;
        Ok(out.into_iter().map(|reading| (reading.name().to_owned(), reading.value)).collect())
    }

    #[test]
    fn records_are_read_by_channel_and_type() {
        // Worked by hand from the objects' resolutions.
        let bytes = [
            3, 103, 0x01, 0x10, 5, 103, 0xff, 0xd7, 6, 104, 0x65, 1, 0, 1, 7, 136, 0x08, 0x58, 0xa4, 0x00, 0x97, 0xf0,
            0x00, 0x03, 0xe8,
        ];
        let found = decode("channels = { 3 = 'water', 7 = 'buoy' }", &bytes).unwrap();
        let number = |name: &str, n| (name.to_owned(), ReadingValue::Number(n));
        assert_eq!(
            found,
            [
                number("water", 27.2),
                number("temperature.5", -4.1),
                number("humidity.6", 50.5),
                ("digital_input.1".to_owned(), ReadingValue::Boolean(true)),
                number("buoy.latitude", 54.698),
                number("buoy.longitude", 3.8896),
                number("buoy.altitude", 10.0),
            ]
        );
    }

    #[test]
    fn types_are_in_order_and_have_a_name_each() {
        assert!(TYPES.is_sorted_by(|a, b| a.number < b.number));
        assert!(TYPES.iter().all(|kind| std::ptr::eq(Type::named(kind.name).unwrap(), kind)));
    }

    #[test]
    fn what_is_not_of_this_format_is_said() {
        let why = |bytes: &[u8]| decode("", bytes).unwrap_err().to_string();
        assert_eq!(why(&[1, 103, 0]), "the temperature of channel 1 needs 4 bytes, and there are 3");
        assert_eq!(
            why(&[1, 0, 1, 9, 250, 1]),
            "type 250 of channel 9, at byte 3, is not known; what follows cannot be read"
        );
        assert_eq!(why(&[1, 0, 1, 9]), "the last byte is a channel without a value");
        assert_eq!(decode("", &[]), Ok(vec![]));
        for (source, said) in [
            ("channels = { 300 = 'a' }", "0 to 255"),
            ("channels = { 3 = 'a b' }", "is no name"),
            ("command = [{ name = 'a', port = 0, channel = 1, type = 'switch' }]", "port is 0"),
            ("command = [{ name = 'a', port = 1, channel = 1, type = 'lamp' }]", "one of digital_input"),
            ("\nchanels = {}", "line 2"),
        ] {
            let why = LowPower::new(source).err().unwrap().to_string();
            assert!(why.contains(said), "{source}: {why}");
        }
    }

    #[test]
    fn commands_are_written() {
        let source = "[[command]]\nname = 'lamp'\nport = 4\nchannel = 2\ntype = 'digital_output'\n\
                      [[command]]\nname = 'tilt'\nport = 4\nchannel = 3\ntype = 'acceleration'";
        let set = LowPower::new(source).unwrap();
        let encode = |values: Value| set.encode(values.as_object().unwrap());
        assert_eq!(encode(json!({ "lamp": true })).unwrap().bytes, [2, 1, 1]);
        let both = encode(json!({ "tilt": { "x": -1, "y": 0, "z": 0.5 }, "lamp": 0 })).unwrap();
        assert_eq!((both.port, both.bytes), (Some(4), vec![2, 1, 0, 3, 113, 0xfc, 0x18, 0, 0, 1, 0xf4]));
        assert!(encode(json!({ "tilt": { "x": 40, "y": 0, "z": 0 } })).unwrap_err().contains("-32.768 to 32.767 fit"));
        assert!(encode(json!({ "tilt": { "x": 0 } })).unwrap_err().contains("tilt.y is missing"));
        assert!(encode(json!({ "lid": 1 })).unwrap_err().contains("lid is no command; lamp, tilt can be set"));
        assert!(encode(json!({})).unwrap_err().contains("no value is given"));
    }

    proptest::proptest! {
        #[test]
        fn any_payload_is_read_or_refused(bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..243)) {
            let mut out = Vec::new();
            let _ = LowPower::new("channels = { 1 = 'a' }").unwrap().decode(&bytes, &mut out);
            proptest::prop_assert!(out.len() <= MAX_READINGS + 2);
        }
    }
}

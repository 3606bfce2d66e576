//! The other way: named values to the bytes of a downlink, by a script's `encodeDownlink({data})`, which returns
//! `{bytes, fPort, warnings, errors}`, and back by its `decodeDownlink({bytes, fPort})` (LoRa Alliance TS013-1.0.0 §4).

use rquickjs::{Ctx, Object};
use serde::Deserialize;
use serde_json::Value;

use crate::outcome::{DecodeError, Decoded, Encoded, Entry};
use crate::script::call::{Script, call, result_of, texts};
use crate::script::interpreter::Interpreter;

/// The largest payload a frame can carry at any data rate (RP002-1.0.4 §2.4.6).
const MAX_PAYLOAD: usize = 242;

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Returned {
    bytes: Option<Value>,
    f_port: Option<Value>,
    #[serde(default)]
    warnings: Option<Vec<Value>>,
    #[serde(default)]
    errors: Option<Vec<Value>>,
}

impl Script {
    /// Makes a downlink of named values, an object of JSON. Like decoding, it is limited; `stop` is asked now and then
    /// whether it should be given up.
    ///
    /// # Errors
    /// If the script has no encoder, or the encoder throws, reports an error or returns no downlink.
    pub fn encode_downlink(
        &self,
        interpreter: &mut Interpreter,
        values: &serde_json::Map<String, Value>,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Encoded, DecodeError> {
        // Commands are rare, so each gets a new world.
        let returned = self.run(interpreter, stop, |ctx| {
            let function = Entry::EncodeDownlink.of(ctx)?;
            let input = input(ctx, values).map_err(|e| DecodeError::Interpreter(e.to_string()))?;
            call(ctx, Entry::EncodeDownlink, &function, input)
        })?;
        read(&returned)
    }

    /// Reads a downlink as the device will: the named values in it.
    ///
    /// # Errors
    /// If the script has no such function, or it does not take the bytes.
    pub fn decode_downlink(
        &self,
        interpreter: &mut Interpreter,
        bytes: &[u8],
        port: u8,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Decoded, DecodeError> {
        let returned = self.run(interpreter, stop, |ctx| {
            let function = Entry::DecodeDownlink.of(ctx)?;
            let input = Object::new(ctx.clone()).and_then(|input| {
                input.set("bytes", bytes.to_vec())?;
                input.set("fPort", port)?;
                Ok(input)
            });
            let input = input.map_err(|e| DecodeError::Interpreter(e.to_string()))?;
            call(ctx, Entry::DecodeDownlink, &function, input)
        })?;
        result_of(Entry::DecodeDownlink, &returned)
    }
}

fn input<'js>(ctx: &Ctx<'js>, values: &serde_json::Map<String, Value>) -> rquickjs::Result<Object<'js>> {
    let input = Object::new(ctx.clone())?;
    let json = serde_json::to_string(values).unwrap_or_default();
    input.set("data", ctx.json_parse(json)?)?;
    Ok(input)
}

fn read(json: &str) -> Result<Encoded, DecodeError> {
    let bad = |why: String| DecodeError::BadResult(Entry::EncodeDownlink, why);
    let returned: Returned = serde_json::from_str(json).map_err(|why| bad(why.to_string()))?;
    let errors = texts(returned.errors);
    if !errors.is_empty() {
        return Err(DecodeError::Reported(errors));
    }
    let Some(Value::Array(bytes)) = returned.bytes else {
        let found = returned.bytes.map_or_else(|| "missing".into(), |bytes| bytes.to_string());
        return Err(bad(format!("bytes is {found}, an array of numbers is wanted")));
    };
    if bytes.len() > MAX_PAYLOAD {
        return Err(bad(format!("{} bytes, at most {MAX_PAYLOAD} fit into a frame", bytes.len())));
    }
    let byte = |(at, value): (usize, &Value)| match whole(value).and_then(|n| u8::try_from(n).ok()) {
        Some(byte) => Ok(byte),
        None => Err(bad(format!("byte {at} is {value}, a whole number from 0 to 255 is wanted"))),
    };
    let bytes = bytes.iter().enumerate().map(byte).collect::<Result<_, _>>()?;
    let port = match returned.f_port {
        None | Some(Value::Null) => None,
        Some(given) => match whole(&given).and_then(|n| u8::try_from(n).ok()) {
            Some(port @ 1..=223) => Some(port),
            _ => return Err(bad(format!("fPort is {given}, 1 to 223 is allowed"))),
        },
    };
    Ok(Encoded { bytes, port, warnings: texts(returned.warnings) })
}

/// A number without a fraction; scripts have no other whole numbers than 40.0.
fn whole(value: &Value) -> Option<i64> {
    let n = value.as_f64()?;
    (n.fract() == 0.0 && n.abs() < 1e9).then_some(n as i64)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::Limits;

    fn encode(body: &str, values: Value) -> Result<Encoded, DecodeError> {
        let source = format!(
            "function decodeUplink() {{ return {{data: {{}}}} }}\nconst encodeDownlink = (input) => {{\n{body}\n}}"
        );
        let script = Script::new(source, Limits::default()).unwrap();
        assert!(script.encodes());
        let Value::Object(values) = values else { panic!("an object is wanted") };
        script.encode_downlink(&mut Interpreter::new(), &values, || false)
    }

    #[test]
    fn values_become_bytes() {
        let body = "return { bytes: [input.data.opening * 2, ...input.data.more], fPort: 10, warnings: ['slow'] }";
        let encoded = encode(body, json!({ "opening": 40.5, "more": [0, 255] })).unwrap();
        assert_eq!(encoded, Encoded { bytes: vec![81, 0, 255], port: Some(10), warnings: vec!["slow".into()] });
        assert_eq!(encode("return { bytes: [] }", json!({})).unwrap().port, None);
        // Texts stay texts, whatever is in them.
        let echo = "return { bytes: [...input.data.text].map((c) => c.charCodeAt(0)) }";
        assert_eq!(encode(echo, json!({ "text": "\"});" })).unwrap().bytes, b"\"});");
    }

    #[test]
    fn what_is_no_downlink_is_said() {
        let why = |body: &str| encode(body, json!({ "n": 1 })).unwrap_err().to_string();
        assert_eq!(why("return { errors: ['opening is 0 to 100'] }"), "the script reports: opening is 0 to 100");
        assert!(why("return { bytes: [1, 300] }").contains("byte 1 is 300"));
        assert!(why("return { bytes: [1.5] }").contains("byte 0 is 1.5"));
        assert!(why("return { bytes: [NaN] }").contains("byte 0 is null"));
        assert!(why("return { bytes: '01' }").contains("an array of numbers"));
        assert!(why("return {}").contains("bytes is missing"));
        assert!(why("return").contains("undefined"));
        assert!(why("return { bytes: [], fPort: 224 }").contains("fPort is 224"));
        assert!(why("return { bytes: new Array(243).fill(0) }").contains("243 bytes"));
        assert!(why("return { bytes: new Array(1e5).fill(0) }").contains("65536 are allowed"));
        assert_eq!(
            why("return { bytes: input.data.gate.opening }"),
            "encodeDownlink threw: TypeError: cannot read property 'opening' of undefined (line 3, column 17)"
        );
        assert!(why("for (;;) {}").contains("ran too long"));
    }

    #[test]
    fn a_downlink_is_read_as_its_device_will() {
        let source = "function decodeUplink() { return {data: {}} }
            function encodeDownlink({data}) { return {bytes: [data.opening], fPort: 10} }
            function decodeDownlink({bytes, fPort}) {
              if (fPort !== 10) return {errors: ['port ' + fPort]};
              return {data: {opening: bytes[0]}};
            }";
        let script = Script::new(source, Limits::default()).unwrap();
        assert!(script.reads_downlinks());
        let read = |bytes: &[u8], port| script.decode_downlink(&mut Interpreter::new(), bytes, port, || false);
        let decoded = read(&[40], 10).unwrap();
        assert_eq!(
            (decoded.readings[0].name(), &decoded.readings[0].value),
            ("opening", &crate::ReadingValue::Number(40.0))
        );
        assert_eq!(read(&[40], 11).unwrap_err(), DecodeError::Reported(vec!["port 11".into()]));
        let mute = Script::new("function decodeUplink() { return {data: {}} }", Limits::default()).unwrap();
        assert!(!mute.reads_downlinks());
        let why = mute.decode_downlink(&mut Interpreter::new(), &[], 1, || false).unwrap_err();
        assert_eq!(why, DecodeError::Missing(Entry::DecodeDownlink));
    }

    #[test]
    fn a_script_may_only_decode() {
        let script = Script::new("function decodeUplink() { return {data: {}} }", Limits::default()).unwrap();
        assert!(!script.encodes());
        let why = script.encode_downlink(&mut Interpreter::new(), &serde_json::Map::new(), || false).unwrap_err();
        assert_eq!(why.to_string(), "the script has no function encodeDownlink(input)");
    }
}

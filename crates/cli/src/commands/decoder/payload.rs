//! Decoders, tried on this machine: a file, and bytes or values.

use std::fs;
use std::path::Path;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, bail};
use api::device::outbox::Values;
use api::model::DecoderKind;
use chrono::Utc;
use domain::input;
use domain::model::request::{DECODER_FILES, kind_of_file, payload_kind};
use payload::{Decoder, Interpreter, Reading, ReadingValue};
use serde_json::{Value, json};

use crate::commands::decoder::args::DecoderTryArgs;
use crate::commands::outbox::put_value;
use crate::show::{self, Out};

/// What a service would allow a script, too.
const TIME: Duration = Duration::from_millis(250);
static STARTED: LazyLock<Instant> = LazyLock::new(Instant::now);

/// What stands in a decoder's file, and its kind, which the file's name tells.
pub(crate) fn source_of(file: &Path) -> Result<(String, DecoderKind)> {
    let Some(kind) = file.to_str().and_then(kind_of_file) else {
        bail!("{}: a file that ends with {DECODER_FILES} is wanted", file.display());
    };
    Ok((fs::read_to_string(file).with_context(|| format!("reading {}", file.display()))?, kind))
}

fn load(out: &Out, file: &Path) -> Result<Decoder> {
    let (source, kind) = source_of(file)?;
    let decoder = Decoder::new(payload_kind(kind), &source).with_context(|| file.display().to_string())?;
    if !out.json {
        decoder.notes().iter().try_for_each(|note| out.line(format!("note: {note}")))?;
    }
    Ok(decoder)
}

fn over() -> impl Fn() -> bool + 'static {
    let begun = STARTED.elapsed();
    move || STARTED.elapsed().saturating_sub(begun) > TIME
}

fn value(value: &ReadingValue) -> Value {
    match value {
        ReadingValue::Boolean(b) => json!(b),
        ReadingValue::Number(n) => json!(n),
        ReadingValue::Text(t) => json!(t),
    }
}

/// Where a reading came from: the places of its bytes, and what stands there.
fn bytes_of(reading: &Reading, payload: &[u8]) -> String {
    let Some(span) = &reading.bytes else { return String::new() };
    let last = span.end.saturating_sub(1);
    let places = if span.start == last { last.to_string() } else { format!("{}-{last}", span.start) };
    let bytes = payload.get(span.clone()).unwrap_or_default();
    format!("{places:<7} {}", show::pairs(&hex::encode(bytes)))
}

/// `heron decoder try` without a model.
pub(super) fn try_here(out: &Out, args: &DecoderTryArgs) -> Result<()> {
    match (&args.file, &args.payload) {
        (Some(file), Some(payload)) => decode(out, file, payload, args.port),
        (Some(file), None) if !args.values.is_empty() => encode(out, file, &args.values),
        _ => bail!("say what to try it on: --payload HEX to decode, --value NAME=VALUE to encode, or --model MODEL"),
    }
}

fn decode(out: &Out, file: &Path, payload: &str, port: u8) -> Result<()> {
    let bytes = input::payload("--payload", payload, domain::downlink::MAX_PAYLOAD)?;
    let decoder = load(out, file)?;
    let now_ms = Utc::now().timestamp_millis();
    let decoded = decoder.decode(&mut Interpreter::new(), &bytes, port, now_ms, over());
    let decoded = decoded.with_context(|| format!("port {port}, {} bytes", bytes.len()))?;
    if out.json {
        let reading = |r: &Reading| {
            let span = r.bytes.as_ref().map(|span| [span.start, span.end]);
            json!({ "name": r.name(), "value": value(&r.value), "unit": r.unit(), "bytes": span })
        };
        let readings: Vec<Value> = decoded.readings.iter().map(reading).collect();
        return out.json(&json!({ "readings": readings, "warnings": decoded.warnings, "notes": decoder.notes() }));
    }
    let rows = decoded.readings.iter().map(|reading| {
        let shown = match &reading.value {
            ReadingValue::Boolean(b) => b.to_string(),
            ReadingValue::Number(n) => n.to_string(),
            ReadingValue::Text(t) => t.clone(),
        };
        let unit = reading.unit().unwrap_or_default().to_owned();
        vec![reading.name().to_owned(), shown, unit, bytes_of(reading, &bytes)]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    match rows.is_empty() {
        true => out.line("It has no reading.")?,
        false => out.line(show::table(&["READING", "VALUE", "UNIT", "BYTES"], rows.into_iter()))?,
    }
    decoded.warnings.iter().try_for_each(|warning| out.line(format!("warning: {warning}")))
}

fn encode(out: &Out, file: &Path, given: &[String]) -> Result<()> {
    let mut values = Values::new();
    given.iter().try_for_each(|given| put_value(&mut values, given))?;
    let encoded = load(out, file)?.encode(&mut Interpreter::new(), &values, over())?;
    let hex = hex::encode(&encoded.bytes);
    if out.json {
        return out.json(&json!({ "port": encoded.port, "payload": hex, "warnings": encoded.warnings }));
    }
    let port = encoded.port.map_or_else(|| "none is named".into(), |port| port.to_string());
    out.line(format!("port            {port}"))?;
    out.line(format!("payload         {}", show::pairs(&hex)))?;
    encoded.warnings.iter().try_for_each(|warning| out.line(format!("warning: {warning}")))
}

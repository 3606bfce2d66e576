//! Payload scripts: JavaScript with `decodeUplink({bytes, fPort, recvTime})`, which returns
//! `{data, warnings, errors}`, and perhaps `encodeDownlink` ([`encode`](crate::encode)); LoRa Alliance
//! TS013-1.0.0 §4.
//!
//! Nothing a script leaves behind reaches another call ([`Interpreter`]). It has no way out (no files, no network, no timers) and three limits:
//! on memory, on stack, and on the steps it may take. The caller may add a fourth, a clock.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

use rquickjs::{CatchResultExt, CaughtError, Coerced, Context, Ctx, Function, Object, Runtime, Value};
use serde::Deserialize;
use thiserror::Error;

use crate::interpreter::Interpreter;
use crate::readings::{self, Reading};
use crate::table::TableError;
use crate::table_read::NotRead;
use crate::{adapt, low_power, text};

/// The name under which a script's lines are reported.
const FILE: &str = "decoder.js";
/// The longest script taken, in bytes.
pub const MAX_SOURCE: usize = 256 * 1024;
/// The longest result taken, in bytes of JSON.
const MAX_RESULT: usize = 64 * 1024;
/// The longest message taken from a script, in characters.
const LONGEST_MESSAGE: usize = 400;

/// What a script may use up in one call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Bytes of memory.
    pub memory_bytes: usize,
    /// Bytes of stack.
    pub stack_bytes: usize,
    /// Steps, in units of 10,000 calls and backward jumps: the interpreter's own measure.
    pub steps: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { memory_bytes: 8 << 20, stack_bytes: 256 << 10, steps: 500 }
    }
}

/// Where in a script something happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// Line, from 1.
    pub line: u32,
    /// Column, from 1.
    pub column: u32,
}

/// A function of a script that is called from outside (TS013-1.0.0 §4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// Bytes to readings.
    DecodeUplink,
    /// Named values to bytes.
    EncodeDownlink,
    /// The bytes of a downlink to named values.
    DecodeDownlink,
}

impl Entry {
    /// As scripts spell it.
    pub const fn name(self) -> &'static str {
        match self {
            Entry::DecodeUplink => "decodeUplink",
            Entry::EncodeDownlink => "encodeDownlink",
            Entry::DecodeDownlink => "decodeDownlink",
        }
    }

    /// What it is to return.
    const fn shape(self) -> &'static str {
        match self {
            Entry::DecodeUplink | Entry::DecodeDownlink => "{data, warnings, errors}",
            Entry::EncodeDownlink => "{bytes, fPort, warnings, errors}",
        }
    }

    /// The expression that gives it: by its name, or among what is exported.
    pub(crate) fn found(self) -> String {
        let name = self.name();
        format!(
            "(typeof {name} === 'function' ? {name} : typeof module === 'object' && module && module.exports \
             && typeof module.exports.{name} === 'function' ? module.exports.{name} : undefined)"
        )
    }

    /// Finds it in a world that has loaded the script.
    pub(crate) fn of<'js>(self, ctx: &Ctx<'js>) -> Result<Function<'js>, DecodeError> {
        // Looked up by evaluation: functions declared with `const` are no properties of the global object.
        ctx.eval::<Value, _>(self.found()).ok().and_then(Value::into_function).ok_or(DecodeError::Missing(self))
    }
}

fn at(place: Option<Place>) -> String {
    place.map_or_else(String::new, |p| format!(" (line {}, column {})", p.line, p.column))
}

/// Why a script gave nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum DecodeError {
    /// The script is longer than [`MAX_SOURCE`].
    #[error("the script has {0} bytes, {MAX_SOURCE} are allowed")]
    TooLong(usize),
    /// The script does not parse, or throws before any function is called.
    #[error("the script does not load: {message}{}", at(*.place))]
    Load {
        /// The interpreter's message.
        message: String,
        /// Where.
        place: Option<Place>,
    },
    /// There is no such function.
    #[error("the script has no function {}(input)", .0.name())]
    Missing(Entry),
    /// There is none to decode with, but another that looks as if it were meant.
    #[error(
        "the script has no function decodeUplink(input), but {signature}. If that decodes, add this line: {adapter}"
    )]
    Otherwise {
        /// The other function.
        signature: String,
        /// What makes it be called.
        adapter: String,
    },
    /// The function threw.
    #[error("{} threw: {message}{}", .entry.name(), at(*.place))]
    Threw {
        /// Which one.
        entry: Entry,
        /// What was thrown.
        message: String,
        /// Where.
        place: Option<Place>,
    },
    /// The script ran longer than it may.
    #[error("the script was stopped: it ran too long, perhaps in an endless loop")]
    TooSlow,
    /// The script used more memory than it may.
    #[error("the script was stopped: it used more than {0} bytes of memory")]
    TooMuchMemory(usize),
    /// What came back is not what the function is to return.
    #[error("{} returned something else than {}: {}", .0.name(), .0.shape(), .1)]
    BadResult(Entry, String),
    /// The script itself reports that it cannot do it.
    #[error("the script reports: {}", .0.join("; "))]
    Reported(Vec<String>),
    /// The interpreter could not be started.
    #[error("the interpreter could not be started: {0}")]
    Interpreter(String),
    /// What is no script does not load.
    #[error("{0}")]
    Definition(#[from] TableError),
    /// A payload that is none of a field table.
    #[error("{0}")]
    Table(#[from] NotRead),
    /// A payload that is not of the low-power format.
    #[error("{0}")]
    LowPower(#[from] low_power::NotRead),
    /// A payload that is no text of the form.
    #[error("{0}")]
    Text(#[from] text::NotRead),
    /// Values that what is no script does not take.
    #[error("{0}")]
    NotWritten(String),
}

impl DecodeError {
    /// A line that, added to the script, makes it decode.
    pub fn adapter(&self) -> Option<&str> {
        match self {
            Self::Otherwise { adapter, .. } => Some(adapter),
            _ => None,
        }
    }

    /// Where in the decoder's source it is, if that is known.
    pub fn place(&self) -> Option<Place> {
        match self {
            Self::Load { place, .. } | Self::Threw { place, .. } => *place,
            Self::Definition(TableError::Unreadable { line, column, .. }) => {
                Some(Place { line: u32::try_from(*line).ok()?, column: u32::try_from(*column).ok()? })
            }
            _ => None,
        }
    }
}

/// What was read out of a payload.
#[derive(Debug, Clone, PartialEq)]
pub struct Decoded {
    /// What was read, by name.
    pub readings: Vec<Reading>,
    /// What the script, or the reading of its result, found questionable.
    pub warnings: Vec<String>,
}

/// A payload script.
#[derive(Debug, Clone)]
pub struct Script {
    pub(crate) source: Arc<str>,
    pub(crate) limits: Limits,
    encodes: bool,
    reads_downlinks: bool,
    notes: Arc<[String]>,
}

impl Script {
    /// Takes a script after loading it once, so that one that cannot work is refused at the door.
    pub fn new(source: impl Into<String>, limits: Limits) -> Result<Self, DecodeError> {
        let source = source.into();
        if source.len() > MAX_SOURCE {
            return Err(DecodeError::TooLong(source.len()));
        }
        let (source, mut notes) = adapt::tolerant(&source);
        let mut script =
            Self { source: source.into(), limits, encodes: false, reads_downlinks: false, notes: [].into() };
        let (encodes, reads_downlinks, uncalled) = script.run(
            &mut Interpreter::new(),
            || false,
            |ctx| {
                Entry::DecodeUplink.of(ctx).map_err(|missing| adapt::otherwise(ctx).unwrap_or(missing))?;
                let has = |entry: Entry| entry.of(ctx).is_ok();
                Ok((has(Entry::EncodeDownlink), has(Entry::DecodeDownlink), adapt::uncalled(ctx)))
            },
        )?;
        notes.extend(uncalled);
        (script.encodes, script.reads_downlinks, script.notes) = (encodes, reads_downlinks, notes.into());
        Ok(script)
    }

    /// Whether it has `encodeDownlink` too.
    pub const fn encodes(&self) -> bool {
        self.encodes
    }

    /// Whether it has `decodeDownlink` too.
    pub const fn reads_downlinks(&self) -> bool {
        self.reads_downlinks
    }

    /// What was passed over in it, for whoever wrote it.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// Decodes `bytes`, received on `port` at `recv_time_ms` (milliseconds since 1970).
    ///
    /// `stop` is asked now and then whether the call should be given up; with a clock behind it, it
    /// bounds the time as well as the steps.
    pub fn decode_uplink(
        &self,
        interpreter: &mut Interpreter,
        bytes: &[u8],
        port: u8,
        recv_time_ms: i64,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Decoded, DecodeError> {
        let stop = Rc::new(stop);
        let call = Call { bytes, port, recv_time_ms };
        let again = Rc::clone(&stop);
        let returned = match interpreter.again(self, move || again(), &call) {
            Some(returned) => returned?,
            None => self.run(interpreter, move || stop(), |ctx| call.make(ctx, &Entry::DecodeUplink.of(ctx)?))?,
        };
        result_of(Entry::DecodeUplink, &returned)
    }

    /// Loads the script into a fresh world and calls `then` in it.
    pub(crate) fn run<T>(
        &self,
        interpreter: &mut Interpreter,
        stop: impl Fn() -> bool + 'static,
        then: impl FnOnce(&Ctx<'_>) -> Result<T, DecodeError>,
    ) -> Result<T, DecodeError> {
        let broken = |e: rquickjs::Error| DecodeError::Interpreter(e.to_string());
        let runtime = interpreter.runtime()?;
        let stopped = limit(&runtime, self.limits, stop);
        let context = Context::full(&runtime).map_err(broken)?;
        let result = context.with(|ctx| {
            let mut options = rquickjs::context::EvalOptions::default();
            options.strict = false;
            options.filename = Some(FILE.into());
            ctx.eval_with_options::<Value, _>(&*self.source, options).catch(&ctx).map_err(|error| {
                match thrown(Entry::DecodeUplink, &error) {
                    DecodeError::Threw { message, place, .. } => DecodeError::Load { message, place },
                    other => other,
                }
            })?;
            then(&ctx)
        });
        runtime.set_interrupt_handler(None);
        let result = match result {
            // A script may catch what stops it, so the limits are asked first.
            _ if stopped.get() => Err(DecodeError::TooSlow),
            Err(DecodeError::Threw { message, .. } | DecodeError::Load { message, .. })
                // With no memory left there is none for an error either; what scripts throw by themselves has the word.
                if message.contains("out of memory") || (message == "null" && !self.source.contains("throw")) =>
            {
                Err(DecodeError::TooMuchMemory(self.limits.memory_bytes))
            }
            other => other,
        };
        if matches!(result, Err(DecodeError::TooSlow | DecodeError::TooMuchMemory(_) | DecodeError::Interpreter(_))) {
            // Whatever state that has left it in.
            interpreter.renew();
        }
        result
    }
}

/// Sets a script's limits; the flag tells whether it has been stopped.
pub(crate) fn limit(runtime: &Runtime, limits: Limits, stop: impl Fn() -> bool + 'static) -> Rc<Cell<bool>> {
    runtime.set_memory_limit(limits.memory_bytes);
    runtime.set_max_stack_size(limits.stack_bytes);
    let stopped = Rc::new(Cell::new(false));
    let (flag, mut left) = (Rc::clone(&stopped), limits.steps);
    runtime.set_interrupt_handler(Some(Box::new(move || {
        left = left.saturating_sub(1);
        if left == 0 || stop() {
            flag.set(true);
        }
        flag.get()
    })));
    stopped
}

/// A call of `decodeUplink`.
pub(crate) struct Call<'a> {
    bytes: &'a [u8],
    port: u8,
    recv_time_ms: i64,
}

impl Call<'_> {
    /// Makes it; gives what it returns, as JSON.
    pub(crate) fn make<'js>(&self, ctx: &Ctx<'js>, function: &Function<'js>) -> Result<String, DecodeError> {
        let input = self.input(ctx).map_err(|e| DecodeError::Interpreter(e.to_string()))?;
        call(ctx, Entry::DecodeUplink, function, input)
    }

    fn input<'js>(&self, ctx: &Ctx<'js>) -> rquickjs::Result<Object<'js>> {
        let input = Object::new(ctx.clone())?;
        input.set("bytes", self.bytes.to_vec())?;
        input.set("fPort", self.port)?;
        let date: Value = ctx.eval(format!("new Date({})", self.recv_time_ms))?;
        input.set("recvTime", date)?;
        Ok(input)
    }
}

/// Calls one of a script's functions; gives what it returns, as JSON.
pub(crate) fn call<'js>(
    ctx: &Ctx<'js>,
    entry: Entry,
    function: &Function<'js>,
    input: Object<'js>,
) -> Result<String, DecodeError> {
    let result: Value = function.call((input,)).catch(ctx).map_err(|e| thrown(entry, &e))?;
    let json = ctx.json_stringify(result).catch(ctx).map_err(|e| thrown(entry, &e))?;
    match json.map(|s| s.to_string()) {
        Some(Ok(json)) if json.len() > MAX_RESULT => {
            Err(DecodeError::BadResult(entry, format!("{} bytes, {MAX_RESULT} are allowed", json.len())))
        }
        Some(Ok(json)) => Ok(json),
        Some(Err(e)) => Err(DecodeError::BadResult(entry, e.to_string())),
        None => Err(DecodeError::BadResult(entry, "undefined".into())),
    }
}

/// What scripts say in lists of texts; some say it otherwise.
pub(crate) fn texts(list: Option<Vec<serde_json::Value>>) -> Vec<String> {
    let text = |v: serde_json::Value| short(v.as_str().unwrap_or(&v.to_string()));
    list.unwrap_or_default().into_iter().map(text).collect()
}

pub(crate) fn result_of(entry: Entry, json: &str) -> Result<Decoded, DecodeError> {
    #[derive(Deserialize)]
    struct Returned {
        data: Option<serde_json::Value>,
        #[serde(default)]
        warnings: Option<Vec<serde_json::Value>>,
        #[serde(default)]
        errors: Option<Vec<serde_json::Value>>,
    }
    let bad = |why: String| DecodeError::BadResult(entry, why);
    let returned: Returned = match serde_json::from_str(json) {
        Ok(returned) => returned,
        Err(why) => serde_json::from_str(&paired(json).ok_or_else(|| bad(why.to_string()))?)
            .map_err(|why| bad(why.to_string()))?,
    };
    let errors = texts(returned.errors);
    if !errors.is_empty() {
        return Err(DecodeError::Reported(errors));
    }
    let mut warnings = texts(returned.warnings);
    match returned.data {
        Some(data @ serde_json::Value::Object(_)) => {
            Ok(Decoded { readings: readings::flatten(&data, &mut warnings), warnings })
        }
        Some(other) => Err(bad(format!("data is {other}, not an object"))),
        None => Err(bad("data is missing".into())),
    }
}

/// JSON with the replacement character for each half of a surrogate pair that stands alone: JavaScript's texts may have
/// such, and others' may not. None if there is none.
fn paired(json: &str) -> Option<String> {
    let unit = |at: usize| {
        let escape = json.get(at..at + 6)?.strip_prefix("\\u")?;
        u16::from_str_radix(escape, 16).ok()
    };
    let (mut out, mut at, mut alone) = (String::with_capacity(json.len()), 0, false);
    while let Some(next) = json[at..].find('\\').map(|next| at + next) {
        out.push_str(&json[at..next]);
        let taken = match (unit(next), unit(next + 6)) {
            (Some(0xd800..=0xdbff), Some(0xdc00..=0xdfff)) => 12,
            (Some(0xd800..=0xdfff), _) => 0,
            (Some(_), _) => 6,
            // An escape of one character.
            (None, _) => 1 + json[next + 1..].chars().next().map_or(0, char::len_utf8),
        };
        if taken == 0 {
            alone = true;
            out.push_str("\\ufffd");
        }
        out.push_str(&json[next..next + taken]);
        at = next + if taken == 0 { 6 } else { taken };
    }
    out.push_str(&json[at..]);
    alone.then_some(out)
}

/// As much of what a script says as anybody reads.
fn short(text: &str) -> String {
    match text.char_indices().nth(LONGEST_MESSAGE) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

/// What a script threw, with the place if the interpreter knows it.
pub(crate) fn thrown(entry: Entry, error: &CaughtError<'_>) -> DecodeError {
    match error {
        CaughtError::Exception(exception) => {
            let message = exception.message().unwrap_or_default();
            let name: String = exception.get("name").unwrap_or_default();
            let message = match (name.as_str(), message.as_str()) {
                ("", message) => message.to_owned(),
                (name, "") => name.to_owned(),
                (name, message) => format!("{name}: {message}"),
            };
            let message = short(&message);
            DecodeError::Threw { entry, message, place: exception.stack().and_then(|stack| place(&stack)) }
        }
        CaughtError::Value(value) => {
            // An object says what is the matter in its message, if it does; anything else as a text.
            let told = value.as_object().and_then(|object| object.get::<_, String>("message").ok());
            let text = || value.get::<Coerced<String>>().ok().map(|text| text.0);
            let message = told.or_else(text).unwrap_or_else(|| format!("a {}", value.type_name()));
            // What else it throws when it is asked is of no interest.
            let _ = value.ctx().catch();
            DecodeError::Threw { entry, message: short(&message), place: None }
        }
        CaughtError::Error(error) => DecodeError::Threw { entry, message: error.to_string(), place: None },
    }
}

/// The first `decoder.js:LINE:COLUMN` in a stack trace.
fn place(stack: &str) -> Option<Place> {
    let rest = &stack[stack.find(FILE)? + FILE.len()..];
    let mut numbers = rest.split(|c: char| !c.is_ascii_digit()).filter(|part| !part.is_empty());
    Some(Place { line: numbers.next()?.parse().ok()?, column: numbers.next()?.parse().ok()? })
}

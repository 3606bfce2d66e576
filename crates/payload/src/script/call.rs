//! Calling a function of a script: its limits, its input, its result, and what it throws.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

use rquickjs::{CatchResultExt, CaughtError, Coerced, Ctx, Function, Object, Runtime, Value};
use serde::Deserialize;

use crate::outcome::{DecodeError, Decoded, Entry, Place};
use crate::readings;

/// The name under which a script's lines are reported.
pub(super) const FILE: &str = "decoder.js";

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
    pub(super) bytes: &'a [u8],
    pub(super) port: u8,
    pub(super) recv_time_ms: i64,
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

/// A payload script.
#[derive(Debug, Clone)]
pub struct Script {
    pub(crate) source: Arc<str>,
    pub(crate) limits: Limits,
    pub(crate) encodes: bool,
    pub(crate) reads_downlinks: bool,
    pub(crate) notes: Arc<[String]>,
}

impl Entry {
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

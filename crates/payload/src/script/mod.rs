//! Payload scripts: JavaScript with `decodeUplink({bytes, fPort, recvTime})`, which returns `{data, warnings, errors}`,
//! and perhaps `encodeDownlink` ([`encode`](crate::script::encode)); LoRa Alliance TS013-1.0.0 §4.
//!
//! Nothing a script leaves behind reaches another call ([`Interpreter`]). It has no way out (no files, no network, no
//! timers) and three limits: on memory, on stack, and on the steps it may take. The caller may add a fourth, a clock.

mod adapt;
pub mod call;
pub mod encode;
pub mod interpreter;
mod transform;

use std::rc::Rc;

use rquickjs::{CatchResultExt, Context, Ctx, Value};

use crate::outcome::{DecodeError, Decoded, Entry, MAX_SCRIPT_BYTES};
use crate::script::call::{Call, FILE, Limits, Script, limit, result_of, thrown};
use crate::script::interpreter::Interpreter;

impl Script {
    /// Takes a script after loading it once, so that one that cannot work is refused at the door.
    pub fn new(source: impl Into<String>, limits: Limits) -> Result<Self, DecodeError> {
        let source = source.into();
        if source.len() > MAX_SCRIPT_BYTES {
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

    /// What was skipped in it, for its author.
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

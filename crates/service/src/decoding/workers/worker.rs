//! The worker's side: a process of its own that runs scripts and nothing else (`herond decode-worker`).
//!
//! What a script may use is counted here in steps and memory alone, so that the same payload gives the same answer on
//! every machine; the clock is the service's, which ends the whole process.

use std::collections::HashMap;
use std::io::{self, Read, Write};
use std::sync::LazyLock;
use std::time::{Duration, Instant};

use domain::model::check::flaw;
use payload::{DecodeError, Interpreter, Limits, Script};
use rustix::time::{ClockId, clock_gettime};

use crate::decoding::workers::wire;
use crate::decoding::workers::wire::{Answer, Failure, FoundFlaw, Loaded, Request, ScriptKind};

static STARTED: LazyLock<Instant> = LazyLock::new(Instant::now);

/// Scripts and what they run in.
#[derive(Default)]
struct Worker {
    scripts: HashMap<u64, Script>,
    interpreter: Interpreter,
}

/// Answers requests until there are no more.
///
/// # Errors
/// If the pipe breaks.
pub(super) fn serve(from: &mut impl Read, to: &mut impl Write) -> io::Result<()> {
    let (mut worker, mut buffer) = (Worker::default(), Vec::new());
    while let Some(request) = wire::read(from, &mut buffer)? {
        wire::write(to, &worker.answer(request))?;
    }
    Ok(())
}

/// The processor time that this thread has used.
fn processor_time() -> Duration {
    clock_gettime(ClockId::ThreadCPUTime).try_into().unwrap_or_default()
}

impl Worker {
    fn answer(&mut self, request: Request) -> Answer {
        match request {
            Request::Load { script, source, kind } => Answer::Loaded(self.load(script, &source, kind)),
            Request::Forget => {
                *self = Self::default();
                Answer::Forgotten
            }
            Request::Decode { script, bytes, port, time_ms } => {
                let begun = processor_time();
                let decoded = self.with(script, |script, it| script.decode_uplink(it, &bytes, port, time_ms, || false));
                let took_us = u32::try_from(processor_time().saturating_sub(begun).as_micros()).unwrap_or(u32::MAX);
                Answer::Decoded(decoded.map(Into::into), took_us)
            }
            Request::Trace { script, bytes, port, time_ms } => {
                let found = self.with(script, |script, it| {
                    let decoder = payload::Decoder::Script(script.clone());
                    let decoded = decoder.decode(it, &bytes, port, time_ms, || false)?;
                    Ok(payload::trace::sources(&decoder, it, (&bytes, port, time_ms), &decoded, || false))
                });
                Answer::Traced(found.unwrap_or_default())
            }
            Request::Encode { script, values } => {
                let encoded = self.with(script, |script, it| {
                    let values = serde_json::from_str(&values).map_err(|e| DecodeError::NotWritten(e.to_string()))?;
                    script.encode_downlink(it, &values, || false)
                });
                Answer::Encoded(encoded.map(Into::into))
            }
            Request::ReadDownlink { script, bytes, port } => {
                let read = self.with(script, |script, it| script.decode_downlink(it, &bytes, port, || false));
                Answer::Decoded(read.map(Into::into), 0)
            }
            Request::Transform { script, message } => {
                Answer::Transformed(self.with(script, |script, it| script.transform(it, &message, || false)))
            }
            Request::Flaw { model } => Answer::Flaw(flaw_of(&model)),
        }
    }

    fn load(&mut self, number: u64, source: &str, kind: ScriptKind) -> Result<Loaded, Failure> {
        let script = match kind {
            ScriptKind::Decoder => Script::new(source, Limits::default()),
            ScriptKind::Transform => Script::transforming(source, Limits::default()),
        };
        let script = script.map_err(|error| Failure::from(&error))?;
        let loaded = Loaded {
            encodes: script.encodes(),
            reads_downlinks: script.reads_downlinks(),
            notes: script.notes().to_vec(),
        };
        self.scripts.insert(number, script);
        Ok(loaded)
    }

    fn with<T>(
        &mut self,
        number: u64,
        work: impl FnOnce(&Script, &mut Interpreter) -> Result<T, DecodeError>,
    ) -> Result<T, Failure> {
        let script = self.scripts.get(&number);
        let script = script
            .ok_or_else(|| Failure::other(crate::decoding::workers::wire::Cause::Other, "the script is not loaded"))?;
        work(script, &mut self.interpreter).map_err(|error| Failure::from(&error))
    }
}

fn flaw_of(model: &str) -> Option<FoundFlaw> {
    let found = match serde_json::from_str(model) {
        Ok(model) => flaw(&model, || STARTED.elapsed()),
        Err(why) => return Some(FoundFlaw { why: why.to_string(), loads: false }),
    };
    found.map(|flaw| FoundFlaw { why: flaw.why, loads: flaw.loads })
}

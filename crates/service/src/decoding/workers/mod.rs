//! Scripts run in worker processes; this module starts, asks and replaces them.
//!
//! The interpreter's own limits count steps and memory. What escapes them (a search over megabytes is one step) is
//! ended by the clock, which kills the process; another takes its place. Three lanes keep apart who waits for whom:
//! uplinks whose decoders are known to be quick, all other uplinks, and people with their workbenches, tests and
//! commands.

mod jail;
mod process;
mod quick;
pub(crate) mod wire;
mod worker;

use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io;
use std::process::ExitCode;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use payload::{Decoded, Encoded};

use process::{Lost, Process, Source};
use quick::QuickLane;
use wire::{Answer, Request, ScriptKind};
pub(crate) use wire::{Cause, Failure, FoundFlaw, Loaded};

/// A script whose worker ended so often while it ran is stopped permanently.
const MOST_ENDED: u8 = 3;
/// How often a worker may be killed by somebody else during one call, which is made again: it is not the script's fault.
const MOST_KILLED: u8 = 30;
/// The pause before a call is made again after its worker was killed for the third time or later.
const AFTER_KILLED: Duration = Duration::from_millis(100);
/// The time limit of one call by the clock; four times as much when the machine was busy.
const CALL: Duration = Duration::from_secs(1);
const CALL_BUSY: Duration = Duration::from_secs(4);
/// All tests of a model.
const TESTS: Duration = Duration::from_secs(12);
/// The longest wait for a free worker.
const TURN: Duration = Duration::from_secs(20);

/// Who waits for the result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lane {
    /// Uplinks that are stored already, and history decoded again.
    Later,
    /// People.
    People,
    /// What outlets send.
    Outlets,
}

/// A script that workers are asked to run.
#[derive(Debug, Clone)]
pub struct ScriptRef {
    number: u64,
    kind: ScriptKind,
    source: Arc<str>,
    about: Loaded,
}

impl ScriptRef {
    /// The request that loads it.
    fn load(&self) -> Request {
        Request::Load { script: self.number, source: Arc::clone(&self.source), kind: self.kind }
    }

    /// What loading it showed.
    pub fn about(&self) -> &Loaded {
        &self.about
    }
}

/// An uplink's payload, for a script.
#[derive(Debug, Clone, Default)]
pub struct Payload {
    pub bytes: Vec<u8>,
    pub port: u8,
    pub time_ms: i64,
}

/// Workers of one lane.
struct Pool {
    source: Source,
    niceness: i32,
    most: usize,
    state: Mutex<State>,
    free: Condvar,
}

#[derive(Default)]
struct State {
    idle: Vec<Process>,
    /// The workers in use.
    out: usize,
}

/// Counts of replaced workers and of calls.
#[derive(Debug, Default)]
pub(crate) struct Counts {
    pub calls: AtomicU64,
    /// Killed by the clock.
    pub killed: AtomicU64,
    /// Ended without being killed by the service.
    pub ended: AtomicU64,
}

/// What is counted of all workers.
pub(crate) static COUNTS: Counts =
    Counts { calls: AtomicU64::new(0), killed: AtomicU64::new(0), ended: AtomicU64::new(0) };

#[cfg(not(test))]
const SOURCE: Source = Source::Program;
#[cfg(test)]
const SOURCE: Source = Source::Thread;

static QUICK: LazyLock<QuickLane> = LazyLock::new(|| QuickLane::new(SOURCE));
static LATER: LazyLock<Pool> = LazyLock::new(|| Pool::new(SOURCE, 10, 1));
static PEOPLE: LazyLock<Pool> = LazyLock::new(|| Pool::new(SOURCE, 5, 2));
static OUTLETS: LazyLock<Pool> = LazyLock::new(|| Pool::new(SOURCE, 10, 1));

impl Lane {
    fn pool(self) -> &'static Pool {
        match self {
            Self::Later => &LATER,
            Self::People => &PEOPLE,
            Self::Outlets => &OUTLETS,
        }
    }
}

fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

impl Lost {
    /// Counts a worker that has ended.
    fn count(&self) {
        match self {
            Self::Late { .. } => count(&COUNTS.killed),
            Self::Ended(why) => {
                count(&COUNTS.ended);
                tracing::warn!("a decoder worker is gone: {why}");
            }
            Self::Killed => {
                count(&COUNTS.ended);
                tracing::warn!("a decoder worker was killed by somebody else");
            }
        }
    }
}

impl Pool {
    const fn new(source: Source, niceness: i32, most: usize) -> Self {
        let state = Mutex::new(State { idle: Vec::new(), out: 0 });
        Self { source, niceness, most, state, free: Condvar::new() }
    }

    /// Waits for a free worker.
    fn take(&self) -> Result<Process, Failure> {
        let end = Instant::now() + TURN;
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(process) = state.idle.pop() {
                state.out += 1;
                return Ok(process);
            }
            if state.out < self.most {
                state.out += 1;
                drop(state);
                return Process::start(self.source, self.niceness).map_err(|error| {
                    self.lost();
                    Failure::other(Cause::Clock, format!("no decoder worker could be started: {error}"))
                });
            }
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Err(Failure::other(
                    Cause::Clock,
                    format!("no decoder worker was free for {} s", TURN.as_secs()),
                ));
            }
            state = self.free.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    fn give_back(&self, process: Process) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.out -= 1;
        state.idle.push(process);
        self.free.notify_one();
    }

    /// A worker has ended; the next call starts another.
    fn lost(&self) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).out -= 1;
        self.free.notify_one();
    }

    /// Runs a call in a worker; a worker that fails is killed.
    fn with<T>(&self, work: impl FnOnce(&mut Process) -> Result<T, Lost>) -> Result<Result<T, Lost>, Failure> {
        let mut process = self.take()?;
        let done = work(&mut process);
        match &done {
            Ok(_) => self.give_back(process),
            Err(lost) => {
                lost.count();
                drop(process);
                self.lost();
            }
        }
        Ok(done)
    }

    /// Runs a call, and again if its failure was not the script's fault: the machine was busy, or the worker was
    /// killed.
    fn ask(
        &self,
        limit: Duration,
        work: impl Fn(&mut Process, Duration) -> Result<Answer, Lost>,
    ) -> Result<Answer, Failure> {
        count(&COUNTS.calls);
        let mut limit = limit;
        let (mut late, mut ended, mut killed) = (0, 0, 0);
        loop {
            match self.with(|process| work(process, limit))? {
                Ok(answer) => return Ok(answer),
                Err(Lost::Late { busy_machine: true }) if late == 0 => {
                    late += 1;
                    limit = limit.max(CALL_BUSY);
                }
                Err(Lost::Late { .. }) => {
                    let ms = limit.as_millis();
                    let message = format!("the script was stopped: it took longer than {ms} ms");
                    return Err(Failure::other(Cause::Clock, message));
                }
                Err(Lost::Killed) if killed + 1 < MOST_KILLED => {
                    killed += 1;
                    if killed >= MOST_ENDED {
                        std::thread::sleep(AFTER_KILLED);
                    }
                }
                Err(Lost::Killed) => {
                    let message = format!("the script was stopped: somebody killed its worker {MOST_KILLED} times");
                    return Err(Failure::other(Cause::Other, message));
                }
                Err(Lost::Ended(_)) if ended + 1 < MOST_ENDED => ended += 1,
                Err(Lost::Ended(why)) => {
                    let message =
                        format!("the script was stopped: its worker ended {MOST_ENDED} times while it ran it: {why}");
                    return Err(Failure::other(Cause::Other, message));
                }
            }
        }
    }
}

fn unexpected(answer: &Answer) -> Failure {
    Failure::other(Cause::Other, format!("the decoder worker answered something else: {answer:?}"))
}

/// Loads a script, so that one that cannot work is refused when it is saved. Blocks.
///
/// # Errors
/// If it does not load.
pub(crate) fn load(source: &str, lane: Lane) -> Result<ScriptRef, Failure> {
    load_as(ScriptKind::Decoder, source, lane)
}

/// Loads a script that brings messages into a shape. Blocks.
///
/// # Errors
/// If it does not load.
pub(crate) fn load_transform(source: &str) -> Result<ScriptRef, Failure> {
    load_as(ScriptKind::Transform, source, Lane::People)
}

fn load_as(kind: ScriptKind, source: &str, lane: Lane) -> Result<ScriptRef, Failure> {
    if source.len() > payload::outcome::MAX_SCRIPT_BYTES {
        return Err(Failure::from(&payload::DecodeError::TooLong(source.len())));
    }
    let source: Arc<str> = source.into();
    let mut hasher = DefaultHasher::new();
    (source.as_ref(), kind).hash(&mut hasher);
    // Workers know a script by its text: the same one loaded twice is the same.
    let number = hasher.finish();
    let script = ScriptRef { number, kind, source, about: Loaded::default() };
    let request = script.load();
    match lane.pool().ask(CALL, |process, limit| process.ask(&request, limit))? {
        Answer::Loaded(loaded) => Ok(ScriptRef { about: loaded?, ..script }),
        other => Err(unexpected(&other)),
    }
}

/// Reads one uplink; says how much processor time that took. Blocks.
///
/// # Errors
/// Why there are no readings.
pub(crate) fn decode(script: &ScriptRef, payload: Payload, lane: Lane) -> (Result<Decoded, Failure>, Duration) {
    let Payload { bytes, port, time_ms } = payload;
    let request = Request::Decode { script: script.number, bytes, port, time_ms };
    let asked = lane.pool().ask(CALL, |process, limit| {
        process.hold(script, limit)?;
        process.ask(&request, limit)
    });
    match asked {
        Ok(Answer::Decoded(decoded, took_us)) => (decoded.map(Into::into), Duration::from_micros(took_us.into())),
        Ok(other) => (Err(unexpected(&other)), Duration::ZERO),
        // However long it was: longer than anybody else waits for.
        Err(failure) => (Err(failure), CALL),
    }
}

/// The result of an uplink that was decoded with others.
pub(crate) struct Quick {
    pub result: Result<Decoded, Failure>,
    pub took: Duration,
}

/// Decodes uplinks by quick scripts, in order, for as long as `time` allows, and passes on each result. An uplink
/// without a result is to be decoded later; `slow` is called with the place of one whose decoder was not quick at all.
/// Blocks, for little longer than `time`.
pub(crate) fn decode_quickly(
    jobs: &[(ScriptRef, Payload)],
    time: Duration,
    slow: impl FnMut(usize),
    done: impl FnMut(usize, Quick),
) {
    QUICK.read(jobs, time, slow, done);
}

/// Loads a script for uplinks whose batch waits for its commit. Until the guard is dropped, the quick workers are this test's
/// own.
#[cfg(test)]
pub(crate) fn quick_for_test(script: &ScriptRef) -> std::sync::MutexGuard<'static, ()> {
    static ONE_TEST: Mutex<()> = Mutex::new(());
    let guard = ONE_TEST.lock().unwrap_or_else(PoisonError::into_inner);
    QUICK.read(&[(script.clone(), Payload { bytes: Vec::new(), port: 1, time_ms: 0 })], CALL, |_| (), |_, _| ());
    QUICK.loaded();
    guard
}

/// The bytes of each reading of an uplink, found by trying; none if that takes too long. Blocks.
pub(crate) fn trace(
    script: &ScriptRef,
    payload: Payload,
    lane: Lane,
) -> std::collections::BTreeMap<String, Vec<usize>> {
    let Payload { bytes, port, time_ms } = payload;
    let request = Request::Trace { script: script.number, bytes, port, time_ms };
    let asked = lane.pool().with(|process| {
        process.hold(script, CALL)?;
        process.ask(&request, CALL * 2)
    });
    match asked {
        Ok(Ok(Answer::Traced(found))) => found,
        _ => std::collections::BTreeMap::new(),
    }
}

/// Makes a downlink of named values. Blocks.
///
/// # Errors
/// Why there is none.
pub(crate) fn encode(
    script: &ScriptRef,
    values: &serde_json::Map<String, serde_json::Value>,
) -> Result<Encoded, Failure> {
    let values = serde_json::to_string(values).unwrap_or_default();
    let request = Request::Encode { script: script.number, values };
    let asked = PEOPLE.ask(CALL, |process, limit| {
        process.hold(script, limit)?;
        process.ask(&request, limit)
    })?;
    match asked {
        Answer::Encoded(encoded) => encoded.map(Into::into),
        other => Err(unexpected(&other)),
    }
}

/// What is sent of a message, JSON; `None` if it is left out. Blocks.
///
/// # Errors
/// Why the script makes nothing of it.
pub(crate) fn transform(script: &ScriptRef, message: String, lane: Lane) -> Result<Option<String>, Failure> {
    let request = Request::Transform { script: script.number, message };
    let asked = lane.pool().ask(CALL, |process, limit| {
        process.hold(script, limit)?;
        process.ask(&request, limit)
    })?;
    match asked {
        Answer::Transformed(made) => made,
        other => Err(unexpected(&other)),
    }
}

/// Reads a downlink as the device will. Blocks.
///
/// # Errors
/// Why it does not take the bytes.
pub(crate) fn read_downlink(script: &ScriptRef, port: u8, bytes: &[u8]) -> Result<Decoded, Failure> {
    let request = Request::ReadDownlink { script: script.number, bytes: bytes.to_vec(), port };
    let asked = PEOPLE.ask(CALL, |process, limit| {
        process.hold(script, limit)?;
        process.ask(&request, limit)
    })?;
    match asked {
        Answer::Decoded(read, _) => read.map(Into::into),
        other => Err(unexpected(&other)),
    }
}

/// What is wrong with a model's scripts, tried on its tests. Blocks.
pub(crate) fn flaw(model: &api::model::PutModel) -> Option<FoundFlaw> {
    let model = serde_json::to_string(model).unwrap_or_default();
    let request = Request::Flaw { model };
    match PEOPLE.ask(TESTS, |process, limit| process.ask(&request, limit)) {
        Ok(Answer::Flaw(flaw)) => flaw,
        Ok(other) => Some(FoundFlaw { why: unexpected(&other).message, loads: false }),
        Err(failure) => Some(FoundFlaw { why: failure.message, loads: false }),
    }
}

/// Runs as a worker, until the pipe ends.
pub(crate) fn run(niceness: i32) -> ExitCode {
    if let Err(error) = jail::enter(niceness) {
        eprintln!("herond decode-worker: could not be locked in: {error}");
        return ExitCode::from(1);
    }
    let (mut from, mut to) = (io::stdin().lock(), io::stdout().lock());
    match worker::serve(&mut from, &mut to) {
        Ok(()) => ExitCode::SUCCESS,
        // The service is gone.
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("herond decode-worker: {error}");
            ExitCode::from(1)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LEVEL: &str = "function decodeUplink(i) { return { data: { level: i.bytes[0] } }; }";

    fn payload(byte: u8) -> Payload {
        Payload { bytes: vec![byte], port: 2, time_ms: 0 }
    }

    #[test]
    fn a_script_is_loaded_called_and_asked_for_commands() {
        let source = format!("{LEVEL} function encodeDownlink(i) {{ return {{ bytes: [i.data.open], fPort: 9 }}; }}");
        let script = load(&source, Lane::People).unwrap();
        assert_eq!((script.about().encodes, script.about().reads_downlinks), (true, false));
        let (decoded, _) = decode(&script, payload(24), Lane::Later);
        assert_eq!(decoded.unwrap().readings[0].value, payload::ReadingValue::Number(24.0));
        let values = serde_json::Map::from_iter([("open".to_owned(), 40.into())]);
        assert_eq!(encode(&script, &values).unwrap().bytes, [40]);
        assert_eq!(trace(&script, payload(3), Lane::People)["level"], [0]);
        let why = load("function decodeUplink(i) {\n return }}", Lane::People).unwrap_err();
        assert_eq!((why.line, why.cause), (Some(2), Cause::Other), "{why:?}");
    }

    #[test]
    fn an_endless_loop_is_ended_by_its_steps_wherever_it_runs() {
        let script = load("function decodeUplink() { for (;;) {} }", Lane::People).unwrap();
        let (decoded, _) = decode(&script, payload(1), Lane::Later);
        let why = decoded.unwrap_err();
        assert_eq!(why.cause, Cause::Steps, "{why:?}");
    }

    #[test]
    fn many_are_read_in_order() {
        let (good, bad) =
            (load(LEVEL, Lane::People).unwrap(), load("function decodeUplink() { throw 'no' }", Lane::People).unwrap());
        let jobs: Vec<(ScriptRef, Payload)> =
            (0..200).map(|n| (if n % 10 == 9 { bad.clone() } else { good.clone() }, payload(n))).collect();
        let minute = Duration::from_secs(60);
        let _alone = quick_for_test(&good);
        let read = |jobs: &[(ScriptRef, Payload)], time| {
            let mut results = Vec::new();
            decode_quickly(jobs, time, |_| panic!("slow"), |n, quick| results.push((n, quick.result)));
            results
        };
        let half = read(&jobs, minute);
        assert!(half.len() == 180 && half.iter().all(|(n, _)| n % 10 != 9), "one is not loaded yet");
        QUICK.loaded();
        let done = read(&jobs, minute);
        assert!(done.iter().map(|(n, _)| *n).eq(0..200), "in order");
        for (n, result) in done {
            match result {
                Ok(decoded) => assert_eq!(decoded.readings[0].value, payload::ReadingValue::Number(n as f64)),
                Err(why) => assert!(n % 10 == 9 && why.message.contains("no"), "{n}: {why:?}"),
            }
        }
        assert!(read(&jobs[..3], Duration::ZERO).is_empty(), "no time");
    }
}

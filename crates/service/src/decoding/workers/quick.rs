//! The workers of uplinks whose batch waits for its commit. They are quick or nothing: an uplink whose script is not
//! loaded yet is decoded later. A thread loads the script in the spare worker, and the two workers change places.

use std::collections::HashMap;
use std::sync::atomic::Ordering;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use crate::decoding::workers::process::{Lost, Process, SCRIPTS, Source};
use crate::decoding::workers::wire::{Answer, Request};
use crate::decoding::workers::{CALL, COUNTS, Payload, Quick, ScriptRef};

/// The time limit of one answer. A decoder that is known to be quick takes a hundredth of it.
const ANSWER: Duration = Duration::from_millis(25);
/// Failures to load after which a script is always read later.
const FAILURES: u8 = 3;
/// Scripts whose failures are remembered.
const MOST_FAILED: usize = 1_024;

/// Two workers: one reads uplinks, the other loads scripts.
pub(super) struct QuickLane {
    source: Source,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Reads uplinks. None while it is in use, and before the first is started.
    front: Option<Process>,
    /// Loads what the front worker does not hold, then becomes the front worker.
    spare: Option<Process>,
    /// The scripts of uplinks.
    wanted: HashMap<u64, ScriptRef>,
    /// How often scripts have failed to load.
    failures: HashMap<u64, u8>,
    /// A thread is loading scripts.
    loading: bool,
}

impl State {
    fn want(&mut self, script: &ScriptRef) {
        if self.wanted.contains_key(&script.number) || self.given_up(script) {
            return;
        }
        if self.wanted.len() >= SCRIPTS {
            self.wanted.clear();
        }
        self.wanted.insert(script.number, script.clone());
    }

    fn given_up(&self, script: &ScriptRef) -> bool {
        self.failures.get(&script.number).is_some_and(|failures| *failures >= FAILURES)
    }

    fn holds_all(&self, process: &Process) -> bool {
        self.wanted.keys().all(|number| process.holds(*number))
    }

    /// Gives back a worker that was in use. Another may have taken its place meanwhile.
    fn give_back(&mut self, process: Process) {
        match self.front {
            None => self.front = Some(process),
            Some(_) => self.spare = Some(process),
        }
    }

    fn failed(&mut self, script: &ScriptRef) {
        if self.failures.len() >= MOST_FAILED {
            self.failures.clear();
        }
        *self.failures.entry(script.number).or_default() += 1;
        self.wanted.remove(&script.number);
    }
}

impl QuickLane {
    pub(super) fn new(source: Source) -> Self {
        Self { source, state: Mutex::default() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Decodes uplinks in order, for as long as `time` allows, and passes on each result. An uplink without a result is
    /// to be decoded later; `slow` is called with the place of one whose decoder gave no answer in time. Blocks, for
    /// little longer than `time`.
    pub(super) fn read(
        &'static self,
        jobs: &[(ScriptRef, Payload)],
        time: Duration,
        mut slow: impl FnMut(usize),
        mut result_of: impl FnMut(usize, Quick),
    ) {
        let begun = Instant::now();
        let mut next = 0;
        // If a worker had to be killed, the other goes on behind the uplink that it was at.
        while next < jobs.len() && begun.elapsed() < time {
            let Some(mut process) = self.worker_for(&jobs[next..]) else { break };
            let held: Vec<usize> = (next..jobs.len()).filter(|at| process.holds(jobs[*at].0.number)).collect();
            let requests: Vec<Request> = held.iter().map(|at| request(&jobs[*at])).collect();
            let mut done = 0;
            let answered = |at: usize, answer| {
                if let Answer::Decoded(decoded, took_us) = answer {
                    let took = Duration::from_micros(took_us.into());
                    result_of(held[at], Quick { result: decoded.map(Into::into), took });
                }
                done = at + 1;
            };
            let asked = process.ask_all(&requests, ANSWER, answered, || begun.elapsed() < time);
            COUNTS.calls.fetch_add(done as u64, Ordering::Relaxed);
            let Err(lost) = asked else {
                self.state().give_back(process);
                break;
            };
            lost.count();
            if matches!(lost, Lost::Late { .. }) {
                slow(held[done]);
            }
            next = held[done] + 1;
        }
    }

    /// The front worker, if there is one. Has what it does not hold loaded for the next time.
    fn worker_for(&'static self, jobs: &[(ScriptRef, Payload)]) -> Option<Process> {
        let mut state = self.state();
        jobs.iter().for_each(|(script, _)| state.want(script));
        let process = state.front.take().or_else(|| state.spare.take());
        if !state.loading && !process.as_ref().is_some_and(|process| state.holds_all(process)) {
            state.loading = true;
            std::thread::spawn(|| self.load_all());
        }
        process
    }

    /// Loads all scripts in both workers.
    fn load_all(&self) {
        while self.load_in_spare() {}
        self.state().loading = false;
    }

    /// Loads all scripts in the spare worker and has it become the front one. Returns whether there is more to load.
    fn load_in_spare(&self) -> bool {
        let (spare, wanted) = {
            let mut state = self.state();
            (state.spare.take(), state.wanted.clone())
        };
        let spare = spare.map_or_else(|| Process::start(self.source, 0), Ok);
        let mut process = match spare {
            Ok(process) => process,
            Err(error) => {
                tracing::warn!("no decoder worker could be started: {error}");
                return false;
            }
        };
        for script in wanted.values() {
            if process.holds(script.number) {
                continue;
            }
            if let Err(lost) = load(&mut process, script) {
                lost.count();
                self.state().failed(script);
                return true;
            }
        }
        let mut state = self.state();
        let before = state.front.replace(process);
        let more = before.as_ref().is_some_and(|before| !state.holds_all(before));
        state.spare = before.or_else(|| state.spare.take());
        more
    }

    /// Waits until nothing is loading any more.
    #[cfg(test)]
    pub(super) fn loaded(&self) {
        while self.state().loading {
            std::thread::yield_now();
        }
    }
}

fn request((script, payload): &(ScriptRef, Payload)) -> Request {
    Request::Decode {
        script: script.number,
        bytes: payload.bytes.clone(),
        port: payload.port,
        time_ms: payload.time_ms,
    }
}

/// Loads a script and calls it once for nothing: the first call takes much longer than the others.
fn load(process: &mut Process, script: &ScriptRef) -> Result<(), Lost> {
    process.hold(script, CALL)?;
    let nothing = Request::Decode { script: script.number, bytes: Vec::new(), port: 1, time_ms: 0 };
    process.ask(&nothing, CALL).map(|_| ())
}

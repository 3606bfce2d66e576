//! One worker process, from the service's side: it is started, asked, and killed when it takes too long.

use std::collections::HashSet;
use std::io::{self, Write as _};
use std::os::unix::process::ExitStatusExt as _;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::{LazyLock, mpsc};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::Signal;

use crate::decoding::workers::ScriptRef;
use crate::decoding::workers::wire;
use crate::decoding::workers::wire::{Answer, Request};
use crate::pipeline::metrics::process_stat;

/// Scripts that a worker holds at most; then it drops all of them.
pub(super) const SCRIPTS: usize = 128;
/// Room for what is read at once.
const CHUNK: usize = 64 * 1024;

/// An answer is slow when it has not come within this share of its time.
const SLOW: u32 = 10;

/// How many milliseconds a worker whose pipes are closed may take to end before it counts as alive.
const CLOSING_TRIES: usize = 50;

/// A request for a worker of this niceness.
type Order = (i32, mpsc::Sender<io::Result<Child>>);

/// Starts workers. They end with the thread that has started them (`prctl(2)`, `PR_SET_PDEATHSIG`), so it is one that
/// lives as long as the service: a service that is killed leaves no script running.
static STARTER: LazyLock<mpsc::Sender<Order>> = LazyLock::new(|| {
    let (orders, taken) = mpsc::channel::<Order>();
    std::thread::spawn(move || {
        for (niceness, reply) in taken {
            let started = Command::new("/proc/self/exe")
                .arg("decode-worker")
                .arg(format!("--niceness={niceness}"))
                .env_clear()
                .current_dir("/")
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .stderr(Stdio::inherit())
                .spawn();
            // The caller waits for it.
            let _ = reply.send(started);
        }
    });
    orders
});

fn start_worker(niceness: i32) -> io::Result<Child> {
    let gone = || io::Error::other("the thread that starts workers is gone");
    let (reply, started) = mpsc::channel();
    STARTER.send((niceness, reply)).map_err(|_| gone())?;
    started.recv().map_err(|_| gone())?
}

/// Why there is no answer.
#[derive(Debug)]
pub(super) enum Lost {
    /// None came in time. Says whether the worker got less than half of the processor in that time.
    Late { busy_machine: bool },
    /// The worker has ended, or says nothing that can be read.
    Ended(String),
    /// The worker was killed by somebody else: an administrator, the kernel for want of memory, or the kernel because the
    /// worker has used all the processor time that one worker may use. No script can do that to its worker.
    Killed,
}

/// How workers are started.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Source {
    /// This program, run as a worker.
    #[cfg_attr(test, allow(dead_code))]
    Program,
    /// A thread of this process, for tests of what uses workers. It cannot be killed.
    #[cfg(test)]
    Thread,
}

/// Both ends of the pipe to a worker.
enum Pipes {
    Process(Child, ChildStdin, ChildStdout),
    #[cfg(test)]
    Thread(io::PipeWriter, io::PipeReader),
}

/// A worker process.
pub(super) struct Process {
    pipes: Pipes,
    /// Bytes that were read and not used yet.
    buffer: Vec<u8>,
    loaded: HashSet<u64>,
}

impl Process {
    /// Starts a worker with this `niceness`.
    ///
    /// # Errors
    /// If the program cannot be started.
    pub(super) fn start(source: Source, niceness: i32) -> io::Result<Self> {
        let pipes = match source {
            Source::Program => {
                let mut child = start_worker(niceness)?;
                let (Some(stdin), Some(stdout)) = (child.stdin.take(), child.stdout.take()) else {
                    return Err(io::Error::other("no pipes"));
                };
                Pipes::Process(child, stdin, stdout)
            }
            #[cfg(test)]
            Source::Thread => {
                let (mut from, to_worker) = io::pipe()?;
                let (from_worker, mut to) = io::pipe()?;
                std::thread::spawn(move || crate::decoding::workers::worker::serve(&mut from, &mut to));
                Pipes::Thread(to_worker, from_worker)
            }
        };
        Ok(Self { pipes, buffer: Vec::new(), loaded: HashSet::new() })
    }

    /// Writes messages. Not more than the pipe holds beside what is not answered yet: the worker reads nothing while it
    /// waits to be read itself.
    fn send(&mut self, bytes: &[u8]) -> Result<(), Lost> {
        let sent = match &mut self.pipes {
            Pipes::Process(_, to, _) => to.write_all(bytes).and_then(|()| to.flush()),
            #[cfg(test)]
            Pipes::Thread(to, _) => to.write_all(bytes),
        };
        sent.map_err(|error| Lost::Ended(error.to_string()))
    }

    /// The next answer, if it comes in time.
    fn receive(&mut self, begun: Instant, limit: Duration) -> Result<Answer, Lost> {
        // Asked only once an answer is slow to come: most calls take microseconds.
        let mut slow: Option<(Instant, Option<f64>)> = None;
        loop {
            match wire::take(&self.buffer) {
                Ok(Some((answer, taken))) => {
                    self.buffer.drain(..taken);
                    return Ok(answer);
                }
                Ok(None) => {}
                Err(error) => return Err(Lost::Ended(error.to_string())),
            }
            let left = limit.saturating_sub(begun.elapsed());
            let wait = if slow.is_none() { left.min(limit / SLOW) } else { left };
            if !self.readable_within(wait)? {
                let cpu_s = self.cpu_s();
                match slow {
                    None => slow = Some((Instant::now(), cpu_s)),
                    Some((since, cpu_before_s)) => {
                        let took = cpu_s.zip(cpu_before_s).map(|(now, before)| now - before);
                        let busy_machine = took.is_some_and(|took| took * 2.0 < since.elapsed().as_secs_f64());
                        return Err(Lost::Late { busy_machine });
                    }
                }
                continue;
            }
            let mut chunk = [0; CHUNK];
            let read = match &mut self.pipes {
                Pipes::Process(_, _, from) => io::Read::read(from, &mut chunk),
                #[cfg(test)]
                Pipes::Thread(_, from) => io::Read::read(from, &mut chunk),
            };
            match read {
                Ok(0) => return Err(Lost::Ended("it has ended".into())),
                Ok(n) => self.buffer.extend(&chunk[..n]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(Lost::Ended(error.to_string())),
            }
        }
    }

    fn readable_within(&self, time: Duration) -> Result<bool, Lost> {
        let time = Timespec::try_from(time).unwrap_or(Timespec { tv_sec: 1, tv_nsec: 0 });
        let mut fds = match &self.pipes {
            Pipes::Process(_, _, from) => [PollFd::new(from, PollFlags::IN)],
            #[cfg(test)]
            Pipes::Thread(_, from) => [PollFd::new(from, PollFlags::IN)],
        };
        match poll(&mut fds, Some(&time)) {
            Ok(ready) => Ok(ready > 0),
            Err(rustix::io::Errno::INTR) => Ok(true),
            Err(error) => Err(Lost::Ended(error.to_string())),
        }
    }

    /// Processor time that the worker has taken since it was started.
    fn cpu_s(&self) -> Option<f64> {
        match &self.pipes {
            Pipes::Process(child, ..) => process_stat(child.id()).map(|stat| stat.cpu_s),
            #[cfg(test)]
            Pipes::Thread(..) => None,
        }
    }

    /// Whether the worker is dead by `SIGKILL`. The service itself kills a worker only when it drops it.
    fn was_killed(&mut self) -> bool {
        match &mut self.pipes {
            // Its pipes are closed: it ends at once, if it has not ended yet.
            Pipes::Process(child, ..) => {
                let status = (0..CLOSING_TRIES).find_map(|_| {
                    let status = child.try_wait().ok().flatten();
                    if status.is_none() {
                        std::thread::sleep(Duration::from_millis(1));
                    }
                    status
                });
                status.is_some_and(|status| status.signal() == Some(Signal::KILL.as_raw()))
            }
            #[cfg(test)]
            Pipes::Thread(..) => false,
        }
    }

    /// Sends one request. After an error the worker cannot be used any more.
    pub(super) fn ask(&mut self, request: &Request, limit: Duration) -> Result<Answer, Lost> {
        let asked = self.ask_once(request, limit);
        asked.map_err(|lost| match lost {
            Lost::Ended(_) if self.was_killed() => Lost::Killed,
            other => other,
        })
    }

    fn ask_once(&mut self, request: &Request, limit: Duration) -> Result<Answer, Lost> {
        let begun = Instant::now();
        let mut bytes = Vec::with_capacity(512);
        wire::put(&mut bytes, request).map_err(|error| Lost::Ended(error.to_string()))?;
        self.send(&bytes)?;
        self.receive(begun, limit)
    }

    /// Whether the worker holds a script.
    pub(super) fn holds(&self, script: u64) -> bool {
        self.loaded.contains(&script)
    }

    /// Loads a script into the worker unless it holds it already.
    pub(super) fn hold(&mut self, script: &ScriptRef, limit: Duration) -> Result<(), Lost> {
        if self.holds(script.number) {
            return Ok(());
        }
        if self.loaded.len() >= SCRIPTS {
            self.ask(&Request::Forget, limit)?;
            self.loaded.clear();
        }
        let load = script.load();
        match self.ask(&load, limit)? {
            Answer::Loaded(Ok(_)) => {
                self.loaded.insert(script.number);
                Ok(())
            }
            // It has been loaded before: it is the same everywhere.
            other => Err(Lost::Ended(format!("a script does not load any more: {other:?}"))),
        }
    }

    /// Sends many requests, whose answers come in order, and passes on each answer. It sends more for as long as `more`
    /// says so. An answer that takes longer than `limit` ends it.
    pub(super) fn ask_all(
        &mut self,
        requests: &[Request],
        limit: Duration,
        mut answered: impl FnMut(usize, Answer),
        more: impl Fn() -> bool,
    ) -> Result<(), Lost> {
        let (mut sent, mut done) = (0, 0);
        let mut last = Instant::now();
        loop {
            let mut bytes = Vec::new();
            while sent < requests.len() && sent - done < AT_ONCE && more() {
                wire::put(&mut bytes, &requests[sent]).map_err(|error| Lost::Ended(error.to_string()))?;
                sent += 1;
            }
            if !bytes.is_empty() {
                self.send(&bytes)?;
            }
            if done == sent {
                return Ok(());
            }
            answered(done, self.receive(last, limit)?);
            done += 1;
            last = Instant::now();
        }
    }
}

/// Calls that are on their way to a worker: each takes some 300 bytes of the pipe, which holds 64 kB.
const AT_ONCE: usize = 32;

impl Drop for Process {
    fn drop(&mut self) {
        match &mut self.pipes {
            Pipes::Process(child, ..) => {
                let _ = child.kill();
                let _ = child.wait();
            }
            #[cfg(test)]
            Pipes::Thread(..) => {}
        }
    }
}

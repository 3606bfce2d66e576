//! Exports: files that are written while they are sent, for as long as somebody reads them.

use std::collections::HashMap;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use anyhow::Result;
use axum::body::Bytes;
use futures::Stream;
use store::PersonId;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc};

use crate::http::error::Refusal;

/// Exports that read from the database at once.
const AT_ONCE: usize = 4;
/// Exports of one account, with those that wait; of them one is written at a time.
const OF_ONE: usize = 4;
/// How long one waits for its turn.
const TURN: Duration = Duration::from_secs(20);
/// How long a reader may take nothing.
const UNREAD: Duration = Duration::from_secs(30);
/// How often that is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// Parts of a file that wait for a slow reader.
const WAITING: usize = 4;

/// Where the parts of a file go.
pub(crate) type FileParts = mpsc::Sender<std::io::Result<Bytes>>;

/// Exports going on.
pub struct Exports {
    all: Arc<Semaphore>,
    by_account: Mutex<HashMap<PersonId, Line>>,
}

#[derive(Clone)]
struct Line {
    room: Arc<Semaphore>,
    turn: Arc<Semaphore>,
}

impl Default for Exports {
    fn default() -> Self {
        Self { all: Arc::new(Semaphore::new(AT_ONCE)), by_account: Mutex::default() }
    }
}

/// The right to read from the database for an export.
pub(crate) type ExportTurn = [OwnedSemaphorePermit; 3];

impl Exports {
    /// This account's turn. Safe to cancel.
    ///
    /// # Errors
    /// The account has too many already, or it took too long.
    pub(crate) async fn turn(&self, person: PersonId) -> Result<ExportTurn, Refusal> {
        let line = {
            let mut lines = self.by_account.lock().unwrap_or_else(PoisonError::into_inner);
            lines.retain(|_, line| line.room.available_permits() < OF_ONE);
            let new = || Line { room: Arc::new(Semaphore::new(OF_ONE)), turn: Arc::new(Semaphore::new(1)) };
            lines.entry(person).or_insert_with(new).clone()
        };
        let room = line.room.try_acquire_owned().map_err(|_| Refusal::too_many("exports"))?;
        let both = async {
            let own = line.turn.acquire_owned().await?;
            Ok::<_, tokio::sync::AcquireError>([room, own, Arc::clone(&self.all).acquire_owned().await?])
        };
        match tokio::time::timeout(TURN, both).await {
            Ok(turn) => turn.map_err(|_| Refusal::internal()),
            Err(_) => Err(Refusal::too_often(TURN)),
        }
    }
}

/// How far a reader has come, and whether the file ends early.
#[derive(Default)]
struct Reader {
    taken: AtomicU64,
    broken: AtomicBool,
}

/// The parts of a file as they are read.
struct Parts {
    receiver: mpsc::Receiver<std::io::Result<Bytes>>,
    reader: Arc<Reader>,
}

impl Stream for Parts {
    type Item = std::io::Result<Bytes>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let part = ready!(self.receiver.poll_recv(cx));
        self.reader.taken.fetch_add(1, Ordering::Relaxed);
        if part.is_none() && self.reader.broken.swap(false, Ordering::Relaxed) {
            // The stream breaks off, so that an incomplete file is noticed.
            return Poll::Ready(Some(Err(std::io::Error::other("the export ends early"))));
        }
        Poll::Ready(part)
    }
}

/// Begins to write a file in this turn, and returns its parts. Writing ends when the reader is gone.
pub(crate) fn parts_of<W>(
    turn: ExportTurn,
    write: impl FnOnce(FileParts) -> W,
) -> impl Stream<Item = std::io::Result<Bytes>> + Send + 'static
where
    W: Future<Output = Result<()>> + Send + 'static,
{
    parts_within(turn, LOOK_EVERY, write)
}

fn parts_within<W>(
    turn: ExportTurn,
    look_every: Duration,
    write: impl FnOnce(FileParts) -> W,
) -> impl Stream<Item = std::io::Result<Bytes>> + Send + 'static
where
    W: Future<Output = Result<()>> + Send + 'static,
{
    let (sender, receiver) = mpsc::channel(WAITING);
    let reader = Arc::new(Reader::default());
    let (watched, writing) = (Arc::clone(&reader), write(sender.clone()));
    tokio::spawn(async move {
        let unread = sender.clone();
        let ended = tokio::select! {
            ended = writing => ended,
            () = nobody_reads(&unread, &watched, look_every) => Err(anyhow::anyhow!("nobody has read on for {} s", UNREAD.as_secs())),
        };
        if let Err(error) = ended {
            tracing::warn!("an export ends early: {error:#}");
            watched.broken.store(true, Ordering::Relaxed);
        }
        drop(turn);
    });
    Parts { receiver, reader }
}

/// How long a written part has waited for its reader.
#[derive(Default)]
struct Unread {
    taken: u64,
    looks: u32,
}

impl Unread {
    /// Looks again; whether it has been too long. `full` is whether no more parts can wait.
    fn for_too_long(&mut self, taken: u64, full: bool) -> bool {
        self.looks = if full && taken == self.taken { self.looks + 1 } else { 0 };
        self.taken = taken;
        LOOK_EVERY * self.looks >= UNREAD
    }
}

/// Ends when parts wait that nobody takes.
async fn nobody_reads(parts: &FileParts, reader: &Reader, look_every: Duration) {
    let mut unread = Unread::default();
    loop {
        tokio::time::sleep(look_every).await;
        if unread.for_too_long(reader.taken.load(Ordering::Relaxed), parts.capacity() == 0) {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use futures::StreamExt as _;

    use super::*;

    async fn endless(parts: FileParts) -> Result<()> {
        while parts.send(Ok(Bytes::from_static(b"row\n"))).await.is_ok() {}
        Ok(())
    }

    #[tokio::test]
    async fn an_export_that_nobody_reads_makes_room_and_breaks_off() {
        let exports = Exports::default();
        let turn = exports.turn(1).await.unwrap();
        let mut unread = Box::pin(parts_within(turn, Duration::from_millis(1), endless));
        assert!(unread.next().await.unwrap().is_ok());
        // A second one of the same account waits for it, one of another does not.
        drop(exports.turn(2).await.unwrap());
        drop(exports.turn(1).await.unwrap());
        let rest: Vec<_> = unread.collect().await;
        assert!(rest.len() <= WAITING + 2 && rest.last().unwrap().is_err(), "{}", rest.len());
    }

    #[tokio::test]
    async fn an_export_that_is_read_comes_as_a_whole() {
        let exports = Exports::default();
        let hundred = |parts: FileParts| async move {
            for _ in 0..100 {
                parts.send(Ok(Bytes::from_static(b"row\n"))).await?;
            }
            Ok(())
        };
        let read: Vec<_> = parts_of(exports.turn(1).await.unwrap(), hundred).collect().await;
        assert!(read.len() == 100 && read.iter().all(Result::is_ok));
    }

    #[test]
    fn a_slow_reader_is_waited_for() {
        let mut unread = Unread::default();
        assert!((1..1_000).all(|look| !unread.for_too_long(look / 5, true)), "it takes a part in 25 s");
        assert!((0..1_000).all(|_| !unread.for_too_long(200, false)), "there is nothing to take");
        assert_eq!((0..100).position(|_| unread.for_too_long(200, true)), Some(5));
    }

    #[tokio::test]
    async fn an_account_has_few_and_leaves_turns_to_others() {
        let exports = Exports::default();
        let held = exports.turn(1).await.unwrap();
        let mut waiting: Vec<_> = (1..OF_ONE).map(|_| Box::pin(exports.turn(1))).collect();
        for one in &mut waiting {
            assert!(futures::poll!(one).is_pending());
        }
        assert_eq!(exports.turn(1).await.err().map(|refusal| refusal.0.code), Some("too_many_open".into()));
        drop(exports.turn(2).await.unwrap());
        drop(held);
        assert!(waiting.remove(0).await.is_ok());
    }
}

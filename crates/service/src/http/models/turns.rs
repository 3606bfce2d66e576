//! Scripts that people run (drafts and tests, commands and what they read as) and files that they send in. Each account has one of
//! a kind at a time, so that no account waits for another's.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use store::PersonId;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::http::error::Refusal;

/// Accounts that are remembered before those that run nothing are forgotten.
const ACCOUNTS: usize = 256;
/// Requests of one account and kind that may wait for their turn.
const WAITING: usize = 16;
/// And how long.
pub(crate) const TURN: Duration = Duration::from_secs(20);

/// What it is a turn for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Purpose {
    /// Drafts and tests: some seconds.
    Tests,
    /// Commands, what they read as, and rehearsals: some milliseconds. They do not wait for tests.
    Calls,
    /// Archives, photos and rasters.
    Files,
    /// Frames under keys that are tried: some milliseconds.
    Frames,
}

/// Whose turn it is.
#[derive(Default)]
pub struct Turns(Mutex<HashMap<(PersonId, Purpose), Line>>);

#[derive(Clone)]
struct Line {
    /// Those who run a script, or wait for that.
    room: Arc<Semaphore>,
    turn: Arc<Semaphore>,
}

impl Turns {
    /// This account's turn, once what it runs already is done. Dropping the future gives the place in the queue up.
    ///
    /// # Errors
    /// If too many of its requests wait, or this one has waited too long.
    pub async fn turn(
        &self,
        whose: (PersonId, Purpose),
        within: Duration,
    ) -> Result<[OwnedSemaphorePermit; 2], Refusal> {
        let line = {
            let mut lines = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            if lines.len() >= ACCOUNTS {
                lines.retain(|_, line| line.room.available_permits() <= WAITING);
            }
            let new = || Line { room: Arc::new(Semaphore::new(WAITING + 1)), turn: Arc::new(Semaphore::new(1)) };
            lines.entry(whose).or_insert_with(new).clone()
        };
        let wait = match whose.1 {
            Purpose::Tests | Purpose::Files => TURN,
            Purpose::Calls | Purpose::Frames => Duration::from_secs(1),
        };
        let room = line.room.try_acquire_owned().map_err(|_| Refusal::too_often(wait))?;
        match tokio::time::timeout(within, line.turn.acquire_owned()).await {
            Ok(Ok(turn)) => Ok([room, turn]),
            Ok(Err(_)) | Err(_) => Err(Refusal::too_often(wait)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn an_account_waits_for_itself_and_for_nobody_else() {
        let turns = Arc::new(Turns::default());
        let busy = turns.turn((1, Purpose::Tests), TURN).await.unwrap();
        drop(turns.turn((2, Purpose::Tests), TURN).await.unwrap());
        drop(turns.turn((1, Purpose::Calls), TURN).await.unwrap());
        let second = tokio::spawn({
            let turns = Arc::clone(&turns);
            async move { turns.turn((1, Purpose::Tests), TURN).await.map(|_| ()) }
        });
        tokio::task::yield_now().await;
        assert!(!second.is_finished());
        drop(busy);
        second.await.unwrap().unwrap();
    }

    #[tokio::test]
    async fn no_queue_grows_without_end_and_no_wait_lasts_for_ever() {
        let turns = Arc::new(Turns::default());
        let _busy = turns.turn((1, Purpose::Calls), TURN).await.unwrap();
        let waiting: Vec<_> = (0..WAITING)
            .map(|_| {
                let turns = Arc::clone(&turns);
                tokio::spawn(
                    async move { turns.turn((1, Purpose::Calls), Duration::from_millis(20)).await.map(|_| ()) },
                )
            })
            .collect();
        tokio::task::yield_now().await;
        let refused = turns.turn((1, Purpose::Calls), TURN).await.unwrap_err();
        assert_eq!(refused.0.code, "too_often");
        for waiting in waiting {
            assert_eq!(waiting.await.unwrap().unwrap_err().0.code, "too_often");
        }
    }

    #[tokio::test]
    async fn accounts_that_run_nothing_are_forgotten() {
        let turns = Turns::default();
        let _busy = turns.turn((0, Purpose::Tests), TURN).await.unwrap();
        for person in 1..=2 * ACCOUNTS as PersonId {
            drop(turns.turn((person, Purpose::Tests), TURN).await.unwrap());
        }
        let lines = turns.0.lock().unwrap();
        assert!(lines.len() <= ACCOUNTS && lines.contains_key(&(0, Purpose::Tests)), "{}", lines.len());
    }
}

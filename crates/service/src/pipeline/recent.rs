//! The last messages that were committed, in the order of their commits: who follows that order needs no database while it
//! keeps up.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use store::{WrittenMessage, told_number};
use tokio::sync::watch;

/// Messages that are kept, and bytes of them.
const MOST: usize = 4_096;
const MOST_BYTES: usize = 8 << 20;

/// A message with its number in the order of commits.
pub(crate) type Told = (u64, Arc<WrittenMessage>);

/// The last messages.
pub(crate) struct Recent {
    kept: Mutex<Kept>,
    /// The number up to which all is durable.
    until: watch::Sender<u64>,
    followers: Arc<AtomicUsize>,
}

#[derive(Default)]
struct Kept {
    messages: VecDeque<Told>,
    bytes: usize,
    /// All messages with larger numbers are there.
    after: u64,
}

/// Follows the last messages. While nobody does, none are kept.
pub(crate) struct Follower {
    pub until: watch::Receiver<u64>,
    followers: Arc<AtomicUsize>,
}

impl Drop for Follower {
    fn drop(&mut self) {
        self.followers.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Recent {
    /// Begins after the last commit.
    pub(crate) fn new(until: u64) -> Self {
        let kept = Kept { after: until, ..Kept::default() };
        Self { kept: Mutex::new(kept), until: watch::Sender::new(until), followers: Arc::default() }
    }

    /// Follows it from now on.
    pub(crate) fn follow(&self) -> Follower {
        self.followers.fetch_add(1, Ordering::Relaxed);
        Follower { until: self.until.subscribe(), followers: Arc::clone(&self.followers) }
    }

    /// The number up to which all is durable.
    pub(crate) fn until(&self) -> u64 {
        *self.until.borrow()
    }

    /// Takes the messages of a commit, each with its place in it.
    pub(crate) fn committed(&self, commit: u64, messages: &[(usize, Arc<WrittenMessage>)]) {
        if self.followers.load(Ordering::Relaxed) == 0 {
            return self.passed_over(commit);
        }
        {
            let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            for (place, written) in messages {
                kept.bytes += written.json.len();
                kept.messages.push_back((told_number(commit, *place), Arc::clone(written)));
            }
            while kept.messages.len() > MOST || kept.bytes > MOST_BYTES {
                let Some((told, written)) = kept.messages.pop_front() else { break };
                kept.bytes -= written.json.len();
                kept.after = told;
            }
        }
        self.until.send_replace(told_number(commit, usize::MAX));
    }

    /// A commit whose messages are not known here, or not kept: they are read from the database.
    pub(crate) fn passed_over(&self, commit: u64) {
        let until = told_number(commit, usize::MAX);
        *self.kept.lock().unwrap_or_else(PoisonError::into_inner) = Kept { after: until, ..Kept::default() };
        self.until.send_replace(until);
    }

    /// The first messages after a number, at most `limit`, that `wanted` takes, and the number up to which they are all of
    /// them; `None` if some of them are not kept any more.
    pub(crate) fn after(
        &self,
        position: u64,
        limit: usize,
        wanted: impl Fn(&WrittenMessage) -> bool,
    ) -> Option<(Vec<Told>, u64)> {
        let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        // Read while it is locked, so that what is kept goes up to here.
        let until = self.until().max(kept.messages.back().map_or(0, |(told, _)| *told));
        if position < kept.after {
            return None;
        }
        let first = kept.messages.partition_point(|(told, _)| *told <= position);
        let mut found = Vec::new();
        for (told, written) in kept.messages.range(first..) {
            if found.len() == limit {
                let last = found.last().map_or(position, |(told, _): &Told| *told);
                return Some((found, last));
            }
            if wanted(written) {
                found.push((*told, Arc::clone(written)));
            }
        }
        Some((found, until))
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn written(id: &str) -> Arc<WrittenMessage> {
        let message = serde_json::from_value(json!({
            "type": "notice", "id": id, "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey", "code": "silent",
            "wants_attention": true, "why": ""
        }));
        Arc::new(WrittenMessage { estate_id: 1, message: message.unwrap(), json: "x".repeat(100) })
    }

    fn ids(found: &[Told]) -> Vec<&str> {
        found.iter().map(|(_, written)| written.message.id.as_str()).collect()
    }

    #[test]
    fn what_is_kept_is_given_in_order_and_up_to_the_last_commit() {
        let recent = Recent::new(told_number(7, usize::MAX));
        let _follower = recent.follow();
        recent.committed(8, &[(0, written("a")), (3, written("b"))]);
        recent.committed(9, &[]);
        recent.committed(10, &[(0, written("c"))]);
        let (found, until) = recent.after(told_number(7, usize::MAX), 10, |_| true).unwrap();
        assert_eq!((ids(&found), until), (vec!["a", "b", "c"], told_number(10, usize::MAX)));
        let (found, until) = recent.after(told_number(8, 0), 1, |_| true).unwrap();
        assert_eq!((ids(&found), until), (vec!["b"], told_number(8, 3)), "no further than what is given");
        let (found, until) = recent.after(told_number(8, 0), 1, |of| of.message.id == "c").unwrap();
        assert_eq!((ids(&found), until), (vec!["c"], told_number(10, usize::MAX)));
    }

    #[test]
    fn who_is_behind_what_is_kept_reads_the_database() {
        let recent = Recent::new(0);
        recent.committed(1, &[(0, written("unseen"))]);
        assert!(recent.after(0, 10, |_| true).is_none(), "nobody followed");
        let _follower = recent.follow();
        for commit in 2..2 + MOST as u64 + 10 {
            recent.committed(commit, &[(0, written("x"))]);
        }
        assert!(recent.after(told_number(2, 0), 10, |_| true).is_none());
        assert_eq!(recent.after(told_number(11, 0), MOST, |_| true).unwrap().0.len(), MOST);
        recent.passed_over(9_000);
        assert!(recent.after(told_number(8_999, 0), 10, |_| true).is_none());
        assert!(recent.after(told_number(9_000, usize::MAX), 10, |_| true).unwrap().0.is_empty());
    }

    #[test]
    fn large_messages_are_kept_in_small_number() {
        let recent = Recent::new(0);
        let _follower = recent.follow();
        let large = Arc::new(WrittenMessage { json: "x".repeat(MOST_BYTES / 2), ..(*written("l")).clone() });
        recent.committed(1, &[(0, Arc::clone(&large)), (1, Arc::clone(&large)), (2, large)]);
        assert_eq!(recent.after(told_number(1, 0), 10, |_| true).unwrap().0.len(), 2);
        assert!(recent.after(0, 10, |_| true).is_none());
    }
}

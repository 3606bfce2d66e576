//! Counts what each has under way, up to a limit: connections, handshakes, streams.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// What each has under way.
#[derive(Debug)]
pub struct Few<K: Eq + Hash> {
    of_one: usize,
    counts: Arc<Mutex<HashMap<K, usize>>>,
}

/// One of them, until it is dropped.
#[derive(Debug)]
pub struct One<K: Eq + Hash> {
    counts: Arc<Mutex<HashMap<K, usize>>>,
    of: K,
}

fn lock<K>(counts: &Mutex<HashMap<K, usize>>) -> MutexGuard<'_, HashMap<K, usize>> {
    counts.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<K: Eq + Hash + Clone> Few<K> {
    /// At most so many of each.
    pub fn new(of_one: usize) -> Self {
        Self { of_one, counts: Arc::default() }
    }

    /// Begins one; none if there are as many already.
    pub fn begin(&self, of: K) -> Option<One<K>> {
        let mut counts = lock(&self.counts);
        let count = counts.get(&of).copied().unwrap_or_default();
        if count >= self.of_one {
            return None;
        }
        counts.insert(of.clone(), count + 1);
        Some(One { counts: Arc::clone(&self.counts), of })
    }
}

impl<K: Eq + Hash> Drop for One<K> {
    fn drop(&mut self) {
        let mut counts = lock(&self.counts);
        if let Some(count) = counts.get_mut(&self.of) {
            *count -= 1;
            if *count == 0 {
                counts.remove(&self.of);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_has_few_and_keeps_nobody_else_out() {
        let few: Few<&str> = Few::new(3);
        let mut held: Vec<_> = (0..3).map(|_| few.begin("one").unwrap()).collect();
        assert!(few.begin("one").is_none() && few.begin("other").is_some());
        held.pop();
        assert!(few.begin("one").is_some());
        drop(held);
        assert!(lock(&few.counts).is_empty(), "nothing is remembered of those that are gone");
    }
}

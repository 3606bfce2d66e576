//! Round-robin queue with a bounded line per key.

use std::collections::{HashMap, VecDeque};
use std::hash::Hash;

/// Jobs by key.
#[derive(Debug)]
pub(crate) struct Fair<K, J> {
    lines: HashMap<K, VecDeque<J>>,
    /// The keys that have a line, each once, in the order of their turns.
    turns: VecDeque<K>,
    /// The longest line.
    longest: usize,
}

impl<K: Clone + Eq + Hash, J> Fair<K, J> {
    pub(crate) fn new(longest: usize) -> Self {
        Self { lines: HashMap::new(), turns: VecDeque::new(), longest }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.turns.is_empty()
    }

    /// Adds a job at the end of its key's line; returns it if the line is full.
    ///
    /// # Errors
    /// The job, if there is no room for it.
    pub(crate) fn put(&mut self, whose: K, job: J) -> Result<(), J> {
        let line = self.lines.entry(whose.clone()).or_default();
        if line.len() >= self.longest {
            return Err(job);
        }
        if line.is_empty() {
            self.turns.push_back(whose);
        }
        line.push_back(job);
        Ok(())
    }

    /// The job whose turn it is.
    pub(crate) fn take(&mut self) -> Option<J> {
        let whose = self.turns.pop_front()?;
        let line = self.lines.get_mut(&whose)?;
        let job = line.pop_front();
        if line.is_empty() {
            self.lines.remove(&whose);
        } else {
            self.turns.push_back(whose);
        }
        job
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_key_with_many_jobs_delays_only_itself() {
        let mut fair = Fair::new(3);
        for job in ["a1", "a2", "a3"] {
            fair.put('a', job).unwrap();
        }
        assert_eq!(fair.put('a', "a4"), Err("a4"));
        fair.put('b', "b1").unwrap();
        fair.put('c', "c1").unwrap();
        let order: Vec<_> = std::iter::from_fn(|| fair.take()).collect();
        assert_eq!(order, ["a1", "b1", "c1", "a2", "a3"]);
        assert!(fair.is_empty());
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_each_line_keeps_its_order(jobs in prop::collection::vec(0u8..4, 0..60)) {
            let mut fair = Fair::new(60);
            for (n, whose) in jobs.iter().enumerate() {
                fair.put(*whose, (*whose, n)).unwrap();
            }
            let taken: Vec<_> = std::iter::from_fn(|| fair.take()).collect();
            prop_assert_eq!(taken.len(), jobs.len());
            for whose in 0..4 {
                let line: Vec<_> = taken.iter().filter(|(w, _)| *w == whose).map(|(_, n)| *n).collect();
                prop_assert!(line.is_sorted());
            }
        }
    }
}

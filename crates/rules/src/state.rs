//! What a rule knows of one subject. It is stored, and put back after a restart.

use serde::{Deserialize, Serialize};

use crate::condition::Seen;
use crate::rule::{AtMs, Combine, Rule, Test};

/// What a rule knows of one subject.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct State {
    pub(crate) seen: Vec<Seen>,
    /// Since when it is watched.
    pub(crate) from: AtMs,
    /// Since when the conditions hold together.
    pub(crate) since: Option<AtMs>,
    /// In how many messages in a row they have held.
    pub(crate) in_a_row: u32,
    /// The alert that is open: when its conditions began to hold.
    pub(crate) open: Option<AtMs>,
    /// The last alert, and when it was cleared.
    pub(crate) last: Option<(AtMs, AtMs)>,
    /// When it is to be looked at again, at the latest.
    #[serde(skip)]
    pub(crate) due: Option<AtMs>,
    /// Whether it has changed since it was last handed out.
    #[serde(skip)]
    pub(crate) changed: bool,
}

impl State {
    pub(crate) fn new(rule: &Rule, from: AtMs) -> Self {
        Self { seen: vec![Seen::default(); rule.conditions.len()], from, ..Self::default() }
    }

    /// The alert that is open: when its conditions began to hold.
    pub fn open(&self) -> Option<AtMs> {
        self.open
    }

    pub(crate) fn holds(&self, combine: Combine) -> bool {
        match combine {
            Combine::All => self.seen.iter().all(|seen| seen.holds),
            Combine::Any => self.seen.iter().any(|seen| seen.holds),
        }
    }

    /// When the silence of a condition is long enough; `None` if it is already, or is not asked for.
    fn silent_at(&self, place: usize, test: &Test) -> Option<AtMs> {
        let Test::Silent { for_ms } = test else { return None };
        let seen = self.seen.get(place).filter(|seen| !seen.holds)?;
        Some(seen.at.unwrap_or(self.from).plus(*for_ms))
    }

    /// Conditions whose silence is long enough at a time, hold.
    pub(crate) fn fall_silent(&mut self, rule: &Rule, at: AtMs) {
        for (place, condition) in rule.conditions.iter().enumerate() {
            if self.silent_at(place, &condition.test).is_some_and(|due| due <= at) {
                self.seen[place].holds = true;
            }
        }
    }

    /// When something may happen without a value.
    pub(crate) fn next(&self, rule: &Rule, now: AtMs) -> Option<AtMs> {
        let silent = rule.conditions.iter().enumerate().filter_map(|(n, one)| self.silent_at(n, &one.test)).min();
        let waits = self.since.filter(|_| self.open.is_none() && rule.is_enough(self.in_a_row));
        let opens = waits.and_then(|since| match since.plus(rule.hold_ms) {
            later if later > now => Some(later),
            // It has held long enough: it waits for the rule's hours.
            _ => rule.active.as_ref()?.next_begin(now),
        });
        silent.into_iter().chain(opens).min()
    }
}

impl Rule {
    /// Whether so many messages in a row are enough. Silence has no messages.
    pub(crate) fn is_enough(&self, in_a_row: u32) -> bool {
        in_a_row >= self.at_least || self.at_least <= 1
    }
}

//! The machine: one rule over many subjects.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use rustc_hash::FxHashMap;

use crate::Subject;
use crate::condition::Taken;
use crate::rule::{AtMs, Compared, Rule, Test, Value};
use crate::state::State;

/// A value of a source.
pub type Sample = (u16, Value);

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventKind {
    /// An alert opened.
    Opened,
    /// The last alert opened again, soon after it was cleared.
    Reopened,
    /// The alert was cleared.
    Cleared,
}

/// How a condition stood.
#[derive(Debug, Clone, PartialEq)]
pub struct Cause {
    /// Whether it held.
    pub holds: bool,
    /// The last value of its source.
    pub value: Option<Value>,
    /// When that was.
    pub at: Option<AtMs>,
}

/// An alert opened, or was cleared.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// The device or gateway.
    pub subject: Subject,
    /// What happened.
    pub kind: EventKind,
    /// When the alert's conditions began to hold. With the rule and the subject it names the alert.
    pub crossing: AtMs,
    /// When it happened.
    pub at: AtMs,
    /// How each condition stood, in the rule's order.
    pub causes: Vec<Cause>,
}

/// Values that did not count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct LeftOut {
    /// Not younger than the last one of their source.
    pub late: u64,
    /// NaN or infinite.
    pub not_finite: u64,
    /// Of another kind than the condition is on.
    pub other_kind: u64,
}

/// One rule over many subjects.
///
/// Values of one subject come in order of time. Those of several may come in any order: a subject's own timers are looked at
/// before its values. So what happens does not depend on how often [`Machine::advance`] is called.
#[derive(Debug)]
pub struct Machine {
    rule: Rule,
    states: FxHashMap<Subject, State>,
    /// Sources of others that conditions compare with, and their latest values.
    compared: Vec<(Subject, u16)>,
    others: FxHashMap<(Subject, u16), (AtMs, f64)>,
    timers: BinaryHeap<Reverse<(AtMs, Subject)>>,
    changed: Vec<Subject>,
    left_out: LeftOut,
}

impl Machine {
    /// A machine that watches nothing yet.
    pub fn new(rule: Rule) -> Self {
        let compared = rule.conditions.iter().filter_map(|condition| match condition.test {
            Test::Differs { from: Compared::With { subject, .. }, .. } => Some((subject, condition.source)),
            _ => None,
        });
        let compared = compared.collect();
        Self {
            rule,
            states: FxHashMap::default(),
            compared,
            others: FxHashMap::default(),
            timers: BinaryHeap::new(),
            changed: Vec::new(),
            left_out: LeftOut::default(),
        }
    }

    /// The rule.
    pub fn rule(&self) -> &Rule {
        &self.rule
    }

    /// Values that did not count so far.
    pub fn left_out(&self) -> LeftOut {
        self.left_out
    }

    /// Watches a subject from a time on: its silence is counted from there. One that is watched already stays as it is.
    pub fn watch(&mut self, subject: Subject, from: AtMs) {
        let Self { rule, states, timers, .. } = self;
        let state = states.entry(subject).or_insert_with(|| State::new(rule, from));
        arm(timers, rule, (subject, state), from);
    }

    /// Puts back what was stored of a subject. False if it is of a rule with other conditions: then nothing is changed.
    pub fn restore(&mut self, subject: Subject, mut state: State) -> bool {
        if state.seen.len() != self.rule.conditions.len() {
            return false;
        }
        (state.due, state.changed) = (None, false);
        let latest = state.seen.iter().filter_map(|seen| seen.at).chain([state.from]).max().unwrap_or_default();
        arm(&mut self.timers, &self.rule, (subject, &mut state), latest);
        self.states.insert(subject, state);
        true
    }

    /// What is known of a subject.
    pub fn state(&self, subject: Subject) -> Option<&State> {
        self.states.get(&subject)
    }

    /// The subjects that are watched.
    pub fn subjects(&self) -> impl Iterator<Item = Subject> {
        self.states.keys().copied()
    }

    /// The subjects whose state has changed since this was last asked: they are to be stored.
    pub fn take_changed(&mut self) -> Vec<Subject> {
        for subject in &self.changed {
            if let Some(state) = self.states.get_mut(subject) {
                state.changed = false;
            }
        }
        std::mem::take(&mut self.changed)
    }

    /// Stops to watch a subject; an alert that is open is cleared.
    pub fn forget(&mut self, subject: Subject, at: AtMs, events: &mut Vec<Event>) {
        if let Some(mut state) = self.states.remove(&subject)
            && let Some(crossing) = state.open.take()
        {
            events.push(event(&state, (subject, EventKind::Cleared), crossing, at));
        }
    }

    /// Takes the values of one message of a subject, which is watched from then on if it was not.
    pub fn apply(&mut self, subject: Subject, at: AtMs, samples: &[Sample], events: &mut Vec<Event>) {
        for (source, value) in samples {
            if self.compared.contains(&(subject, *source))
                && let Some(number) = value.number().filter(|number| number.is_finite())
            {
                let latest = self.others.entry((subject, *source)).or_insert((at, number));
                if latest.0 <= at {
                    *latest = (at, number);
                }
            }
        }
        let Self { rule, states, others, timers, left_out, changed, .. } = self;
        let state = states.entry(subject).or_insert_with(|| State::new(rule, at));
        let before = (state.since, state.open);
        while let Some(due) = state.due.filter(|due| *due <= at) {
            wake(timers, rule, (subject, state), due, events);
        }
        let mut counted = false;
        for (place, condition) in rule.conditions.iter().enumerate() {
            let Some((_, value)) = samples.iter().find(|(source, _)| *source == condition.source) else { continue };
            let other = match condition.test {
                Test::Differs { from: Compared::With { subject, within_ms }, .. } => others
                    .get(&(subject, condition.source))
                    .filter(|(then, _)| at.since(*then) <= within_ms)
                    .map(|(_, number)| *number),
                _ => None,
            };
            match state.seen[place].take(&condition.test, (value, at), other) {
                Taken::Counted => counted = true,
                Taken::Late => left_out.late += 1,
                Taken::NotFinite => left_out.not_finite += 1,
                Taken::OtherKind => {
                    left_out.other_kind += 1;
                    counted = true;
                }
            }
        }
        if counted {
            settle(rule, (subject, state), (at, true), events);
            arm(timers, rule, (subject, state), at);
        }
        // A timer may have opened an alert although no value counts.
        if counted || before != (state.since, state.open) {
            mark(changed, (subject, state));
        }
    }

    /// All messages up to `now` were taken: what is due without a value, happens.
    pub fn advance(&mut self, now: AtMs, events: &mut Vec<Event>) {
        let Self { rule, states, timers, changed, .. } = self;
        while let Some(Reverse((due, subject))) = timers.peek().copied().filter(|Reverse((due, _))| *due <= now) {
            timers.pop();
            let Some(state) = states.get_mut(&subject).filter(|state| state.due == Some(due)) else { continue };
            let before = (state.since, state.open);
            wake(timers, rule, (subject, state), due, events);
            if before != (state.since, state.open) {
                mark(changed, (subject, state));
            }
        }
    }

    /// When [`Machine::advance`] is to be called next.
    pub fn next(&self) -> Option<AtMs> {
        self.timers.peek().map(|Reverse((due, _))| *due)
    }
}

/// Remembers that a subject's state is to be stored.
fn mark(changed: &mut Vec<Subject>, (subject, state): (Subject, &mut State)) {
    if !state.changed {
        state.changed = true;
        changed.push(subject);
    }
}

/// A subject's timer fires.
fn wake(
    timers: &mut BinaryHeap<Reverse<(AtMs, Subject)>>,
    rule: &Rule,
    (subject, state): (Subject, &mut State),
    due: AtMs,
    events: &mut Vec<Event>,
) {
    state.due = None;
    state.fall_silent(rule, due);
    settle(rule, (subject, state), (due, false), events);
    arm(timers, rule, (subject, state), due);
}

/// Sets a subject's timer. Each subject has one; when it fires too early, it is set again.
fn arm(
    timers: &mut BinaryHeap<Reverse<(AtMs, Subject)>>,
    rule: &Rule,
    (subject, state): (Subject, &mut State),
    now: AtMs,
) {
    let Some(next) = state.next(rule, now) else { return };
    if state.due.is_none_or(|due| next < due) {
        state.due = Some(next);
        timers.push(Reverse((next, subject)));
    }
}

/// Opens or clears the alert, as the conditions say.
fn settle(
    rule: &Rule,
    (subject, state): (Subject, &mut State),
    (at, by_message): (AtMs, bool),
    events: &mut Vec<Event>,
) {
    if !state.holds(rule.combine) {
        (state.since, state.in_a_row) = (None, 0);
        if let Some(crossing) = state.open.take() {
            state.last = Some((crossing, at));
            events.push(event(state, (subject, EventKind::Cleared), crossing, at));
        }
        return;
    }
    let since = *state.since.get_or_insert(at);
    if by_message {
        state.in_a_row = state.in_a_row.saturating_add(1);
    }
    let ripe = at.since(since) >= rule.hold_ms && rule.is_enough(state.in_a_row);
    if state.open.is_some() || !ripe || rule.active.as_ref().is_some_and(|active| !active.covers(at)) {
        return;
    }
    let same = state.last.filter(|(_, cleared)| since.since(*cleared) < rule.reopen_within_ms);
    let (kind, crossing) = match same {
        Some((crossing, _)) => (EventKind::Reopened, crossing),
        None => (EventKind::Opened, since),
    };
    state.open = Some(crossing);
    events.push(event(state, (subject, kind), crossing, at));
}

fn event(state: &State, (subject, kind): (Subject, EventKind), crossing: AtMs, at: AtMs) -> Event {
    let cause = |seen: &crate::condition::Seen| Cause { holds: seen.holds, value: seen.value.clone(), at: seen.at };
    Event { subject, kind, crossing, at, causes: state.seen.iter().map(cause).collect() }
}

//! A rule tried on the past.

use crate::Subject;
use crate::machine::{Event, EventKind, Machine, Sample};
use crate::rule::{AtMs, Rule};

/// One time that an alert would have been open.
#[derive(Debug, Clone, PartialEq)]
pub struct Firing {
    /// What opened it.
    pub opened: Event,
    /// When it was cleared; `None` if it would be open still.
    pub cleared: Option<AtMs>,
}

/// Tries a rule on messages in order of time, from `from` until `until`: when it would have fired. `watched` are those that are
/// watched from the beginning, so that silence is found also of who says nothing at all.
pub fn run<'a>(
    rule: Rule,
    watched: impl IntoIterator<Item = Subject>,
    messages: impl IntoIterator<Item = (Subject, AtMs, &'a [Sample])>,
    (from, until): (AtMs, AtMs),
) -> Vec<Firing> {
    let mut machine = Machine::new(rule);
    watched.into_iter().for_each(|subject| machine.watch(subject, from));
    let (mut events, mut firings) = (Vec::new(), Vec::<Firing>::new());
    for (subject, at, samples) in messages {
        machine.advance(at, &mut events);
        machine.apply(subject, at, samples, &mut events);
        events.drain(..).for_each(|event| take(&mut firings, event));
    }
    machine.advance(until, &mut events);
    events.into_iter().for_each(|event| take(&mut firings, event));
    firings
}

fn take(firings: &mut Vec<Firing>, event: Event) {
    if event.kind == EventKind::Cleared {
        let open = firings.iter_mut().rev().find(|one| one.opened.subject == event.subject);
        if let Some(open) = open.filter(|one| one.cleared.is_none()) {
            open.cleared = Some(event.at);
        }
    } else {
        firings.push(Firing { opened: event, cleared: None });
    }
}

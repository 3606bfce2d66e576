//! Finding what the database refuses as data in a group: the group is halved until it stands alone.
//!
//! One row must not stop the network. What the engine keeps of one device belongs together and stays in order, so it is
//! one piece; a device whose state cannot be stored is not served any more. Rows of the history are pieces of their
//! own.

use std::collections::HashMap;

use engine::{Change, Transmitter};
use lorawan::Eui64;

use super::{Activity, Batch, DecodeFailure, Mark, StoredMessage, StoredReading};

/// The owner of the state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Subject {
    /// A device.
    Device(Eui64),
    /// A multicast group.
    Group(Eui64),
    /// A gateway.
    Gateway(Eui64),
}

impl Subject {
    /// The owner of the state that a change is about.
    fn of(change: &Change) -> Self {
        match change {
            Change::Session { dev_eui, .. }
            | Change::Nonces { dev_eui, .. }
            | Change::Began { dev_eui, .. }
            | Change::Ended { dev_eui, .. }
            | Change::Counters { dev_eui, .. }
            | Change::Settings { dev_eui, .. }
            | Change::Outbox { dev_eui, .. }
            | Change::Near { dev_eui, .. } => Self::Device(*dev_eui),
            Change::GroupCounter { group, .. } => Self::Group(*group),
            Change::Airtime { transmitter, .. } => match transmitter {
                Transmitter::Gateway(eui) => Self::Gateway(*eui),
                Transmitter::Device(eui) | Transmitter::Towards(eui) => Self::Device(*eui),
            },
        }
    }
}

/// A row that the database refuses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refused {
    /// State of a device, group or gateway.
    State {
        /// Its owner.
        subject: Subject,
        /// The database's error.
        why: String,
    },
    /// A row of the history.
    Row {
        /// Its content.
        row: String,
        /// The database's error.
        why: String,
    },
}

#[derive(Debug, Clone)]
enum Piece {
    State(Subject, Vec<Change>),
    Message(StoredMessage),
    Reading(StoredReading),
    Failure(DecodeFailure),
    Activity(Eui64, Activity),
}

/// A part of a group, written in one transaction.
#[derive(Debug)]
pub struct Part(Vec<Piece>);

impl Part {
    /// The rows of the transaction.
    pub fn batch(&self) -> Batch {
        let mut batch = Batch::default();
        for piece in self.0.iter().cloned() {
            match piece {
                Piece::State(_, changes) => batch.changes.extend(changes),
                Piece::Message(message) => batch.messages.push(message),
                Piece::Reading(reading) => batch.readings.push(reading),
                Piece::Failure(failure) => batch.failures.push(failure),
                Piece::Activity(dev_eui, activity) => batch.activity.push((dev_eui, activity)),
            }
        }
        batch
    }
}

/// A group that is written in parts.
#[derive(Debug)]
pub struct Split {
    /// The next one last.
    parts: Vec<Part>,
    mark: Option<Mark>,
}

impl Split {
    /// Cuts a group into its pieces.
    pub fn of(batch: Batch) -> Self {
        let mut states: Vec<(Subject, Vec<Change>)> = Vec::new();
        let mut places: HashMap<Subject, usize> = HashMap::new();
        for change in batch.changes {
            let subject = Subject::of(&change);
            let place = *places.entry(subject).or_insert_with(|| {
                states.push((subject, Vec::new()));
                states.len() - 1
            });
            states[place].1.push(change);
        }
        let mut pieces: Vec<Piece> = states.into_iter().map(|(subject, all)| Piece::State(subject, all)).collect();
        pieces.extend(batch.messages.into_iter().map(Piece::Message));
        pieces.extend(batch.readings.into_iter().map(Piece::Reading));
        pieces.extend(batch.failures.into_iter().map(Piece::Failure));
        pieces.extend(batch.activity.into_iter().map(|(dev_eui, activity)| Piece::Activity(dev_eui, activity)));
        let mut split = Self { parts: Vec::new(), mark: batch.mark };
        split.halve(pieces);
        split
    }

    fn halve(&mut self, mut pieces: Vec<Piece>) {
        let later = pieces.split_off(pieces.len() / 2);
        self.parts.extend([later, pieces].into_iter().filter(|part| !part.is_empty()).map(Part));
    }

    /// The next part to be written.
    pub fn next_part(&mut self) -> Option<Part> {
        self.parts.pop()
    }

    /// A part is refused: returns it if it is a single piece; otherwise its halves come next.
    pub fn refused(&mut self, part: Part, why: &str) -> Option<Refused> {
        let Part(mut pieces) = part;
        if pieces.len() > 1 {
            self.halve(pieces);
            return None;
        }
        let why = why.to_owned();
        pieces.pop().map(|piece| match piece {
            Piece::State(subject, _) => Refused::State { subject, why },
            other => Refused::Row { row: format!("{other:?}"), why },
        })
    }

    /// What is written last, so that a service killed halfway hears all of it again.
    pub fn mark(&self) -> Batch {
        Batch { mark: self.mark, ..Batch::default() }
    }
}

#[cfg(test)]
mod tests {
    use engine::Counters;
    use proptest::prelude::*;

    use super::*;

    fn batch(devices: &[u64]) -> Batch {
        let change = |(n, dev): (usize, &u64)| {
            let counters = Counters { next_down: n as u32, ..Counters::default() };
            Change::Counters { dev_eui: Eui64(*dev), counters }
        };
        let failure = |dev: &u64| DecodeFailure {
            dev_eui: Eui64(*dev),
            model: String::new(),
            message_id: String::new(),
            at: chrono::DateTime::UNIX_EPOCH,
            why: String::new(),
        };
        Batch {
            changes: devices.iter().enumerate().map(change).collect(),
            failures: devices.iter().map(failure).collect(),
            mark: Some(Mark { position: 7, ..Mark::default() }),
            ..Batch::default()
        }
    }

    proptest! {
        /// For any set of refused rows, all others are written, in order for each device, and the refused ones are
        /// reported.
        #[test]
        fn everything_but_what_is_refused_is_written_once_and_in_order(
            devices in prop::collection::vec(0u64..12, 0..60), bad in prop::collection::hash_set(0u64..12, 0..4),
        ) {
            let mut split = Split::of(batch(&devices));
            let (mut written, mut refused, mut tries) = (Batch::default(), Vec::new(), 0);
            while let Some(part) = split.next_part() {
                tries += 1;
                let tried = part.batch();
                let takes = |change: &Change| matches!(Subject::of(change), Subject::Device(eui) if !bad.contains(&eui.0));
                if tried.changes.iter().all(takes) {
                    written.append(tried);
                } else {
                    refused.extend(split.refused(part, "too long"));
                }
            }
            let mut expected: Vec<Subject> = devices.iter().filter(|d| bad.contains(d)).map(|d| Subject::Device(Eui64(*d))).collect();
            expected.sort_by_key(|s| format!("{s:?}"));
            expected.dedup();
            let mut told: Vec<Subject> = refused.iter().map(|r| match r {
                Refused::State { subject, .. } => *subject,
                Refused::Row { row, .. } => panic!("{row}"),
            }).collect();
            told.sort_by_key(|s| format!("{s:?}"));
            prop_assert_eq!(&told, &expected);
            prop_assert_eq!(written.failures.len(), devices.len());
            for device in 0..12 {
                let counters: Vec<u32> = written.changes.iter().filter_map(|c| match c {
                    Change::Counters { dev_eui, counters } if dev_eui.0 == device => Some(counters.next_down),
                    _ => None,
                }).collect();
                let wanted = devices.iter().filter(|d| **d == device && !bad.contains(&device)).count();
                prop_assert_eq!(counters.len(), wanted);
                prop_assert!(counters.is_sorted());
            }
            prop_assert!(tries <= 2 * (told.len() + 1) * 8 + 2);
            prop_assert_eq!(split.mark().mark.unwrap().position, 7);
        }
    }
}

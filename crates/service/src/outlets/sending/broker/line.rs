//! The connection that an outlet publishes by. It is made when there is something to publish, and stays.
//!
//! A connection that ends takes with it what is under way on it: nobody knows what the broker has of that. The outlet sends it
//! again, on another connection and in a session of its own, so that the broker mistakes nothing for a repetition (MQTT 5.0
//! §4.4).

use std::collections::{HashMap, VecDeque};
use std::time::{Duration, Instant};

use anyhow::Result;
use tokio::sync::{mpsc, oneshot};
use tokio_util::sync::CancellationToken;

use super::client::{Connection, MOST_ON_WAY, News, Publication};
use super::{Reach, caught};
use crate::outlets::sending::Outcome;

/// How long the broker may take to acknowledge.
pub(super) const ANSWER: Duration = Duration::from_secs(10);
/// Requests that wait for the connection.
pub(super) const MOST_WAITING: usize = 64;

/// Publications that are wanted together.
pub(super) struct Wanted {
    pub publications: Vec<Publication>,
    pub done: oneshot::Sender<Outcome>,
}

/// What is under way of one request.
struct Group {
    open: usize,
    several: bool,
    refused: Option<String>,
    until: Instant,
    done: oneshot::Sender<Outcome>,
}

/// What is under way on one connection.
#[derive(Default)]
struct UnderWay {
    groups: HashMap<u64, Group>,
    next: u64,
    /// The groups of publications that were handed over and have no number yet, in order.
    handed: VecDeque<u64>,
    numbered: HashMap<u16, u64>,
}

impl UnderWay {
    fn len(&self) -> usize {
        self.handed.len() + self.numbered.len()
    }

    /// Hands a request over.
    fn begin(&mut self, connection: &Connection, wanted: Wanted) {
        let (id, several) = (self.next, wanted.publications.len() > 1);
        self.next += 1;
        let mut group = Group { open: 0, several, refused: None, until: Instant::now() + ANSWER, done: wanted.done };
        for publication in wanted.publications {
            if !connection.takes(&publication) {
                group.refused = Some(format!("{} bytes are too long for the broker", publication.payload.len()));
                continue;
            }
            match connection.publish(publication) {
                Ok(()) => {
                    group.open += 1;
                    self.handed.push_back(id);
                }
                Err(why) => group.refused = Some(why.to_string()),
            }
        }
        match group.open {
            0 => group.end(),
            _ => drop(self.groups.insert(id, group)),
        }
    }

    /// A publication went out; with quality of service 0 that is all there is.
    fn sent(&mut self, number: u16) {
        let Some(id) = self.handed.pop_front() else { return };
        match number {
            0 => self.one_done(id, Ok(())),
            number => drop(self.numbered.insert(number, id)),
        }
    }

    fn answered(&mut self, number: u16, answer: Result<(), String>) {
        if let Some(id) = self.numbered.remove(&number) {
            self.one_done(id, answer);
        }
    }

    fn one_done(&mut self, id: u64, answer: Result<(), String>) {
        let Some(group) = self.groups.get_mut(&id) else { return };
        group.open -= 1;
        if let Err(why) = answer {
            group.refused = Some(why);
        }
        if group.open == 0
            && let Some(group) = self.groups.remove(&id)
        {
            group.end();
        }
    }

    /// When an acknowledgement is late.
    fn late(&self) -> Option<Instant> {
        self.groups.values().map(|group| group.until).min()
    }

    /// The connection has ended. What was under way alone may be why, so that it is not waited for without end; of several it
    /// is not known which.
    fn lost(self, why: &str) {
        for group in self.groups.into_values() {
            let outcome = match group.several {
                true => Outcome::Refused(why.to_owned()),
                false => Outcome::Away(why.to_owned(), None),
            };
            let _ = group.done.send(outcome);
        }
    }
}

impl Group {
    fn end(self) {
        let outcome = self.refused.map_or(Outcome::Taken, Outcome::Refused);
        let _ = self.done.send(outcome);
    }
}

/// Publishes what is wanted until nobody can want anything any more.
pub(super) async fn publish_all(reach: Reach, mut wanted: mpsc::Receiver<Wanted>, stopping: CancellationToken) {
    while let Some(first) = wanted.recv().await {
        match reach.open().await {
            Ok((connection, _passage)) => {
                let ended = caught(async {
                    publish_by(connection, first, &mut wanted, &stopping).await.map_err(|why| anyhow::anyhow!(why))
                });
                if let Err(why) = ended.await {
                    tracing::debug!("the connection of {} to its broker has ended: {why}", reach.identity.client_id);
                }
            }
            Err(why) => {
                let why = format!("{why:#}");
                let _ = first.done.send(Outcome::Unreached(why.clone()));
                while let Ok(next) = wanted.try_recv() {
                    let _ = next.done.send(Outcome::Unreached(why.clone()));
                }
            }
        }
    }
}

/// Publishes by one connection, for as long as that lasts.
async fn publish_by(
    mut connection: Connection,
    first: Wanted,
    wanted: &mut mpsc::Receiver<Wanted>,
    stopping: &CancellationToken,
) -> Result<(), String> {
    let mut under_way = UnderWay::default();
    under_way.begin(&connection, first);
    loop {
        let late = under_way.late().unwrap_or_else(|| Instant::now() + ANSWER * 6);
        let has_room = under_way.len() + super::MOST <= MOST_ON_WAY;
        let news = tokio::select! {
            news = connection.next() => news,
            next = wanted.recv(), if has_room => match next {
                Some(next) => {
                    under_way.begin(&connection, next);
                    continue;
                }
                None => {
                    connection.close().await;
                    return Ok(());
                }
            },
            () = tokio::time::sleep_until(late.into()) => match under_way.groups.is_empty() {
                true => continue,
                false => Err(format!("the broker has acknowledged nothing for {} s", ANSWER.as_secs())),
            },
            () = stopping.cancelled(), if under_way.groups.is_empty() => {
                connection.close().await;
                return Ok(());
            }
        };
        match news {
            Ok(News::Sent(number)) => under_way.sent(number),
            Ok(News::Answered(number, answer)) => under_way.answered(number, answer),
            Ok(News::Subscribed(_) | News::Came(_) | News::Other) => {}
            Err(why) => {
                under_way.lost(&why);
                return Err(why);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(several: bool, open: usize) -> (Group, oneshot::Receiver<Outcome>) {
        let (done, outcome) = oneshot::channel();
        (Group { open, several, refused: None, until: Instant::now(), done }, outcome)
    }

    fn with(groups: Vec<Group>) -> UnderWay {
        let handed = groups.iter().enumerate().flat_map(|(id, group)| std::iter::repeat_n(id as u64, group.open));
        let handed = handed.collect();
        let groups = groups.into_iter().enumerate().map(|(id, group)| (id as u64, group)).collect();
        UnderWay { groups, handed, ..UnderWay::default() }
    }

    #[test]
    fn a_request_is_taken_once_all_of_it_is_acknowledged() {
        let ((first, mut first_done), (second, mut second_done)) = (group(true, 2), group(false, 1));
        let mut under_way = with(vec![first, second]);
        [4, 5, 6].into_iter().for_each(|number| under_way.sent(number));
        under_way.answered(6, Ok(()));
        assert_eq!(second_done.try_recv(), Ok(Outcome::Taken));
        under_way.answered(4, Ok(()));
        assert!(first_done.try_recv().is_err());
        under_way.answered(5, Err("quota exceeded".into()));
        assert_eq!(first_done.try_recv(), Ok(Outcome::Refused("quota exceeded".into())));
        under_way.answered(9, Ok(()));
        assert_eq!(under_way.len(), 0);
    }

    #[test]
    fn without_acknowledgements_what_went_out_is_done() {
        let (only, mut done) = group(true, 2);
        let mut under_way = with(vec![only]);
        under_way.sent(0);
        assert!(done.try_recv().is_err());
        under_way.sent(0);
        assert_eq!(done.try_recv(), Ok(Outcome::Taken));
    }

    #[test]
    fn what_is_under_way_when_the_connection_ends_is_sent_again() {
        let ((several, mut several_done), (alone, mut alone_done)) = (group(true, 2), group(false, 1));
        let mut under_way = with(vec![several, alone]);
        under_way.sent(1);
        under_way.lost("closed");
        assert_eq!(several_done.try_recv(), Ok(Outcome::Refused("closed".into())));
        assert_eq!(alone_done.try_recv(), Ok(Outcome::Away("closed".into(), None)));
    }
}

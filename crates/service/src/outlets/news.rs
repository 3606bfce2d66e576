//! What is known of a running outlet: its state and its last deliveries.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use api::outlet::{CommandTaken, CommandsState, Delivery, OutletState};
use chrono::{DateTime, Utc};

/// Deliveries, and commands, that are kept for people to look at.
const MOST_DELIVERIES: usize = 20;
/// The rate is one of this time, which is counted in parts.
const SPAN: Duration = Duration::from_secs(300);
const PART: Duration = Duration::from_secs(30);

/// What a running outlet shares with those who ask about it.
pub(crate) type SharedNews = Arc<Mutex<OutletNews>>;

pub(super) fn locked(news: &SharedNews) -> MutexGuard<'_, OutletNews> {
    news.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What is told of an outlet.
#[derive(Debug)]
pub(crate) struct OutletNews {
    pub state: OutletState,
    pub since: DateTime<Utc>,
    pub why: Option<String>,
    pub next_try: Option<DateTime<Utc>>,
    pub delivered: u64,
    pub last_delivered: Option<DateTime<Utc>>,
    /// Messages that were given up.
    pub dead_letters: u64,
    /// Messages that it is at.
    pub waiting: u64,
    /// All messages up to this number were looked at.
    pub read_until: u64,
    /// When the oldest message that it is at happened.
    pub oldest: Option<DateTime<Utc>>,
    /// Whether commands are taken, if the outlet takes some.
    pub commands: Option<CommandsState>,
    taken: VecDeque<CommandTaken>,
    deliveries: VecDeque<Delivery>,
    parts: VecDeque<(Instant, u64)>,
}

impl OutletNews {
    pub(super) fn new(read_until: u64) -> Self {
        Self {
            state: OutletState::Delivering,
            since: Utc::now(),
            why: None,
            next_try: None,
            delivered: 0,
            last_delivered: None,
            dead_letters: 0,
            waiting: 0,
            read_until,
            oldest: None,
            commands: None,
            taken: VecDeque::new(),
            deliveries: VecDeque::new(),
            parts: VecDeque::new(),
        }
    }

    /// It does something else from now on.
    pub(super) fn becomes(&mut self, state: OutletState, why: Option<String>) {
        if self.state != state {
            (self.state, self.since) = (state, Utc::now());
        }
        self.why = why;
    }

    /// Notes a delivery, or a try at one.
    pub(super) fn note(&mut self, delivery: Delivery, now: Instant) {
        if delivery.delivered {
            let count = delivery.messages.len() as u64;
            self.delivered += count;
            self.last_delivered = Some(Utc::now());
            match self.parts.back_mut().filter(|(begun, _)| now.duration_since(*begun) < PART) {
                Some((_, part)) => *part += count,
                None => self.parts.push_back((now, count)),
            }
            self.forget(now);
        }
        self.deliveries.push_front(delivery);
        self.deliveries.truncate(MOST_DELIVERIES);
    }

    /// Notes a command and its answer.
    pub(super) fn note_command(&mut self, command: CommandTaken) {
        self.taken.push_front(command);
        self.taken.truncate(MOST_DELIVERIES);
    }

    /// The last commands, newest first.
    pub(super) fn commands_taken(&self) -> Vec<CommandTaken> {
        self.taken.iter().cloned().collect()
    }

    /// Messages delivered a minute, over the last minutes.
    pub(super) fn a_minute(&mut self, now: Instant) -> f64 {
        self.forget(now);
        self.parts.iter().map(|(_, count)| *count).sum::<u64>() as f64 / (SPAN.as_secs_f64() / 60.0)
    }

    fn forget(&mut self, now: Instant) {
        while self.parts.front().is_some_and(|(begun, _)| now.duration_since(*begun) > SPAN) {
            self.parts.pop_front();
        }
    }

    /// Why the last delivery that failed did; without one, why it does not deliver.
    pub(super) fn last_failure(&self) -> Option<String> {
        self.deliveries.iter().find_map(|delivery| delivery.why.clone()).or_else(|| self.why.clone())
    }

    /// The last deliveries, newest first.
    pub(super) fn deliveries(&self) -> Vec<Delivery> {
        self.deliveries.iter().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use api::outlet::MadeRequest;

    use super::*;

    fn delivery(delivered: bool, messages: usize) -> Delivery {
        let messages = vec!["01K".to_owned(); messages];
        Delivery {
            at: Utc::now(),
            delivered,
            why: None,
            took_ms: 1.0,
            messages,
            request: MadeRequest::default(),
            answer: None,
        }
    }

    #[test]
    fn the_rate_is_of_the_last_five_minutes() {
        let (mut news, start) = (OutletNews::new(0), Instant::now());
        for second in 0..600 {
            news.note(delivery(true, 2), start + Duration::from_secs(second));
        }
        news.note(delivery(false, 2), start + Duration::from_secs(600));
        let rate = news.a_minute(start + Duration::from_secs(600));
        assert!((120.0..135.0).contains(&rate), "{rate}");
        assert_eq!(news.a_minute(start + Duration::from_secs(2_000)), 0.0);
        assert_eq!((news.delivered, news.deliveries().len()), (1_200, MOST_DELIVERIES));
        assert!(!news.deliveries()[0].delivered, "the newest first");
    }

    #[test]
    fn a_state_lasts_since_it_began() {
        let mut news = OutletNews::new(0);
        let before = news.since;
        news.becomes(OutletState::Delivering, None);
        assert_eq!(news.since, before);
        news.becomes(OutletState::Failing, Some("no connection".into()));
        assert!(news.since >= before && news.why.is_some());
    }
}

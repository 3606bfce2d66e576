//! One outlet at work: it reads on in the order of commits, delivers, and notes how far it has come.
//!
//! What it has delivered is noted at least every second, so that after a kill it delivers the messages of the last second once
//! more and misses none: delivery is at least once, and a message's id tells repetitions.

use std::collections::{BTreeMap, HashSet, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use api::outlet::{Delivery, OutletState};
use chrono::{TimeDelta, Utc};
use lorawan::Eui64;
use store::{NewLetter, OutletRow, Paused, Progress, Store, StoreError, WrittenMessage};
use tokio::sync::mpsc;
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

use crate::outlets::letter::LetterAbout;
use crate::outlets::news::{SharedNews, locked};
use crate::outlets::reader::Reader;
use crate::outlets::sending::{Outcome, Sender};
use crate::outlets::window::{Item, Window};
use crate::pipeline::recent::Recent;

mod reading;

pub(super) use reading::Ration;

/// How often it is noted how far the outlet has come.
const NOTE_EVERY: Duration = Duration::from_secs(1);
/// How long answers are waited for when the outlet ends.
const LAST_ANSWERS: Duration = Duration::from_secs(3);
/// Before the database is asked again.
const DATABASE_RETRY: Duration = Duration::from_secs(5);
/// Pauses before another try: longer each time, and each longer or shorter by up to a quarter, so that many outlets of one
/// server do not come at the same time.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(300);
/// After so many refusals with nothing taken in between, the other side is left alone for a while.
const MANY_REFUSED: u32 = 10;
/// Rehearsals and dead letters that wait to be sent.
pub(super) const MOST_EXTRA: usize = 10_000;

/// What is sent beside what comes in order.
#[derive(Debug)]
pub(super) enum Extra {
    /// A rehearsal: it is sent once.
    Rehearsal(Arc<WrittenMessage>),
    /// A dead letter, by its number.
    Letter(u64),
}

/// An outlet at work.
pub(super) struct Task {
    pub row: OutletRow,
    pub sender: Arc<Sender>,
    pub store: Store,
    pub recent: Arc<Recent>,
    pub ration: Arc<Ration>,
    pub news: SharedNews,
    pub extra: mpsc::Receiver<Extra>,
    pub stopping: CancellationToken,
}

/// A request that is over.
enum Ended {
    InOrder { items: Vec<Item>, outcome: Outcome, delivery: Box<Delivery> },
    Extra { letter: Option<u64>, outcome: Outcome, delivery: Box<Delivery> },
}

/// What a task keeps while it runs.
struct Work {
    window: Window,
    reader: Reader,
    under_way: JoinSet<Ended>,
    in_order: usize,
    extra: VecDeque<Extra>,
    extra_under_way: bool,
    /// The other side takes nothing until then.
    hold: Option<Instant>,
    /// Tries in a row that came to nothing: without an answer, or refused.
    unreached: u32,
    refused: u32,
    noted: Progress,
    note_at: Instant,
    read_at: Instant,
    tagged: HashSet<Eui64>,
    tagged_at: Option<Instant>,
    /// When a message that waits for others goes without them.
    gather_until: Option<Instant>,
}

fn pause(tries: u32) -> Duration {
    let longer = FIRST_PAUSE.saturating_mul(1 << tries.saturating_sub(1).min(16)).min(LONGEST_PAUSE);
    longer.mul_f64(rand::random_range(0.75..1.25))
}

impl Task {
    /// Works until the service stops, or the outlet is changed, paused or removed. Requests that are under way are waited
    /// for, within limits: what comes of them is noted.
    pub(super) async fn run(mut self) {
        let mut work = match self.begin().await {
            Some(work) => work,
            None => return,
        };
        while !self.stopping.is_cancelled() {
            self.read(&mut work).await;
            self.start(&mut work);
            self.tell(&work);
            let wake = self.wake(&work);
            let has_room = self.may_read(&work) > 0;
            tokio::select! {
                () = self.stopping.cancelled() => break,
                Some(ended) = work.under_way.join_next() => self.take(&mut work, ended).await,
                Some(extra) = self.extra.recv(), if work.extra.len() < MOST_EXTRA => work.extra.push_back(extra),
                () = work.reader.more(), if has_room => {}
                () = tokio::time::sleep_until(wake.into()) => {}
            }
            self.note(&mut work, false).await;
        }
        let patience = tokio::time::sleep(LAST_ANSWERS);
        tokio::pin!(patience);
        loop {
            tokio::select! {
                ended = work.under_way.join_next() => match ended {
                    Some(ended) => self.take(&mut work, ended).await,
                    None => break,
                },
                // What has no answer by then is sent again when the outlet starts again.
                () = &mut patience => break,
            }
        }
        self.note(&mut work, true).await;
    }

    /// Takes up what was under way when the service ended.
    async fn begin(&self) -> Option<Work> {
        let Progress { position, undone, tried } = self.row.progress.clone();
        let mut window = Window::after(0);
        loop {
            let both = async {
                let messages = self.store.told_of(self.row.estate_id, &undone).await?;
                Ok::<_, StoreError>((messages, self.store.count_dead_letters(self.row.id).await?))
            };
            match both.await {
                Ok((messages, dead_letters)) => {
                    locked(&self.news).dead_letters = dead_letters;
                    for message in messages {
                        window.put(Item::new(message.told, Arc::new(message.written)).tried(&tried));
                    }
                    window.pass(position);
                    let (store, recent) = (self.store.clone(), Arc::clone(&self.recent));
                    let reader = Reader::after(store, recent, self.row.estate_id, position);
                    let now = Instant::now();
                    return Some(Work {
                        window,
                        reader,
                        under_way: JoinSet::new(),
                        in_order: 0,
                        extra: VecDeque::new(),
                        extra_under_way: false,
                        hold: None,
                        unreached: 0,
                        refused: 0,
                        noted: self.row.progress.clone(),
                        note_at: now,
                        read_at: now,
                        tagged: HashSet::new(),
                        tagged_at: None,
                        gather_until: None,
                    });
                }
                Err(why) => {
                    locked(&self.news)
                        .becomes(OutletState::Failing, Some(format!("the database does not answer: {why}")));
                    tokio::select! {
                        () = tokio::time::sleep(DATABASE_RETRY) => {}
                        () = self.stopping.cancelled() => return None,
                    }
                }
            }
        }
    }

    /// Begins requests, as many as may be under way.
    fn start(&self, work: &mut Work) {
        let now = Instant::now();
        if work.hold.is_some_and(|until| until > now) {
            return;
        }
        if !work.extra_under_way
            && let Some(extra) = work.extra.pop_front()
        {
            work.extra_under_way = true;
            self.send_extra(work, extra);
        }
        if locked(&self.news).dead_letters >= domain::outlet::MOST_DEAD_LETTERS {
            return;
        }
        // While nothing is taken, one request at a time finds out whether that has changed.
        let at_once = if work.unreached > 0 || work.refused >= MANY_REFUSED { 1 } else { self.sender.at_once() };
        while work.in_order < at_once && self.is_ready(work, now) {
            let items = work.window.next(now, self.sender.most());
            if items.is_empty() {
                return;
            }
            work.in_order += 1;
            work.gather_until = None;
            let sender = Arc::clone(&self.sender);
            work.under_way.spawn(async move {
                let messages: Vec<&WrittenMessage> = items.iter().map(|item| item.written.as_ref()).collect();
                let (outcome, delivery) = sender.send(&messages).await;
                Ended::InOrder { items, outcome, delivery: Box::new(delivery) }
            });
        }
    }

    /// Whether a request is to be made now, or waits for more messages.
    fn is_ready(&self, work: &mut Work, now: Instant) -> bool {
        if self.sender.gather().is_zero() || work.window.len() >= self.sender.most() {
            return true;
        }
        if work.window.len() == 0 {
            work.gather_until = None;
            return false;
        }
        *work.gather_until.get_or_insert(now + self.sender.gather()) <= now
    }

    fn send_extra(&self, work: &mut Work, extra: Extra) {
        let (sender, store, outlet) = (Arc::clone(&self.sender), self.store.clone(), self.row.id);
        work.under_way.spawn(async move {
            let (letter, written) = match extra {
                Extra::Rehearsal(written) => (None, Ok(written)),
                Extra::Letter(id) => (Some(id), message_of(&store, outlet, id).await),
            };
            let (outcome, delivery) = match written {
                Ok(written) => sender.send(&[&written]).await,
                Err(why) => {
                    let delivery = Delivery {
                        at: Utc::now(),
                        delivered: false,
                        why: Some(why.clone()),
                        took_ms: 0.0,
                        messages: Vec::new(),
                        request: api::outlet::MadeRequest::default(),
                        answer: None,
                    };
                    (Outcome::Refused(why), delivery)
                }
            };
            Ended::Extra { letter, outcome, delivery: Box::new(delivery) }
        });
    }

    /// Takes what came of a request.
    async fn take(&mut self, work: &mut Work, ended: Result<Ended, tokio::task::JoinError>) {
        let now = Instant::now();
        match ended {
            Ok(Ended::InOrder { items, outcome, delivery }) => {
                work.in_order -= 1;
                locked(&self.news).note((*delivery).clone(), now);
                self.take_in_order(work, items, &outcome, &delivery).await;
            }
            Ok(Ended::Extra { letter, outcome, delivery }) => {
                work.extra_under_way = false;
                locked(&self.news).note((*delivery).clone(), now);
                if let Some(id) = letter {
                    self.take_letter(id, &outcome, &delivery).await;
                }
            }
            // Nobody knows what came of its messages: they are sent again when the outlet starts again.
            Err(why) => {
                tracing::error!("a request of outlet {} ended early: {why}", self.row.settings.slug);
                self.stopping.cancel();
            }
        }
    }

    async fn take_in_order(&mut self, work: &mut Work, mut items: Vec<Item>, outcome: &Outcome, delivery: &Delivery) {
        let now = Instant::now();
        for item in &mut items {
            item.tries += 1;
            if !matches!(outcome, Outcome::Unreached(_)) {
                item.first_try.get_or_insert(now);
            }
        }
        match outcome {
            Outcome::Taken => {
                (work.unreached, work.refused, work.hold) = (0, 0, None);
                return work.window.done(&items);
            }
            Outcome::Unreached(_) => {
                work.unreached += 1;
                work.hold = Some(now + pause(work.unreached));
                return work.window.back(items, now, None);
            }
            Outcome::Gone(why) => {
                work.window.back(items, now, None);
                return self.pause(&format!("the other side wants nothing any more: {why}")).await;
            }
            Outcome::Away(_, asked) => {
                work.unreached += 1;
                work.hold = Some(now + asked.unwrap_or_else(|| pause(work.unreached)));
            }
            Outcome::Refused(_) if items.len() > 1 => {
                // One of them is at fault, and it is not known which.
                items.iter_mut().for_each(|item| item.alone = true);
                return work.window.back(items, now, None);
            }
            Outcome::Refused(_) => {
                (work.unreached, work.refused) = (0, work.refused.saturating_add(1));
                if work.refused >= MANY_REFUSED {
                    work.hold = Some(now + pause(work.refused - MANY_REFUSED + 1));
                }
            }
        }
        let retry_for = self.row.settings.retry_for_s.unwrap_or(domain::outlet::RETRY_FOR_S);
        let over = |item: &Item| item.first_try.is_some_and(|at| (now - at).as_secs_f64() >= retry_for);
        let (given_up, again): (Vec<Item>, Vec<Item>) = items.into_iter().partition(over);
        let wait = again.iter().map(|item| item.tries).max().map(pause);
        work.window.back(again, now, wait);
        for item in given_up {
            self.give_up(work, item, delivery).await;
        }
    }

    /// Keeps a message as a dead letter. If that cannot be written down now, it is tried again.
    async fn give_up(&self, work: &mut Work, item: Item, delivery: &Delivery) {
        let about = LetterAbout::of(item.tries, delivery);
        let letter =
            NewLetter { told: item.told, message_id: &item.written.message.id, body: &item.written.json, about };
        match self.store.add_dead_letter(self.row.id, letter).await {
            Ok(()) => {
                locked(&self.news).dead_letters += 1;
                work.window.done(&[item]);
            }
            Err(why) => {
                tracing::warn!("a dead letter of outlet {} has to wait: {why}", self.row.settings.slug);
                work.window.back(vec![item], Instant::now(), Some(DATABASE_RETRY));
            }
        }
    }

    /// A dead letter was tried once more.
    async fn take_letter(&self, id: u64, outcome: &Outcome, delivery: &Delivery) {
        let done = match outcome {
            Outcome::Taken => {
                let removed = self.store.remove_dead_letter(self.row.id, id).await;
                let mut news = locked(&self.news);
                news.dead_letters = news.dead_letters.saturating_sub(u64::from(matches!(removed, Ok(true))));
                removed.map(drop)
            }
            // It was removed meanwhile.
            _ if delivery.messages.is_empty() => Ok(()),
            _ => match self.store.dead_letter::<LetterAbout>(self.row.id, id).await {
                Ok(Some(before)) => self.store.note_try(id, &LetterAbout::of(before.about.tries + 1, delivery)).await,
                Ok(None) => Ok(()),
                Err(why) => Err(why),
            },
        };
        if let Err(why) = done {
            // Delivered, it would be delivered once more when it is tried again.
            tracing::warn!("what came of a dead letter of outlet {} is not noted: {why}", self.row.settings.slug);
        }
    }

    /// The outlet pauses by itself.
    async fn pause(&self, why: &str) {
        let paused = Paused { at: Utc::now(), why: why.to_owned() };
        if let Err(error) = self.store.pause_outlet(self.row.id, Some(&paused)).await {
            tracing::warn!("that outlet {} is paused is not noted: {error}", self.row.settings.slug);
        }
        locked(&self.news).becomes(OutletState::Paused, Some(paused.why));
        self.stopping.cancel();
    }

    /// Notes how far it has come, if that has changed.
    async fn note(&self, work: &mut Work, last: bool) {
        if !last && work.note_at.elapsed() < NOTE_EVERY {
            return;
        }
        work.note_at = Instant::now();
        let progress = work.window.progress();
        if says_the_same(&progress, &work.noted) {
            return;
        }
        match self.store.note_progress(self.row.id, &progress).await {
            Ok(()) => work.noted = progress,
            Err(why) => tracing::debug!("how far outlet {} has come is not noted: {why}", self.row.settings.slug),
        }
    }

    /// When there is something to do at the latest.
    fn wake(&self, work: &Work) -> Instant {
        let note = work.note_at + NOTE_EVERY;
        let next_try = work.hold.into_iter().chain(work.window.next_try()).chain(work.gather_until).min();
        next_try.map_or(note, |next| note.min(next)).max(Instant::now() + Duration::from_millis(1))
    }

    /// Tells how it stands.
    fn tell(&self, work: &Work) {
        let now = Instant::now();
        let mut news = locked(&self.news);
        news.waiting = work.window.len() as u64;
        news.read_until = work.window.read_until();
        news.oldest = work.window.oldest().map(|item| item.written.message.time);
        let until = |at: Instant| {
            TimeDelta::from_std(at.saturating_duration_since(now)).map_or_else(|_| Utc::now(), |wait| Utc::now() + wait)
        };
        if news.state == OutletState::Paused {
            return;
        }
        if news.dead_letters >= domain::outlet::MOST_DEAD_LETTERS {
            let why = format!("there are {} dead letters; try them again, or remove them", news.dead_letters);
            news.becomes(OutletState::Failing, Some(why));
        } else if let Some(hold) = work.hold.filter(|_| work.unreached > 0 || work.refused >= MANY_REFUSED) {
            let why = news.last_failure();
            news.becomes(OutletState::Failing, why);
            news.next_try = Some(until(hold));
        } else if work.window.held() > 0 {
            let why = news.last_failure();
            news.becomes(OutletState::Retrying, why);
            news.next_try = work.window.next_try().map(until);
        } else {
            news.becomes(OutletState::Delivering, None);
            news.next_try = None;
        }
    }
}

/// Whether nothing has happened between the two but that time has passed.
fn says_the_same(now: &Progress, noted: &Progress) -> bool {
    let tries =
        |progress: &Progress| progress.tried.iter().map(|(told, _, tries)| (*told, *tries)).collect::<BTreeMap<_, _>>();
    (now.position, &now.undone) == (noted.position, &noted.undone) && tries(now) == tries(noted)
}

/// The message of a dead letter.
async fn message_of(store: &Store, outlet: u32, id: u64) -> Result<Arc<WrittenMessage>, String> {
    let row = store.dead_letter::<LetterAbout>(outlet, id).await.map_err(|why| why.to_string())?;
    let row = row.ok_or("the dead letter was removed")?;
    let message = serde_json::from_str(&row.body).map_err(|why| why.to_string())?;
    Ok(Arc::new(WrittenMessage { estate_id: 0, message, json: row.body }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_and_have_an_end() {
        for (tries, longest_s) in [(1, 1.25), (2, 2.5), (5, 20.0), (40, 375.0), (u32::MAX, 375.0)] {
            let pause = pause(tries).as_secs_f64();
            assert!(pause <= longest_s && pause >= longest_s * 0.6, "{tries}: {pause}");
        }
    }
}

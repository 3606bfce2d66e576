//! The messages that an outlet is at: in order for each device, some on their way, some waiting for another try.
//!
//! A message that is not taken holds up its own device and no other. Where an outlet stands is the number up to which all
//! messages were looked at, and those of them that are still to be delivered; that is what is stored.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use lorawan::Eui64;
use store::{Progress, WrittenMessage};

/// Messages that an outlet is at, at most.
pub(super) const MOST: usize = 2_000;

/// A message that is to be delivered.
#[derive(Debug, Clone)]
pub(super) struct Item {
    pub told: u64,
    pub written: Arc<WrittenMessage>,
    /// How often it was tried.
    pub tries: u32,
    /// When it was tried first.
    pub first_try: Option<Instant>,
    /// It is to have a request of its own, as one with several was refused.
    pub alone: bool,
}

impl Item {
    pub(super) fn new(told: u64, written: Arc<WrittenMessage>) -> Self {
        Self { told, written, tries: 0, first_try: None, alone: false }
    }

    /// As it was tried before the service was started.
    pub(super) fn tried(mut self, tried: &[(u64, u64, u32)]) -> Self {
        if let Some((_, for_ms, tries)) = tried.iter().find(|(told, ..)| *told == self.told) {
            self.first_try = Instant::now().checked_sub(Duration::from_millis(*for_ms));
            self.tries = *tries;
        }
        self
    }

    fn lane(&self) -> Lane {
        self.written.message.device.as_ref().map(|device| device.eui)
    }
}

/// Messages of one device go one after another, and so do those of no device.
type Lane = Option<Eui64>;

/// What an outlet is at.
#[derive(Debug, Default)]
pub(super) struct Window {
    /// What waits, by device and in order.
    lanes: HashMap<Lane, VecDeque<Item>>,
    /// The same by number.
    waiting: BTreeMap<u64, Lane>,
    on_way: BTreeSet<u64>,
    busy: HashSet<Lane>,
    /// Devices whose next message waits for another try.
    held: HashMap<Lane, Instant>,
    /// All messages up to this number were looked at.
    read_until: u64,
}

impl Window {
    /// A window that begins after a number.
    pub(super) fn after(read_until: u64) -> Self {
        Self { read_until, ..Self::default() }
    }

    /// All messages up to this number were looked at.
    pub(super) fn read_until(&self) -> u64 {
        self.read_until
    }

    /// How many more messages it takes.
    pub(super) fn room(&self) -> usize {
        MOST.saturating_sub(self.len())
    }

    /// How many messages it is at.
    pub(super) fn len(&self) -> usize {
        self.waiting.len() + self.on_way.len()
    }

    /// Takes a message, in the order of numbers.
    pub(super) fn put(&mut self, item: Item) {
        self.read_until = self.read_until.max(item.told);
        let lane = item.lane();
        self.waiting.insert(item.told, lane);
        self.lanes.entry(lane).or_default().push_back(item);
    }

    /// What has no message up to this number is passed over.
    pub(super) fn pass(&mut self, until: u64) {
        self.read_until = self.read_until.max(until);
    }

    /// Where it stands.
    pub(super) fn progress(&self) -> Progress {
        let undone: BTreeSet<u64> = self.waiting.keys().chain(&self.on_way).copied().collect();
        let now = Instant::now();
        let tried = self.lanes.values().flatten().filter_map(|item| {
            let first = item.first_try?;
            let for_ms = u64::try_from(now.saturating_duration_since(first).as_millis()).unwrap_or(u64::MAX);
            Some((item.told, for_ms, item.tries))
        });
        let tried = tried.collect();
        Progress { position: self.read_until, undone: undone.into_iter().collect(), tried }
    }

    /// The oldest message that it is at.
    pub(super) fn oldest(&self) -> Option<&Item> {
        let (told, lane) = self.waiting.first_key_value()?;
        self.lanes.get(lane)?.iter().find(|item| item.told == *told)
    }

    /// How many devices wait for another try.
    pub(super) fn held(&self) -> usize {
        self.held.len()
    }

    /// How many messages are not held up by a device that waits for another try.
    pub(super) fn moving(&self) -> usize {
        let of = |lane: &Lane| self.lanes.get(lane).map_or(0, VecDeque::len);
        self.len().saturating_sub(self.held.keys().map(of).sum())
    }

    /// When the next device may be tried again.
    pub(super) fn next_try(&self) -> Option<Instant> {
        self.held.values().min().copied()
    }

    /// The messages of the next request, at most `most`: the oldest ones that may go. They are on their way then.
    pub(super) fn next(&mut self, now: Instant, most: usize) -> Vec<Item> {
        self.held.retain(|_, until| *until > now);
        let mut chosen: Vec<(u64, Lane)> = Vec::new();
        // A device whose next message does not go along has none of its later ones go along either.
        let mut left: HashSet<Lane> = HashSet::new();
        for (told, lane) in &self.waiting {
            if chosen.len() == most {
                break;
            }
            if self.busy.contains(lane) || self.held.contains_key(lane) || left.contains(lane) {
                continue;
            }
            let place = chosen.iter().filter(|(_, other)| other == lane).count();
            let alone = self.lanes.get(lane).and_then(|items| items.get(place)).is_some_and(|item| item.alone);
            if alone && !chosen.is_empty() {
                left.insert(*lane);
                continue;
            }
            chosen.push((*told, *lane));
            if alone {
                break;
            }
        }
        let mut items = Vec::with_capacity(chosen.len());
        for (told, lane) in chosen {
            self.waiting.remove(&told);
            let Some(item) = self.lanes.get_mut(&lane).and_then(VecDeque::pop_front) else { continue };
            self.on_way.insert(told);
            self.busy.insert(lane);
            items.push(item);
        }
        items
    }

    /// Messages are delivered, or given up.
    pub(super) fn done(&mut self, items: &[Item]) {
        for item in items {
            self.on_way.remove(&item.told);
            self.release(item.lane());
        }
    }

    /// Messages come back to be tried again; their devices wait for so long.
    pub(super) fn back(&mut self, items: Vec<Item>, now: Instant, wait: Option<Duration>) {
        // The last first, as each goes to the front.
        for item in items.into_iter().rev() {
            let lane = item.lane();
            self.on_way.remove(&item.told);
            self.waiting.insert(item.told, lane);
            self.lanes.entry(lane).or_default().push_front(item);
            self.busy.remove(&lane);
            if let Some(wait) = wait {
                self.held.insert(lane, now + wait);
            }
        }
    }

    fn release(&mut self, lane: Lane) {
        self.busy.remove(&lane);
        if self.lanes.get(&lane).is_some_and(VecDeque::is_empty) {
            self.lanes.remove(&lane);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    fn item(told: u64, device: u64) -> Item {
        let message = serde_json::from_value(json!({
            "type": "notice", "id": format!("{told:026}"), "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey",
            "fleet": "tide", "device": { "eui": format!("{device:016x}"), "name": "x" },
            "code": "silent", "wants_attention": true, "why": ""
        }));
        Item::new(told, Arc::new(WrittenMessage { estate_id: 1, message: message.unwrap(), json: String::new() }))
    }

    fn window(items: &[(u64, u64)]) -> Window {
        let mut window = Window::after(0);
        items.iter().for_each(|(told, device)| window.put(item(*told, *device)));
        window
    }

    fn numbers(items: &[Item]) -> Vec<u64> {
        items.iter().map(|item| item.told).collect()
    }

    #[test]
    fn a_device_has_one_message_on_its_way() {
        let now = Instant::now();
        let mut window = window(&[(1, 7), (2, 7), (3, 8)]);
        let first = window.next(now, 1);
        assert_eq!(numbers(&first), [1]);
        let second = window.next(now, 1);
        assert_eq!(numbers(&second), [3], "the second of the device waits for the first");
        assert!(window.next(now, 1).is_empty());
        assert_eq!(window.progress(), Progress { position: 3, undone: vec![1, 2, 3], ..Progress::default() });
        window.done(&first);
        assert_eq!(numbers(&window.next(now, 1)), [2]);
        assert_eq!(window.progress().undone, [2, 3]);
    }

    #[test]
    fn one_that_is_not_taken_holds_up_its_own_device_only() {
        let now = Instant::now();
        let mut window = window(&[(1, 7), (2, 7), (3, 8)]);
        let first = window.next(now, 1);
        window.back(first, now, Some(Duration::from_secs(10)));
        assert_eq!(numbers(&window.next(now, 5)), [3]);
        assert_eq!(window.next_try(), Some(now + Duration::from_secs(10)));
        let later = now + Duration::from_secs(10);
        assert_eq!(numbers(&window.next(later, 5)), [1, 2]);
    }

    #[test]
    fn several_go_together_in_order_but_one_that_was_refused_goes_alone() {
        let now = Instant::now();
        let mut window = window(&[(1, 7), (2, 8), (3, 7), (4, 9)]);
        let mut together = window.next(now, 3);
        assert_eq!(numbers(&together), [1, 2, 3]);
        together.iter_mut().for_each(|item| item.alone = true);
        window.back(together, now, None);
        assert_eq!(numbers(&window.next(now, 3)), [1]);
        assert_eq!(numbers(&window.next(now, 3)), [2]);
        assert_eq!(numbers(&window.next(now, 3)), [4], "the third is of the first one's device");
    }

    #[test]
    fn what_was_tried_goes_on_over_a_restart() {
        let now = Instant::now();
        let mut first = window(&[(1, 7), (2, 8)]);
        let mut tried = first.next(now, 1);
        (tried[0].first_try, tried[0].tries) = (now.checked_sub(Duration::from_secs(30)), 4);
        first.back(tried, now, None);
        let progress = first.progress();
        let [(told, for_ms, tries)] = progress.tried[..] else { panic!("{progress:?}") };
        assert!(told == 1 && tries == 4 && (30_000..40_000).contains(&for_ms), "{for_ms}");
        let again = item(1, 7).tried(&progress.tried);
        let for_now = again.first_try.map(|at| at.elapsed());
        assert!(again.tries == 4 && for_now.is_some_and(|time| time >= Duration::from_secs(30)), "{for_now:?}");
        assert_eq!(item(2, 8).tried(&progress.tried).first_try, None);
    }

    #[test]
    fn where_it_stands_goes_on_over_what_is_passed_over() {
        let mut window = window(&[(5, 1)]);
        window.pass(9);
        let items = window.next(Instant::now(), 9);
        assert_eq!(window.progress(), Progress { position: 9, undone: vec![5], ..Progress::default() });
        window.done(&items);
        assert_eq!(window.progress(), Progress { position: 9, ..Progress::default() });
        assert_eq!((window.len(), window.room()), (0, MOST));
    }

    proptest! {
        /// Whatever comes back and whatever is done: nothing is lost, nothing is done twice, and each device's are in order.
        #[test]
        fn all_are_delivered_once_and_in_order(
            devices in prop::collection::vec(0u64..5, 1..60),
            turns in prop::collection::vec((1usize..6, any::<bool>(), any::<bool>()), 1..400),
        ) {
            let numbered: Vec<(u64, u64)> = devices.iter().enumerate().map(|(n, device)| (n as u64 + 1, *device)).collect();
            let mut window = window(&numbered);
            let mut now = Instant::now();
            let (mut done, mut under_way): (Vec<u64>, Vec<Vec<Item>>) = (Vec::new(), Vec::new());
            let finish = turns.into_iter().chain(std::iter::repeat_n((5, true, true), 200));
            for (most, taken, first) in finish {
                let next = window.next(now, most);
                if !next.is_empty() {
                    under_way.push(next);
                }
                if first && !under_way.is_empty() {
                    let mut items = under_way.remove(0);
                    if taken {
                        window.done(&items);
                        done.extend(numbers(&items));
                    } else {
                        items.iter_mut().for_each(|item| item.alone = true);
                        window.back(items, now, Some(Duration::from_secs(1)));
                    }
                }
                now += Duration::from_millis(700);
                let mut known: Vec<u64> = done.iter().chain(&window.progress().undone).copied().collect();
                known.sort_unstable();
                prop_assert_eq!(known, (1..=numbered.len() as u64).collect::<Vec<_>>());
            }
            prop_assert_eq!(window.len(), 0);
            for device in 0..5 {
                let of: Vec<u64> = done.iter().filter(|told| devices[**told as usize - 1] == device).copied().collect();
                prop_assert!(of.is_sorted());
            }
        }
    }

    #[test]
    fn what_waits_for_another_try_does_not_move() {
        let (mut window, now) = (window(&[(1, 7), (2, 7), (3, 8), (4, 7)]), Instant::now());
        assert_eq!(window.moving(), 4);
        let sent = window.next(now, 1);
        assert_eq!((numbers(&sent), window.moving()), (vec![1], 4));
        window.back(sent, now, Some(Duration::from_secs(60)));
        assert_eq!((window.len(), window.moving()), (4, 1));
    }
}

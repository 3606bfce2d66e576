//! The downlinks waiting for one device: first in, first out, unless somebody puts them in another order.

use std::collections::VecDeque;

use lorawan::Eui64;

use crate::device::profile::Class;
use crate::downlink::item::{OutboxId, OutboxItem, OutboxState, Place, Wait};
use crate::io::change::Change;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event};
use crate::step::Step;
use crate::time::Timestamp;

/// Distance of two places in the queue, so that others fit in between.
const APART: i64 = 1 << 20;

#[derive(Debug)]
pub(crate) struct Outbox {
    /// Its device or group.
    owner: Eui64,
    items: VecDeque<OutboxItem>,
    /// The one item that a gateway is sending, or that waits for its acknowledgement.
    in_flight: Option<OutboxId>,
    /// Tries in a row at which no gateway had a way down.
    away: u32,
}

/// Until a gateway without a way down is tried again: at first, and at most.
const AWAY_FIRST_US: i64 = 2_000_000;
const AWAY_LAST_US: i64 = 60_000_000;

impl Outbox {
    /// Puts items back as stored.
    pub(crate) fn restore(owner: Eui64, items: Vec<OutboxItem>) -> Self {
        let in_flight = items.iter().find(|i| matches!(i.state, OutboxState::AwaitingAck(_))).map(|i| i.id);
        Self { owner, items: items.into(), in_flight, away: 0 }
    }

    /// After a restart: one that was under way may or may not have been sent, and waits again; without a
    /// session all wait for the join.
    pub(crate) fn settle(&mut self, step: &mut Step<'_>, joined: bool, class: Class) {
        for item in &mut self.items {
            let wait = match item.state {
                OutboxState::UnderWay => {
                    // An attempt that the service itself interrupted does not count.
                    item.was_no_attempt();
                    Wait::again("the service was restarted while it was under way", class)
                }
                OutboxState::Waiting(_) if !joined => Wait::Join,
                _ => continue,
            };
            let state = OutboxState::Waiting(wait);
            if item.state != state {
                item.state = state;
                step.persist(item.change(self.owner));
            }
        }
    }

    pub(crate) fn push(&mut self, step: &mut Step<'_>, mut item: OutboxItem) {
        if let Some(last) = self.items.back() {
            item.place = item.place.max(last.place.saturating_add(1));
        }
        step.persist(item.change(self.owner));
        self.items.push_back(item);
    }

    /// A session is agreed upon: what waited for one waits for the first uplink under it.
    pub(crate) fn joined(&mut self, step: &mut Step<'_>) {
        for item in self.items.iter_mut().filter(|i| i.state == OutboxState::Waiting(Wait::Join)) {
            item.state = OutboxState::Waiting(Wait::NextUplink);
            step.persist(item.change(self.owner));
        }
    }

    /// How many wait to be sent.
    pub(crate) fn waiting(&self) -> usize {
        self.items.len() - usize::from(self.in_flight.is_some())
    }

    /// Those that wait, in the order in which they go.
    pub(crate) fn line(&self) -> Vec<OutboxId> {
        self.items.iter().map(|item| item.id).filter(|id| self.in_flight != Some(*id)).collect()
    }

    /// The next to be sent; none while one is under way, for they go in order.
    pub(crate) fn next_waiting(&self) -> Option<&OutboxItem> {
        if self.in_flight.is_some() {
            return None;
        }
        self.items.front()
    }

    /// Until when the next one waits at least, if that is known.
    pub(crate) fn held_until(&self) -> Option<Timestamp> {
        match self.next_waiting()?.state {
            OutboxState::Waiting(Wait::Airtime { until, .. } | Wait::Policy { until, .. }) => Some(until),
            _ => None,
        }
    }

    /// Transmissions tried of a downlink.
    pub(crate) fn attempts_of(&self, id: OutboxId) -> u8 {
        self.get(id).map_or(0, |item| item.attempts)
    }

    pub(crate) fn awaiting_ack(&self) -> Option<(OutboxId, u32)> {
        let item = self.get(self.in_flight?)?;
        match item.state {
            OutboxState::AwaitingAck(counter) => Some((item.id, counter)),
            _ => None,
        }
    }

    /// Items under way are at the front, so most searches end at once.
    fn position(&self, id: OutboxId) -> Option<usize> {
        self.items.iter().position(|i| i.id == id)
    }

    fn get(&self, id: OutboxId) -> Option<&OutboxItem> {
        self.items.iter().find(|i| i.id == id)
    }

    pub(crate) fn cancel(&mut self, step: &mut Step<'_>, id: OutboxId) {
        if self.get(id).is_some_and(|item| matches!(item.state, OutboxState::Waiting(_))) {
            self.advance(step, id, OutboxState::Cancelled);
        }
    }

    /// Moves a waiting item to another place in the queue; an item under way stays at the front. Stores the change,
    /// unless this item, or the one it is to go before, no longer waits.
    pub(crate) fn arrange(&mut self, step: &mut Step<'_>, id: OutboxId, to: Place) {
        let in_front = usize::from(self.in_flight.is_some());
        let Some(from) = self.position(id).filter(|at| *at >= in_front) else { return };
        let Some(mut item) = self.items.remove(from) else { return };
        let to = match to {
            Place::First => Some(in_front),
            Place::Last => Some(self.items.len()),
            Place::Before(other) => self.position(other).filter(|at| *at >= in_front),
        };
        let Some(at) = to else { return self.items.insert(from, item) };
        if at == from {
            step.persist(item.change(self.owner));
            return self.items.insert(from, item);
        }
        let before = at.checked_sub(1).and_then(|n| self.items.get(n)).map(|item| item.place);
        let after = self.items.get(at).map(|item| item.place);
        let between = match (before, after) {
            (None, None) => Some(item.place),
            (Some(before), None) => before.checked_add(APART),
            (None, Some(after)) => after.checked_sub(APART),
            (Some(before), Some(after)) => {
                let middle = i64::midpoint(before, after);
                (middle > before && middle < after).then_some(middle)
            }
        };
        item.place = between.unwrap_or(item.place);
        step.persist(item.change(self.owner));
        self.items.insert(at, item);
        if between.is_none() {
            // No room is left between two: all get new places.
            for (n, item) in self.items.iter_mut().enumerate() {
                item.place = n as i64 * APART;
                step.persist(item.change(self.owner));
            }
        }
    }

    /// Gives up an item that still waits when its time has come.
    pub(crate) fn expire(&mut self, step: &mut Step<'_>, id: OutboxId) {
        let Some(item) = self.get(id) else { return };
        if let OutboxState::Waiting(wait) = &item.state {
            let why = format!("its time ran out while it waited: {wait}");
            self.end(step, id, why);
        }
    }

    /// Notes what a waiting item waits for, and says so once.
    pub(crate) fn waits(&mut self, step: &mut Step<'_>, id: OutboxId, wait: Wait) {
        let state = OutboxState::Waiting(wait);
        if self.get(id).is_some_and(|item| item.state != state) {
            self.advance(step, id, state);
        }
    }

    /// An item is handed to a gateway: this counts as an attempt.
    pub(crate) fn under_way(&mut self, step: &mut Step<'_>, id: OutboxId) {
        if let Some(at) = self.position(id) {
            self.items[at].attempts = self.items[at].attempts.saturating_add(1);
        }
        self.advance(step, id, OutboxState::UnderWay);
    }

    /// The frame never reached a gateway: only a frame that may have been heard counts as an attempt.
    pub(crate) fn was_no_attempt(&mut self, id: OutboxId) {
        if let Some(at) = self.position(id) {
            self.items[at].was_no_attempt();
        }
    }

    /// No gateway has a way down to send an item by, as after a restart, until they call again. It waits for one,
    /// however long that takes, and says so once. Returns after how many microseconds to try again.
    pub(crate) fn no_way_down(&mut self, step: &mut Step<'_>, id: OutboxId, why: &str, class: Class) -> i64 {
        self.was_no_attempt(id);
        let item = self.get(id).cloned();
        self.advance(step, id, OutboxState::Waiting(Wait::again(why, class)));
        if self.away == 0 {
            step.publish(self.told(id, item, None, DownlinkStage::Returned(why.to_owned())));
        }
        let pause = (AWAY_FIRST_US << self.away.min(8)).min(AWAY_LAST_US);
        self.away = self.away.saturating_add(1);
        pause
    }

    /// Whether it waits for a gateway without a way down, which has been told.
    pub(crate) const fn gateway_away(&self) -> bool {
        self.away > 0
    }

    /// Moves an item to its next state, tells the store, and drops it when it is done.
    pub(crate) fn advance(&mut self, step: &mut Step<'_>, id: OutboxId, state: OutboxState) {
        let Some(at) = self.position(id) else { return };
        if matches!(state, OutboxState::Sent | OutboxState::AwaitingAck(_)) {
            self.away = 0;
        }
        match state {
            OutboxState::UnderWay | OutboxState::AwaitingAck(_) => self.in_flight = Some(id),
            _ if self.in_flight == Some(id) => self.in_flight = None,
            _ => {}
        }
        let item = &mut self.items[at];
        item.state = state;
        step.persist(item.change(self.owner));
        if item.state.is_final() {
            self.items.remove(at);
        }
    }

    /// After a try that did not work out: wait for another, or give up.
    pub(crate) fn return_or_fail(&mut self, step: &mut Step<'_>, id: OutboxId, why: &str, allowed: u8, class: Class) {
        let Some(item) = self.get(id) else { return };
        let allowed = item.max_attempts.unwrap_or(allowed).max(1);
        if item.attempts >= allowed {
            let times = if allowed == 1 { "1 attempt".into() } else { format!("{allowed} attempts") };
            self.end(step, id, format!("given up after {times}: {why}"));
        } else {
            let item = Some(item.clone());
            self.advance(step, id, OutboxState::Waiting(Wait::again(why, class)));
            step.publish(self.told(id, item, None, DownlinkStage::Returned(why.to_owned())));
        }
    }

    fn end(&mut self, step: &mut Step<'_>, id: OutboxId, why: String) {
        let item = self.get(id).cloned();
        self.advance(step, id, OutboxState::Failed(why.clone()));
        step.publish(self.told(id, item, None, DownlinkStage::Failed(why)));
    }

    /// The event for an item as it was before it moved on; one that is done is no longer here.
    fn told(&self, id: OutboxId, item: Option<OutboxItem>, counter: Option<u32>, stage: DownlinkStage) -> Event {
        let off_air = DownlinkEvent::off_air(self.owner, stage);
        let (data, reference) = item.map_or((None, None), |item| (Some((item.port, item.payload)), item.reference));
        Event::Downlink(Box::new(DownlinkEvent { outbox_id: Some(id), reference, counter, data, ..off_air }))
    }

    /// The device acknowledged an item that was sent with this counter.
    pub(crate) fn acknowledged(&mut self, step: &mut Step<'_>, id: OutboxId, counter: u32) {
        let item = self.get(id).cloned();
        self.advance(step, id, OutboxState::Acknowledged);
        step.publish(self.told(id, item, Some(counter), DownlinkStage::Acknowledged));
    }
}

impl OutboxItem {
    fn was_no_attempt(&mut self) {
        self.attempts = self.attempts.saturating_sub(1);
    }

    fn change(&self, dev_eui: Eui64) -> Change {
        Change::Outbox { dev_eui, id: self.id, state: self.state.clone(), attempts: self.attempts, place: self.place }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outbox(places: &[i64]) -> Outbox {
        let item = |(id, place): (usize, &i64)| OutboxItem {
            id: OutboxId(id as u128),
            port: 1,
            payload: vec![],
            confirmed: false,
            attempts: 0,
            max_attempts: None,
            expires_at: None,
            place: *place,
            reference: None,
            state: OutboxState::Waiting(Wait::NextUplink),
        };
        Outbox::restore(Eui64(1), places.iter().enumerate().map(item).collect())
    }

    /// Moves one; gives the order, and how many were written down again.
    fn moved(outbox: &mut Outbox, id: u128, to: Place) -> (Vec<u128>, usize) {
        let mut effects = Vec::new();
        outbox.arrange(&mut Step::new(Timestamp(0), &mut effects), OutboxId(id), to);
        assert!(outbox.items.iter().is_sorted_by(|a, b| a.place < b.place), "places follow the line: {outbox:?}");
        (outbox.items.iter().map(|item| item.id.0).collect(), effects.len())
    }

    #[test]
    fn what_waits_can_be_put_in_another_order() {
        let mut outbox = outbox(&[10, 20, 30, 40]);
        assert_eq!(moved(&mut outbox, 2, Place::First), (vec![2, 0, 1, 3], 1));
        assert_eq!(moved(&mut outbox, 0, Place::Last), (vec![2, 1, 3, 0], 1));
        assert_eq!(moved(&mut outbox, 0, Place::Before(OutboxId(3))), (vec![2, 1, 0, 3], 1));
        assert_eq!(moved(&mut outbox, 0, Place::Before(OutboxId(3))), (vec![2, 1, 0, 3], 1), "it is there already");
        assert_eq!(moved(&mut outbox, 0, Place::Before(OutboxId(9))), (vec![2, 1, 0, 3], 0), "before none of them");
        assert_eq!(moved(&mut outbox, 9, Place::First), (vec![2, 1, 0, 3], 0), "none of them");
    }

    #[test]
    fn there_is_always_room_between_two() {
        let mut full = outbox(&[0, 1, 2]);
        assert_eq!(moved(&mut full, 2, Place::Before(OutboxId(1))), (vec![0, 2, 1], 4));
        let mut edges = outbox(&[i64::MIN, 0, i64::MAX]);
        assert_eq!(moved(&mut edges, 2, Place::First).0, [2, 0, 1]);
        let mut again = outbox(&[0, i64::MAX]);
        assert_eq!(moved(&mut again, 0, Place::Last).0, [1, 0]);
    }

    #[test]
    fn what_is_under_way_stays_in_front() {
        let mut outbox = outbox(&[10, 20, 30]);
        outbox.under_way(&mut Step::new(Timestamp(0), &mut vec![]), OutboxId(0));
        assert_eq!(moved(&mut outbox, 2, Place::First), (vec![0, 2, 1], 1));
        assert_eq!(moved(&mut outbox, 1, Place::Before(OutboxId(0))), (vec![0, 2, 1], 0));
        assert_eq!(moved(&mut outbox, 0, Place::Last), (vec![0, 2, 1], 0));
    }

    #[test]
    fn what_is_put_in_goes_last() {
        let mut outbox = outbox(&[i64::from(u32::MAX)]);
        let late = OutboxItem { id: OutboxId(7), place: 3, ..outbox.items[0].clone() };
        outbox.push(&mut Step::new(Timestamp(0), &mut vec![]), late);
        assert_eq!(moved(&mut outbox, 7, Place::Last), (vec![0, 7], 1));
    }
}

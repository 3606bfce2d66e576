//! Multicast groups: one frame for many devices of class B or C, by the fewest gateways that reach them all (addresses,
//! keys and counters as TS005 §2 has them).
//!
//! A group is named by an EUI of the network's own making, so that its outbox and its messages are those of any device.
//! What it sends stands on the gateways' accounts alone. Gateways that reach the same members would drown each other
//! out; so they send one after another.

use std::collections::VecDeque;

use lorawan::Eui64;
use lorawan::crypto::{MicKey, PayloadKey};
use lorawan::wire::{DataRepr, DownlinkFlags};

use crate::device::profile::Class;
use crate::device::settings::Settings;
use crate::downlink::candidate::{Channel, LEAD_US, Near, To};
use crate::downlink::frame::Cargo;
use crate::downlink::item::{OutboxItem, OutboxState, Wait};
use crate::downlink::outbox::Outbox;
use crate::downlink::schedule;
use crate::downlink::schedule::HEADER_LEN;
use crate::io::change::Change;
use crate::io::config::GroupConfig;
use crate::io::event::{DownlinkEvent, DownlinkStage, Event};
use crate::io::transmission::TxFailure;
use crate::notice::Notice;
use crate::step::Step;
use crate::time::Timestamp;
use crate::{Engine, Timer};

/// The pause between two tries while no gateway can send to the group.
const LOOK_AGAIN_US: i64 = 60_000_000;

/// Transmissions tried of each downlink.
const ATTEMPTS: u8 = 3;

/// A group's status.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupStatus {
    /// Next counter towards its members.
    pub next_down: u32,
    /// The gateways that would send now.
    pub gateways: Vec<Eui64>,
    /// Members that no gateway has heard.
    pub unreached: Vec<Eui64>,
}

/// A frame on its way from gateway to gateway.
#[derive(Debug)]
struct Flight {
    item: OutboxItem,
    phy_payload: Vec<u8>,
    counter: u32,
    remaining: VecDeque<Near>,
    /// Whether it is handed over and not reported yet.
    handed_over: bool,
    sent: u32,
    /// Why the last one was not sent.
    why: String,
    /// Whether any gateway had it.
    attempted: bool,
}

#[derive(Debug)]
pub(crate) struct Group {
    pub(crate) config: GroupConfig,
    next_down: u32,
    pub(crate) outbox: Outbox,
    flight: Option<Flight>,
    /// Until then its last frame is on air: members may hear several gateways.
    on_air_until: Timestamp,
    /// Until then nothing is tried, since no gateway had a way down.
    rests_until: Timestamp,
}

impl Group {
    /// The clock was set by this much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        self.on_air_until = self.on_air_until.plus_us(by_us);
        self.rests_until = self.rests_until.plus_us(by_us);
    }
}

/// Gateways up to which every choice of them is tried.
const SEARCHED: usize = 12;

/// The fewest gateways that reach all members that can be reached, and the members that cannot.
///
/// Finding the fewest is a set cover. Among a dozen gateways all choices are tried; among more, the one that
/// reaches most of those left is taken again and again, which comes within a logarithm of the fewest.
fn cover<N: AsRef<[Near]>>(members: &[(Eui64, N)], usable: impl Fn(Eui64) -> bool) -> (Vec<Near>, Vec<Eui64>) {
    // Each gateway with how well it hears the weakest of those it hears, strongest first.
    let mut gateways: Vec<Near> = Vec::new();
    for near in members.iter().flat_map(|(_, near)| near.as_ref()).filter(|near| usable(near.gateway)) {
        match gateways.iter_mut().find(|known| known.gateway == near.gateway) {
            Some(known) => known.quality = known.quality.min(near.quality),
            None => gateways.push(*near),
        }
    }
    gateways.sort_by(|a, b| b.quality.total_cmp(&a.quality).then(a.gateway.cmp(&b.gateway)));
    gateways.truncate(128);
    // A member is the set of gateways that reach it; many members are alike.
    let reached_by = |near: &[Near]| {
        let bits = gateways.iter().enumerate().filter(|(_, g)| near.iter().any(|n| n.gateway == g.gateway));
        bits.fold(0u128, |set, (bit, _)| set | (1 << bit))
    };
    let mut sets: Vec<u128> = Vec::new();
    let mut unreached = Vec::new();
    for (member, near) in members {
        match reached_by(near.as_ref()) {
            0 => unreached.push(*member),
            set if sets.contains(&set) => {}
            set => sets.push(set),
        }
    }
    unreached.sort_unstable();
    let reaches_all = |choice: u128| sets.iter().all(|set| set & choice != 0);
    let chosen = if gateways.len() <= SEARCHED {
        // With the same number of gateways, the lower number has the stronger ones.
        let choices = (0..1u128 << gateways.len()).filter(|choice| reaches_all(*choice));
        choices.min_by_key(|choice| choice.count_ones()).unwrap_or(0)
    } else {
        greedily(&sets, gateways.len())
    };
    let chosen = gateways.iter().enumerate().filter(|(bit, _)| chosen & (1 << bit) != 0).map(|(_, near)| *near);
    (chosen.collect(), unreached)
}

fn greedily(sets: &[u128], gateways: usize) -> u128 {
    let mut chosen = 0u128;
    loop {
        let left = || sets.iter().filter(|set| *set & chosen == 0);
        let reaches = |bit: &usize| left().filter(|set| *set & (1 << bit) != 0).count();
        match (0..gateways).rev().max_by_key(reaches) {
            Some(bit) if reaches(&bit) > 0 => chosen |= 1 << bit,
            _ => break,
        }
    }
    // A gateway chosen early may no longer be needed.
    for bit in 0..gateways {
        let without = chosen & !(1 << bit);
        if sets.iter().all(|set| set & without != 0) {
            chosen = without;
        }
    }
    chosen
}

/// Gateways to send by, one after the other, and members that none of them reaches.
type Route = (Vec<Near>, Vec<Eui64>);
/// What a downlink waits for, and when to look again, if that is known.
type Hold = (Wait, Option<Timestamp>);

impl Group {
    /// The counter after the next, and a downlink's frame with the next; nothing when counters have run out.
    fn seal(&self, item: &OutboxItem) -> Option<(u32, Vec<u8>)> {
        let next_down = self.next_down.checked_add(1)?;
        let keys = &self.config.keys;
        let data = Some((item.port, item.payload.as_slice()));
        let repr = DataRepr::downlink(self.config.address, self.next_down, DownlinkFlags::default(), data);
        let phy_payload = repr.emit(&MicKey::new(&keys.nwk_s_key), &PayloadKey::new(&keys.app_s_key)).ok()?;
        Some((next_down, phy_payload))
    }
}

impl Engine {
    pub(crate) fn put_group(
        &mut self,
        step: &mut Step<'_>,
        config: GroupConfig,
        next_down: u32,
        outbox: Vec<OutboxItem>,
    ) {
        let id = config.group;
        match self.groups.get_mut(&id) {
            Some(group) => {
                group.config = config;
                self.look_at_group(step, id);
            }
            None => {
                for item in &outbox {
                    self.timers.expiry(id, item);
                }
                let mut outbox = Outbox::restore(id, outbox);
                outbox.settle(step, true, config.class);
                self.groups.insert(
                    id,
                    Group { config, next_down, outbox, flight: None, on_air_until: step.now, rests_until: step.now },
                );
                // Later: one that is put back has its gateways' accounts put back after it.
                self.timers.set(step.now.plus_us(1), Timer::LookAtGroup(id));
            }
        }
    }

    /// A removed device is no longer a member, and no downlink has to wait for its gateways.
    pub(crate) fn leave_groups(&mut self, step: &mut Step<'_>, dev_eui: Eui64) {
        let left: Vec<Eui64> = self
            .groups
            .iter()
            .filter(|(_, group)| group.config.members.contains(&dev_eui))
            .map(|(id, _)| *id)
            .collect();
        for id in left {
            if let Some(group) = self.groups.get_mut(&id) {
                group.config.members.retain(|member| *member != dev_eui);
            }
            self.look_at_group(step, id);
        }
    }

    /// A group's status.
    pub fn group_status(&self, group: Eui64) -> Option<GroupStatus> {
        let group = self.groups.get(&group)?;
        let (gateways, unreached) = cover(&self.members(group), |eui| self.gateways.contains_key(&eui));
        let gateways = gateways.into_iter().map(|near| near.gateway).collect();
        Some(GroupStatus { next_down: group.next_down, gateways, unreached })
    }

    /// A group's members with the gateways near each that serve its estate.
    fn members(&self, group: &Group) -> Vec<(Eui64, Vec<Near>)> {
        let near = |eui: &Eui64| {
            let Some(device) = self.devices.get(eui) else { return Vec::new() };
            let serves =
                |near: &&Near| self.gateways.get(&near.gateway).is_some_and(|g| g.serves(device.config.estate));
            device.link.iter().flat_map(|link| link.near.iter().filter(serves)).copied().collect()
        };
        group.config.members.iter().map(|eui| (*eui, near(eui))).collect()
    }

    pub(crate) fn enqueue_for_group(&mut self, step: &mut Step<'_>, id: Eui64, mut item: OutboxItem) {
        let Some(group) = self.groups.get_mut(&id) else { return };
        item.state = OutboxState::Waiting(Wait::first(true, group.config.class));
        self.timers.expiry(id, &item);
        group.outbox.push(step, item);
        self.look_at_group(step, id);
    }

    /// Continues the downlink under way, or begins the next one.
    pub(crate) fn look_at_group(&mut self, step: &mut Step<'_>, id: Eui64) {
        let free = |group: &&Group| group.on_air_until.max(group.rests_until) <= step.now;
        let Some(group) = self.groups.get(&id).filter(free) else { return };
        if group.flight.is_some() {
            return self.next_gateway(step, id);
        }
        let Some(item) = group.outbox.next_waiting().cloned() else { return };
        let Some(channel) = group.config.channel() else { return };
        let routed = self.route(step.now, group, channel, item.payload.len());
        let Some(group) = self.groups.get_mut(&id) else { return };
        let (chosen, unreached) = match routed {
            Ok(route) => route,
            Err((wait, again_at)) => {
                group.outbox.waits(step, item.id, wait);
                return again_at.into_iter().for_each(|at| self.timers.set(at, Timer::LookAtGroup(id)));
            }
        };
        let counter = group.next_down;
        let Some((next_down, phy_payload)) = group.seal(&item) else { return };
        group.next_down = next_down;
        step.persist(Change::GroupCounter { group: id, next_down });
        group.outbox.under_way(step, item.id);
        let remaining = chosen.into();
        group.flight = Some(Flight {
            item,
            phy_payload,
            counter,
            remaining,
            handed_over: false,
            sent: 0,
            why: String::new(),
            attempted: false,
        });
        // A downlink that is tried again because its gateways are away has told this already.
        if !unreached.is_empty() && !group.outbox.gateway_away() {
            let of = group.config.members.len();
            step.tell(id, Notice::MembersUnreached { unreached, of });
        }
        self.next_gateway(step, id);
    }

    /// The gateways that reach a group's members, and the members that none reaches; or what a payload of `len` bytes
    /// has to wait for, and when to look again.
    fn route(&self, now: Timestamp, group: &Group, channel: Channel, len: usize) -> Result<Route, Hold> {
        if len > channel.max_payload {
            return Err((Wait::SmallerThan { len, max: channel.max_payload }, None));
        }
        let airtime_us = lorawan::airtime::downlink_us(channel.modulation, HEADER_LEN + 1 + len);
        let members = self.members(group);
        let known = |eui: Eui64| self.gateways.get(&eui);
        let lawful = |eui| known(eui).is_some_and(|g| g.ledger.allows(channel.sub_band, now, airtime_us));
        let (all, unreached) = cover(&members, |eui| known(eui).is_some());
        if all.is_empty() {
            return Err((Wait::Gateway, Some(now.plus_us(LOOK_AGAIN_US))));
        }
        let (chosen, left_out) = cover(&members, lawful);
        if left_out.len() > unreached.len() {
            // Some would be reached but for airtime.
            let eases = |near: &Near| known(near.gateway)?.ledger.allowed_from(channel.sub_band, now, airtime_us);
            let until = all.iter().filter_map(eases).max().unwrap_or(now.plus_us(LOOK_AGAIN_US));
            return Err((Wait::Airtime { sub_band: channel.sub_band.name, until }, Some(until.plus_us(1))));
        }
        Ok((chosen, unreached))
    }

    /// Hands the frame to the next gateway as soon as that one is free.
    fn next_gateway(&mut self, step: &mut Step<'_>, id: Eui64) {
        let Some(group) = self.groups.get_mut(&id) else { return };
        let config = &group.config;
        let Some(flight) = group.flight.as_mut().filter(|flight| !flight.handed_over) else { return };
        let Some(near) = flight.remaining.pop_front() else { return };
        let candidates = match config.class {
            Class::B => {
                let plan = config.plan();
                let region = Settings::for_group(plan, config.frequency_hz, config.data_rate, config.ping_periodicity);
                schedule::ping_slots(plan, &region, config.address, &[near], step.now)
            }
            _ => config
                .channel()
                .map(|channel| schedule::at_once(channel, &[near], &self.gateways, step.now, flight.phy_payload.len()))
                .unwrap_or_default(),
        };
        let busy_until =
            candidates.first().map(|c| c.at).filter(|at| config.class != Class::B && at.since(step.now) > LEAD_US);
        if let Some(at) = busy_until {
            flight.remaining.push_front(near);
            self.timers.set(at.plus_us(-LEAD_US), Timer::LookAtGroup(id));
            return;
        }
        flight.handed_over = true;
        let cargo = Cargo {
            counter: Some(flight.counter),
            data: Some((flight.item.port, flight.item.payload.clone())),
            outbox_id: Some(flight.item.id),
            reference: flight.item.reference.clone(),
            ..Cargo::bare(To::Group(id), flight.phy_payload.clone())
        };
        if let Err(why) = self.send_by_any(step, cargo, candidates) {
            self.note_group(id, crate::downlink::frame::label(&why), true);
            self.group_reported(step, id, None);
        }
    }

    /// A gateway has sent the frame until `ends`, or has not.
    pub(crate) fn group_reported(&mut self, step: &mut Step<'_>, id: Eui64, ends: Option<Timestamp>) {
        let Some(group) = self.groups.get_mut(&id) else { return };
        let Some(flight) = group.flight.as_mut() else { return };
        group.on_air_until = ends.unwrap_or(step.now).max(step.now);
        flight.handed_over = false;
        flight.sent += u32::from(ends.is_some());
        if !flight.remaining.is_empty() {
            self.timers.set(group.on_air_until, Timer::LookAtGroup(id));
            return;
        }
        let Some(flight) = group.flight.take() else { return };
        if flight.sent > 0 {
            group.outbox.advance(step, flight.item.id, OutboxState::Sent);
        } else {
            let (item, class) = (flight.item.id, group.config.class);
            let pause = if flight.attempted {
                group.outbox.return_or_fail(step, item, &flight.why, ATTEMPTS, class);
                LOOK_AGAIN_US
            } else {
                let pause = group.outbox.no_way_down(step, item, &flight.why, class);
                group.rests_until = step.now.plus_us(pause);
                pause
            };
            self.timers.set(step.now.plus_us(pause), Timer::LookAtGroup(id));
            return;
        }
        self.timers.set(group.on_air_until, Timer::LookAtGroup(id));
    }

    /// One of a group's transmissions did not go out, and no other way is left.
    pub(crate) fn group_failed(&mut self, step: &mut Step<'_>, id: Eui64, why: &TxFailure) {
        let attempted = !matches!(why, TxFailure::Unreachable | TxFailure::NotHandedOver);
        let away = self.groups.get(&id).is_some_and(|group| group.outbox.gateway_away());
        if attempted || !away {
            let stage = DownlinkStage::Returned(why.to_string());
            step.publish(Event::Downlink(Box::new(DownlinkEvent::off_air(id, stage))));
        }
        self.note_group(id, why.to_string(), attempted);
        self.group_reported(step, id, None);
    }

    /// Notes why one of a group's transmissions did not go out, and whether a gateway had it.
    fn note_group(&mut self, id: Eui64, why: String, attempted: bool) {
        if let Some(flight) = self.groups.get_mut(&id).and_then(|group| group.flight.as_mut()) {
            flight.why = why;
            flight.attempted |= attempted;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn near(gateway: u64, quality: f32) -> Near {
        Near { gateway: Eui64(gateway), quality, at: Timestamp(0) }
    }

    #[test]
    fn one_gateway_that_reaches_all_is_enough() {
        let (all, some) = ([near(1, 3.0), near(2, 9.0)], [near(2, 1.0)]);
        let members = [(Eui64(10), &all[..]), (Eui64(11), &some[..]), (Eui64(12), &[][..])];
        let (chosen, unreached) = cover(&members, |_| true);
        assert_eq!(chosen.iter().map(|n| n.gateway).collect::<Vec<_>>(), [Eui64(2)]);
        assert_eq!(unreached, [Eui64(12)]);
        let (chosen, unreached) = cover(&members, |gateway| gateway != Eui64(2));
        assert_eq!((chosen[0].gateway, unreached.len()), (Eui64(1), 2));
    }

    proptest! {
        #[test]
        fn all_that_can_be_reached_are(links in proptest::collection::vec(proptest::collection::vec(0u64..6, 0..4), 1..20)) {
            let near: Vec<Vec<Near>> = links.iter().map(|l| l.iter().map(|g| near(*g, 0.0)).collect()).collect();
            let members: Vec<_> = near.iter().enumerate().map(|(i, n)| (Eui64(i as u64), n.as_slice())).collect();
            let (chosen, unreached) = cover(&members, |_| true);
            for (member, near) in &members {
                let reached = near.iter().any(|n| chosen.iter().any(|c| c.gateway == n.gateway));
                prop_assert_eq!(reached, !unreached.contains(member));
                prop_assert_eq!(near.is_empty(), unreached.contains(member));
            }
            let sets: Vec<u128> = links.iter().map(|l| l.iter().fold(0, |set, g| set | (1u128 << g))).filter(|s| *s != 0).collect();
            let greedy = greedily(&sets, 6);
            prop_assert!(sets.iter().all(|set| set & greedy != 0), "the other way reaches them too");
            prop_assert!(chosen.len() as u32 <= greedy.count_ones(), "and never needs fewer");
        }
    }
}

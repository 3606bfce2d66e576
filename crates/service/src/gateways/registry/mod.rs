//! Which gateways are registered, from where they connect, and when they were last heard.

mod known;
mod stranger;

use std::collections::{HashMap, HashSet};
use std::fmt::Display;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use api::gateway::{GatewaySoftware, GatewayState, Protocol, Stranger};
use api::message::GatewayNews;
use chrono::{DateTime, Utc};
use domain::gateway::check::gateway_state;
use gateway_link::mqtt::Name;
use gateway_link::udp::GatewayStatus;
use lorawan::Eui64;
use store::{EstateId, GatewayRow};
use stranger::{Call, Caller};

use crate::gateways::event_log::{GatewayEventDraft, GatewayLog};
use crate::net::source::one_source;

pub(crate) use known::{Known, WayDown, broker_name, two_of_them};

/// How often a listening gateway is news, so that a page shows when it was last heard.
const NEWS_EVERY_S: i64 = 5;

#[derive(Default)]
struct Inner {
    known: HashMap<Eui64, Known>,
    strangers: HashMap<Eui64, Caller>,
}

/// The answer to a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallerStatus {
    /// It is registered, and its frames are taken.
    Known,
    /// It is registered, but this call is rejected.
    TurnedAway,
    /// It is not registered.
    Stranger,
}

/// The gateways that call.
pub struct GatewayRegistry {
    inner: Mutex<Inner>,
    gateway_log: Arc<GatewayLog>,
}

impl GatewayRegistry {
    pub fn new(rows: &[GatewayRow], gateway_log: Arc<GatewayLog>) -> Self {
        let presence = Self { inner: Mutex::default(), gateway_log };
        for row in rows {
            presence.register(row);
        }
        presence
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Works on a registered gateway, and publishes what changes.
    fn with(&self, eui: Eui64, note: impl FnOnce(&mut Known) -> Option<GatewayEventDraft>) {
        let happening = self.lock().known.get_mut(&eui).and_then(note);
        if let Some(happening) = happening {
            self.gateway_log.tell(eui, happening);
        }
    }

    /// A gateway was registered; it is no longer a stranger.
    pub fn register(&self, row: &GatewayRow) {
        let mut inner = self.lock();
        inner.strangers.remove(&row.gateway.eui);
        inner.known.insert(row.gateway.eui, Known::new(row));
    }

    /// A registered gateway's settings have changed.
    pub fn change(&self, row: &GatewayRow) {
        if let Some(known) = self.lock().known.get_mut(&row.gateway.eui) {
            known.set(&row.gateway);
        }
    }

    pub fn remove(&self, eui: Eui64) {
        self.lock().known.remove(&eui);
    }

    /// Notes a datagram with frames heard on these frequencies, or a PULL_DATA.
    pub fn datagram(
        &self,
        eui: Eui64,
        from: SocketAddr,
        frames_hz: impl ExactSizeIterator<Item = u32>,
        pull: bool,
    ) -> CallerStatus {
        let mut inner = self.lock();
        let Some(known) = inner.known.get_mut(&eui) else {
            let call = Call { address: from.to_string(), protocol: Protocol::Udp, frames_hz, told: None };
            stranger::note(&mut inner.strangers, eui, call);
            return CallerStatus::Stranger;
        };
        let turned_away = known.turns_away(Protocol::Udp, Some(from.ip()));
        let (caller_status, said) = match turned_away {
            Some(why) => (CallerStatus::TurnedAway, [Some(why.from(from)), None]),
            None => {
                let heard = known.heard(Some(from), frames_hz);
                let pulled = if pull { known.pulls_from(from) } else { None };
                (CallerStatus::Known, [heard, pulled])
            }
        };
        drop(inner);
        said.into_iter().flatten().for_each(|happening| self.gateway_log.tell(eui, happening));
        caller_status
    }

    /// The answer to a call by this protocol, from this address if it has one that counts.
    pub fn caller_status(&self, eui: Eui64, protocol: Protocol, from: Option<SocketAddr>) -> CallerStatus {
        let turns_away = |known: &Known| known.turns_away(protocol, from.map(|from| from.ip()));
        let Some(turned_away) = self.lock().known.get(&eui).map(turns_away) else { return CallerStatus::Stranger };
        let Some(why) = turned_away else { return CallerStatus::Known };
        self.gateway_log.tell(eui, why.from(from));
        CallerStatus::TurnedAway
    }

    /// Notes a call of an unknown gateway by another protocol, and the answer it got.
    pub fn stranger_calls(&self, eui: Eui64, address: impl Display, protocol: Protocol, told: &str) {
        let call = Call { address: format!("{address}"), protocol, frames_hz: std::iter::empty(), told: Some(told) };
        stranger::note(&mut self.lock().strangers, eui, call);
    }

    /// Notes a sign of life of a connected gateway, and frames it heard on these frequencies.
    pub fn heard(&self, eui: Eui64, from: Option<SocketAddr>, frames_hz: impl ExactSizeIterator<Item = u32>) {
        self.with(eui, |known| known.heard(from, frames_hz));
    }

    /// A gateway has connected; downlinks go that way from now on.
    pub fn connected(&self, eui: Eui64, way: WayDown, software: GatewaySoftware) {
        self.with(eui, |known| {
            (known.way_down, known.software) = (Some(way), Some(software));
            None
        });
    }

    /// Gateways that are reached this way now, by their names at an MQTT broker.
    pub fn reached_by(&self, way: WayDown) -> Vec<Name> {
        let inner = self.lock();
        inner.known.values().filter(|known| known.way_down == Some(way)).map(|known| known.broker_name).collect()
    }

    /// Its connection has ended.
    pub fn disconnected(&self, eui: Eui64, ended: WayDown) {
        self.with(eui, |known| {
            known.way_down = known.way_down.filter(|way| *way != ended);
            None
        });
    }

    /// Takes a registered gateway's report.
    pub fn reported(&self, eui: Eui64, status: &GatewayStatus) {
        self.with(eui, |known| {
            known.reported(status);
            None
        });
    }

    /// Notes the clock of a gateway's concentrator.
    pub fn clock(&self, eui: Eui64, clock_us: u32) {
        self.with(eui, |known| known.clock(clock_us));
    }

    /// Notes a gateway's round-trip time.
    pub fn round_trip(&self, eui: Eui64, ms: f64) {
        self.with(eui, |known| {
            known.round_trip(ms);
            None
        });
    }

    /// The open way down to a gateway.
    pub fn way_down(&self, eui: Eui64) -> Option<WayDown> {
        self.lock().known.get(&eui)?.way_down
    }

    /// A registered gateway's name at an MQTT broker.
    pub fn broker_name(&self, eui: Eui64) -> Option<Name> {
        Some(self.lock().known.get(&eui)?.broker_name)
    }

    pub fn known(&self, eui: Eui64) -> Option<Known> {
        self.lock().known.get(&eui).cloned()
    }

    /// How many gateways an estate has.
    pub fn count(&self, estate: EstateId) -> usize {
        self.lock().known.values().filter(|gateway| gateway.estate_id == estate).count()
    }

    pub fn stranger(&self, eui: Eui64) -> Option<Stranger> {
        self.lock().strangers.get(&eui).map(|caller| caller.shown(eui))
    }

    /// The sources that an estate's gateways call from.
    pub(crate) fn sources_of(&self, estate: EstateId) -> HashSet<IpAddr> {
        let inner = self.lock();
        let own = inner.known.values().filter(|known| known.estate_id == estate);
        own.filter_map(|known| known.address).map(|address| one_source(address.ip())).collect()
    }

    /// Strangers, the one heard last first.
    pub fn strangers(&self) -> Vec<Stranger> {
        let mut all: Vec<_> = self.lock().strangers.iter().map(|(eui, caller)| caller.shown(*eui)).collect();
        all.sort_by_key(|s| std::cmp::Reverse(s.last_heard));
        all
    }

    /// What has changed since this was last asked.
    pub fn news(&self, now: DateTime<Utc>) -> Vec<(Option<EstateId>, GatewayNews)> {
        let mut inner = self.lock();
        let mut news = Vec::new();
        for (eui, known) in &mut inner.known {
            let state = gateway_state(now, known.last_heard);
            let fresh = known.last_heard.is_some_and(|at| at > known.told_at)
                && (now - known.told_at).num_seconds() >= NEWS_EVERY_S;
            if state != known.told {
                self.gateway_log.tell(*eui, GatewayEventDraft::state(state));
            }
            if state != known.told || fresh {
                (known.told, known.told_at) = (state, now);
                let name = Some(known.name.clone());
                news.push((Some(known.estate_id), GatewayNews { gateway: *eui, name, state, stranger: false }));
            }
        }
        for (eui, caller) in &mut inner.strangers {
            if !std::mem::replace(&mut caller.announced, true) {
                let state = GatewayState::Listening;
                news.push((None, GatewayNews { gateway: *eui, name: None, state, stranger: true }));
            }
        }
        news
    }

    /// Times not in the database yet.
    pub fn unstored(&self) -> Vec<(Eui64, DateTime<Utc>)> {
        let mut inner = self.lock();
        let mut out = Vec::new();
        for (eui, known) in &mut inner.known {
            if let Some(at) = known.last_heard
                && known.stored != known.last_heard
            {
                known.stored = known.last_heard;
                out.push((*eui, at));
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use domain::gateway::check;
    use std::iter;

    use api::gateway::GatewayAbout;
    use api::gateway::event::{GatewayEvent, GatewayEventKind};
    use chrono::TimeDelta;
    use lorawan::region::Region;
    use tokio::sync::mpsc;

    use super::known::LONGEST_CLOCK;
    use super::stranger::MAX_STRANGERS;
    use super::*;

    const OURS: Eui64 = Eui64(1);

    fn from() -> SocketAddr {
        ([127, 0, 0, 1], 40_000).into()
    }

    fn presence(rows: &[GatewayRow]) -> GatewayRegistry {
        GatewayRegistry::new(rows, GatewayLog::new().0)
    }

    fn row() -> GatewayRow {
        let about = GatewayAbout { name: "chapel-rise".into(), ..GatewayAbout::default() };
        GatewayRow {
            estate_id: 1,
            gateway: check::about(&about, OURS).unwrap(),
            added_at: Utc::now(),
            last_heard: None,
        }
    }

    #[test]
    fn reports_are_added_up_and_nonsense_in_them_is_left_out() {
        let presence = presence(&[row()]);
        let status = GatewayStatus {
            time: Some("2026-05-04 09:12:33 GMT".into()),
            latitude_deg: Some(54.7),
            longitude_deg: Some(3.9),
            received: Some(10),
            received_ok: Some(8),
            forwarded: Some(8),
            sent: Some(1),
            acknowledged_percent: Some(100.0),
            ..GatewayStatus::default()
        };
        presence.reported(OURS, &status);
        presence.reported(OURS, &status);
        let report = presence.known(OURS).unwrap().report.unwrap();
        assert_eq!((report.reports, report.received, report.crc_bad, report.forwarded, report.sent), (2, 20, 4, 16, 2));
        assert_eq!((report.position_deg(), report.altitude_m), (Some((54.7, 3.9)), None));
        assert!(!report.exceeds_arrived);
        presence.reported(OURS, &GatewayStatus { forwarded: Some(1_000), ..GatewayStatus::default() });
        assert!(presence.known(OURS).unwrap().report.unwrap().exceeds_arrived, "none of its frames has arrived");

        let nonsense = GatewayStatus {
            time: Some("x".repeat(1000)),
            latitude_deg: Some(541.0),
            received: Some(1),
            received_ok: Some(u32::MAX),
            acknowledged_percent: Some(-700.0),
            ..GatewayStatus::default()
        };
        presence.reported(OURS, &nonsense);
        let report = presence.known(OURS).unwrap().report.unwrap();
        assert_eq!((report.received, report.crc_bad, report.acknowledged_percent), (21, 4, None));
        assert_eq!((report.position_deg(), report.clock.map(|clock| clock.len())), (None, Some(LONGEST_CLOCK)));
        presence.reported(Eui64(2), &status);
        assert!(presence.known(Eui64(2)).is_none(), "strangers are not believed");
    }

    #[test]
    fn what_a_stranger_hears_is_remembered_within_bounds() {
        let presence = presence(&[]);
        presence.datagram(OURS, from(), iter::empty(), true);
        let stranger = presence.stranger(OURS).unwrap();
        assert_eq!((stranger.region, stranger.frequencies_mhz.len()), (None, 0));
        presence.datagram(OURS, from(), [868_300_000, 868_100_000, 868_300_000].into_iter(), false);
        let stranger = presence.stranger(OURS).unwrap();
        assert_eq!((stranger.frames_turned_away, stranger.region), (3, Some(Region::Eu868)));
        assert_eq!(stranger.frequencies_mhz, [868.1, 868.3]);
        // It may claim to hear anything.
        let nonsense: Vec<u32> = (1..1000).collect();
        presence.datagram(OURS, from(), nonsense.into_iter(), false);
        assert_eq!(presence.stranger(OURS).unwrap().frequencies_mhz.len(), Stranger::MOST_FREQUENCIES);
        presence.register(&row());
        assert_eq!(presence.stranger(OURS), None);
    }

    #[test]
    fn news_come_with_each_change_of_state_and_now_and_then() {
        let presence = presence(&[row()]);
        let now = Utc::now();
        let states = |at| presence.news(at).into_iter().map(|(_, news)| news.state).collect::<Vec<_>>();
        assert_eq!(states(now), [], "never heard is how it began");
        assert_eq!(presence.datagram(OURS, from(), [868_100_000; 2].into_iter(), true), CallerStatus::Known);
        assert_eq!(presence.way_down(OURS), Some(WayDown::Udp(from())));
        assert_eq!(states(now), [GatewayState::Listening]);
        assert_eq!(states(now), []);
        presence.datagram(OURS, from(), iter::empty(), false);
        assert_eq!(states(now + TimeDelta::seconds(6)), [GatewayState::Listening], "heard again meanwhile");
        assert_eq!(states(now + TimeDelta::seconds(12)), [], "not heard since it was told of");
        let later = now + TimeDelta::seconds(check::QUIET_AFTER_S + 2);
        assert_eq!(states(later), [GatewayState::Quiet]);
        assert_eq!(states(now + TimeDelta::seconds(check::LOST_AFTER_S + 2)), [GatewayState::Lost]);
        assert_eq!(presence.unstored().len(), 1);
        assert_eq!(presence.unstored(), [], "written once");
    }

    #[test]
    fn strangers_are_remembered_within_bounds() {
        let presence = presence(&[]);
        for n in 0..MAX_STRANGERS as u64 + 5 {
            assert_eq!(presence.datagram(Eui64(n), from(), iter::once(868_100_000), true), CallerStatus::Stranger);
        }
        let strangers = presence.strangers();
        assert_eq!(strangers.len(), MAX_STRANGERS);
        assert!(strangers.iter().all(|s| s.eui != Eui64(0)), "the one unheard for longest gave way");
        assert_eq!(presence.way_down(Eui64(900)), None, "a stranger is sent nothing");
        presence.register(&GatewayRow {
            gateway: domain::gateway::check::CheckedGateway { eui: Eui64(900), ..row().gateway },
            ..row()
        });
        assert!(presence.strangers().iter().all(|s| s.eui != Eui64(900)));
    }

    fn told(written: &mut mpsc::Receiver<(Eui64, GatewayEvent)>) -> Vec<(GatewayEventKind, String)> {
        iter::from_fn(|| written.try_recv().ok()).map(|(_, event)| (event.kind, event.text)).collect()
    }

    /// A presence of one gateway, how it is registered, and what is told of it.
    fn watched(change: impl FnOnce(&mut GatewayRow)) -> (GatewayRegistry, mpsc::Receiver<(Eui64, GatewayEvent)>) {
        let (gateway_log, written) = GatewayLog::new();
        let mut row = row();
        change(&mut row);
        (GatewayRegistry::new(&[row], gateway_log), written)
    }

    #[test]
    fn an_address_may_change_but_two_in_turn_are_two_gateways() {
        let (presence, mut written) = watched(|_| {});
        let pull = |port| presence.datagram(OURS, ([192, 0, 2, 1], port).into(), iter::empty(), true);
        pull(1);
        pull(1);
        pull(2);
        assert_eq!(presence.way_down(OURS), Some(WayDown::Udp(([192, 0, 2, 1], 2).into())), "NAT has bound it again");
        let first = told(&mut written);
        assert_eq!(first[0], (GatewayEventKind::Connected, "Connected by UDP from 192.0.2.1:1.".into()));
        assert_eq!(first[1].1, "It connects from 192.0.2.1:2 now; before, from 192.0.2.1:1.");
        assert_eq!(first.len(), 2);
        for port in [1, 2, 1, 2] {
            pull(port);
        }
        let odd = told(&mut written);
        let said = "It connects from 192.0.2.1:1 and from 192.0.2.1:2 in turn: two gateways use this EUI.";
        assert_eq!(odd, [(GatewayEventKind::Odd, said.to_owned())]);
    }

    #[test]
    fn datagrams_are_taken_from_where_they_may_come_only() {
        let pinned = |row: &mut GatewayRow| {
            row.gateway.udp_source = Some(domain::gateway::check::source("192.0.2.0/24").unwrap());
        };
        let (presence, mut written) = watched(pinned);
        let from = |a| SocketAddr::from(([a, 0, 2, 9], 1));
        assert_eq!(presence.datagram(OURS, from(192), iter::empty(), true), CallerStatus::Known);
        assert_eq!(presence.datagram(OURS, from(10), iter::once(868_100_000), true), CallerStatus::TurnedAway);
        let mapped = "[::ffff:192.0.2.9]:1".parse().unwrap();
        assert_eq!(presence.datagram(OURS, mapped, iter::empty(), false), CallerStatus::Known);
        assert_eq!(presence.way_down(OURS), Some(WayDown::Udp(from(192))), "a pretender gets no downlinks");
        assert_eq!(presence.known(OURS).unwrap().frames, 0);
        let said = told(&mut written).pop().unwrap();
        assert_eq!(said.1, "Datagrams with its EUI come from 10.0.2.9, and are only taken from 192.0.2.0/24.");
    }

    #[test]
    fn a_gateway_calls_the_way_it_is_registered_for() {
        let (presence, mut written) = watched(|row| row.gateway.protocol = Protocol::Websocket);
        assert_eq!(presence.datagram(OURS, from(), iter::empty(), true), CallerStatus::TurnedAway);
        let said = told(&mut written).pop().unwrap().1;
        assert!(said.starts_with("It connects by UDP packet forwarder, and is registered for WebSocket."), "{said}");
        presence.connected(OURS, WayDown::Lns, GatewaySoftware::default());
        assert_eq!(presence.way_down(OURS), Some(WayDown::Lns));
        presence.disconnected(OURS, WayDown::Lns);
        assert_eq!(presence.way_down(OURS), None);
    }

    #[test]
    fn who_is_to_call_another_way_is_not_reached_by_the_old_one() {
        let (presence, _written) = watched(|_| {});
        presence.datagram(OURS, from(), iter::empty(), true);
        let mut changed = row();
        changed.gateway.name = "quay".into();
        presence.change(&changed);
        assert_eq!(presence.way_down(OURS), Some(WayDown::Udp(from())), "a name is no way");
        changed.gateway.protocol = Protocol::Mqtt;
        presence.change(&changed);
        assert_eq!(presence.way_down(OURS), None);
        assert_eq!(presence.caller_status(OURS, Protocol::Mqtt, None), CallerStatus::Known);
        assert_eq!(presence.caller_status(OURS, Protocol::Websocket, None), CallerStatus::TurnedAway);
        assert_eq!(presence.caller_status(Eui64(7), Protocol::Mqtt, None), CallerStatus::Stranger);
    }

    #[test]
    fn frames_off_the_plan_are_listed_and_told_once() {
        let (presence, mut written) = watched(|_| {});
        for hz in [868_100_000, 903_900_000, 904_100_000, 903_900_000] {
            presence.datagram(OURS, from(), iter::once(hz), false);
        }
        assert_eq!(presence.known(OURS).unwrap().off_plan_mhz(), [903.9, 904.1]);
        assert_eq!(
            told(&mut written),
            [(GatewayEventKind::Odd, "It hears frames on 903.9 MHz, which is no channel of EU868.".into())]
        );
    }

    #[test]
    fn a_clock_that_leaps_is_a_restart_and_one_that_wraps_is_not() {
        let (presence, mut written) = watched(|_| {});
        presence.clock(OURS, u32::MAX - 1_000);
        presence.clock(OURS, 50_000);
        assert_eq!(told(&mut written), []);
        presence.clock(OURS, 1_000_000_000);
        assert_eq!(told(&mut written).len(), 1);
    }

    #[test]
    fn the_delay_is_the_median_and_jitter_the_mean_change() {
        let presence = presence(&[row()]);
        assert_eq!(presence.known(OURS).unwrap().delay(), None);
        for ms in [10.0, 30.0, 20.0] {
            presence.round_trip(OURS, ms);
        }
        let delay = presence.known(OURS).unwrap().delay().unwrap();
        assert_eq!((delay.round_trip_ms, delay.jitter_ms, delay.samples), (20.0, 15.0, 3));
    }
}

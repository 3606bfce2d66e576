//! Who is there: which gateways call, from where, and since when they have not.

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use api::gateway::{self, GatewayReport, GatewayState, Protocol, Stranger};
use api::message::{Body, GatewayNews};
use chrono::{DateTime, Utc};
use gateway_link::udp::GatewayStatus;
use lorawan::Eui64;
use lorawan::region::Region;
use store::{EstateId, GatewayRow, Store};
use tokio_util::sync::CancellationToken;

use crate::directory::Directory;
use crate::live::Live;

/// Strangers remembered; the one unheard for longest gives way.
const MAX_STRANGERS: usize = 1000;
/// Characters kept of a clock as its gateway writes it.
const LONGEST_CLOCK: usize = 40;
/// How often states are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// How often a listening gateway is news, so that a page shows when it was last heard.
const NEWS_EVERY_S: i64 = 5;

/// What is known of a registered gateway.
#[derive(Debug, Clone)]
pub struct Known {
    pub estate_id: EstateId,
    pub name: String,
    pub region: Region,
    pub last_heard: Option<DateTime<Utc>>,
    /// Where its last datagram came from.
    pub address: Option<SocketAddr>,
    /// Where its last PULL_DATA came from: the open way down.
    pub pull_address: Option<SocketAddr>,
    pub frames: u64,
    pub report: Option<GatewayReport>,
    told: GatewayState,
    told_at: DateTime<Utc>,
    stored: Option<DateTime<Utc>>,
}

#[derive(Default)]
struct Inner {
    known: HashMap<Eui64, Known>,
    strangers: HashMap<Eui64, Caller>,
}

/// What is noted of a stranger. Anybody may call, so noting is cheap; what follows from it is worked out for those
/// who ask.
struct Caller {
    address: SocketAddr,
    first_heard: DateTime<Utc>,
    last_heard: DateTime<Utc>,
    frames: u64,
    frequencies_hz: BTreeSet<u32>,
    /// Whether its first call was told.
    told: bool,
}

impl Caller {
    fn shown(&self, eui: Eui64) -> Stranger {
        let frequencies_hz: Vec<u32> = self.frequencies_hz.iter().copied().collect();
        Stranger {
            eui,
            address: self.address.to_string(),
            first_heard: self.first_heard,
            last_heard: self.last_heard,
            frames_turned_away: self.frames,
            protocol: Protocol::Udp,
            frequencies_mhz: frequencies_hz.iter().map(|hz| f64::from(*hz) / 1e6).collect(),
            region: gateway::region_of(&frequencies_hz),
        }
    }
}

/// The gateways that call.
pub struct Presence(Mutex<Inner>);

impl Presence {
    pub fn new(rows: &[GatewayRow]) -> Self {
        let presence = Self(Mutex::default());
        for row in rows {
            presence.register(row);
        }
        presence
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A gateway is registered; a stranger of that EUI no longer is one.
    pub fn register(&self, row: &GatewayRow) {
        let mut inner = self.lock();
        inner.strangers.remove(&row.gateway.eui);
        inner.known.insert(
            row.gateway.eui,
            Known {
                estate_id: row.estate_id,
                name: row.gateway.name.clone(),
                region: row.gateway.region,
                last_heard: row.last_heard,
                address: None,
                pull_address: None,
                frames: 0,
                report: None,
                told: GatewayState::at(Utc::now(), row.last_heard),
                told_at: DateTime::UNIX_EPOCH,
                stored: row.last_heard,
            },
        );
    }

    /// A registered gateway has a new name or region.
    pub fn change(&self, row: &GatewayRow) {
        if let Some(known) = self.lock().known.get_mut(&row.gateway.eui) {
            known.name.clone_from(&row.gateway.name);
            known.region = row.gateway.region;
        }
    }

    pub fn remove(&self, eui: Eui64) {
        self.lock().known.remove(&eui);
    }

    /// Notes a datagram with frames heard on these frequencies. Says whether the gateway is registered.
    pub fn heard(
        &self,
        eui: Eui64,
        from: SocketAddr,
        frames_hz: impl ExactSizeIterator<Item = u32>,
        pull: bool,
    ) -> bool {
        let now = Utc::now();
        let frames = frames_hz.len() as u64;
        let mut inner = self.lock();
        if let Some(known) = inner.known.get_mut(&eui) {
            known.last_heard = Some(now);
            known.address = Some(from);
            known.frames += frames;
            if pull {
                known.pull_address = Some(from);
            }
            return true;
        }
        if !inner.strangers.contains_key(&eui) && inner.strangers.len() >= MAX_STRANGERS {
            let oldest = inner.strangers.iter().min_by_key(|(_, caller)| caller.last_heard).map(|(eui, _)| *eui);
            oldest.and_then(|eui| inner.strangers.remove(&eui));
        }
        let caller = inner.strangers.entry(eui).or_insert_with(|| Caller {
            address: from,
            first_heard: now,
            last_heard: now,
            frames: 0,
            frequencies_hz: BTreeSet::new(),
            told: false,
        });
        (caller.address, caller.last_heard) = (from, now);
        caller.frames += frames;
        for hz in frames_hz {
            if caller.frequencies_hz.len() < Stranger::MOST_FREQUENCIES {
                caller.frequencies_hz.insert(hz);
            }
        }
        false
    }

    /// Takes what a registered gateway says of itself; its counters tell what came since the report before.
    pub fn reported(&self, eui: Eui64, status: &GatewayStatus) {
        let mut inner = self.lock();
        let Some(known) = inner.known.get_mut(&eui) else { return };
        let before = known.report.take();
        let sum = |so_far: fn(&GatewayReport) -> u64, more: Option<u32>| {
            before.as_ref().map_or(0, so_far).saturating_add(more.unwrap_or(0).into())
        };
        let crc_bad = status.received.zip(status.received_ok).map(|(all, good)| all.saturating_sub(good));
        let within = |value: Option<f64>, most: f64| value.filter(|value| value.abs() <= most);
        known.report = Some(GatewayReport {
            at: Utc::now(),
            reports: before.as_ref().map_or(0, |report| report.reports).saturating_add(1),
            clock: status.time.as_deref().map(|text| text.chars().take(LONGEST_CLOCK).collect()),
            latitude_deg: within(status.latitude_deg, 90.0),
            longitude_deg: within(status.longitude_deg, 180.0),
            altitude_m: within(status.altitude_m, 10_000.0),
            received: sum(|report| report.received, status.received),
            crc_bad: sum(|report| report.crc_bad, crc_bad),
            forwarded: sum(|report| report.forwarded, status.forwarded),
            sent: sum(|report| report.sent, status.sent),
            acknowledged_percent: within(status.acknowledged_percent, 100.0),
        });
    }

    /// The open way down to a gateway.
    pub fn way_down(&self, eui: Eui64) -> Option<SocketAddr> {
        self.lock().known.get(&eui)?.pull_address
    }

    pub fn known(&self, eui: Eui64) -> Option<Known> {
        self.lock().known.get(&eui).cloned()
    }

    pub fn stranger(&self, eui: Eui64) -> Option<Stranger> {
        self.lock().strangers.get(&eui).map(|caller| caller.shown(eui))
    }

    /// Strangers, the one heard last first.
    pub fn strangers(&self) -> Vec<Stranger> {
        let mut all: Vec<_> = self.lock().strangers.iter().map(|(eui, caller)| caller.shown(*eui)).collect();
        all.sort_by_key(|s| std::cmp::Reverse(s.last_heard));
        all
    }

    /// What has changed since this was last asked.
    fn news(&self, now: DateTime<Utc>) -> Vec<(Option<EstateId>, GatewayNews)> {
        let mut inner = self.lock();
        let mut news = Vec::new();
        for (eui, known) in &mut inner.known {
            let state = GatewayState::at(now, known.last_heard);
            let fresh = known.last_heard.is_some_and(|at| at > known.told_at)
                && (now - known.told_at).num_seconds() >= NEWS_EVERY_S;
            if state != known.told || fresh {
                (known.told, known.told_at) = (state, now);
                let name = Some(known.name.clone());
                news.push((Some(known.estate_id), GatewayNews { gateway: *eui, name, state, stranger: false }));
            }
        }
        for (eui, caller) in &mut inner.strangers {
            if !std::mem::replace(&mut caller.told, true) {
                let state = GatewayState::Listening;
                news.push((None, GatewayNews { gateway: *eui, name: None, state, stranger: true }));
            }
        }
        news
    }

    /// Times not in the database yet.
    fn unstored(&self) -> Vec<(Eui64, DateTime<Utc>)> {
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

/// Publishes news of gateways and writes down when they were last heard, until the service stops.
pub async fn watch(
    presence: Arc<Presence>,
    store: Store,
    live: Arc<Live>,
    directory: Arc<Directory>,
    stopping: CancellationToken,
) {
    let mut ticks = tokio::time::interval(LOOK_EVERY);
    let mut count = 0u32;
    loop {
        let stop = tokio::select! {
            _ = ticks.tick() => false,
            () = stopping.cancelled() => true,
        };
        for (estate, news) in presence.news(Utc::now()) {
            // A stranger belongs to nobody yet, so every estate may hear of it.
            let estates = estate.map_or_else(|| directory.estates(), |id| vec![id]);
            for id in estates {
                live.publish(Arc::new((id, crate::tell::gateway_news(&directory, id, Body::Gateway(news.clone())))));
            }
        }
        count += 1;
        if count.is_multiple_of(5) || stop {
            let heard = presence.unstored();
            if !heard.is_empty()
                && let Err(error) = store.note_heard(&heard).await
            {
                tracing::warn!("when gateways were last heard could not be written: {error}");
            }
        }
        if stop {
            return;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::iter;

    use super::*;
    use chrono::TimeDelta;

    const OURS: Eui64 = Eui64(1);

    fn from() -> SocketAddr {
        ([127, 0, 0, 1], 40_000).into()
    }

    fn row() -> GatewayRow {
        GatewayRow {
            estate_id: 1,
            gateway: api::gateway::CheckedGateway {
                eui: OURS,
                name: "chapel-rise".into(),
                region: Region::Eu868,
                latitude_deg: None,
                longitude_deg: None,
                altitude_m: None,
                antenna_gain_dbi: 2.15,
                beacons: false,
            },
            added_at: Utc::now(),
            last_heard: None,
        }
    }

    #[test]
    fn reports_are_added_up_and_nonsense_in_them_is_left_out() {
        let presence = Presence::new(&[row()]);
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
        let presence = Presence::new(&[]);
        presence.heard(OURS, from(), iter::empty(), true);
        let stranger = presence.stranger(OURS).unwrap();
        assert_eq!((stranger.region, stranger.frequencies_mhz.len()), (None, 0));
        presence.heard(OURS, from(), [868_300_000, 868_100_000, 868_300_000].into_iter(), false);
        let stranger = presence.stranger(OURS).unwrap();
        assert_eq!((stranger.frames_turned_away, stranger.region), (3, Some(Region::Eu868)));
        assert_eq!(stranger.frequencies_mhz, [868.1, 868.3]);
        // It may claim to hear anything.
        let nonsense: Vec<u32> = (1..1000).collect();
        presence.heard(OURS, from(), nonsense.into_iter(), false);
        assert_eq!(presence.stranger(OURS).unwrap().frequencies_mhz.len(), Stranger::MOST_FREQUENCIES);
        presence.register(&row());
        assert_eq!(presence.stranger(OURS), None);
    }

    #[test]
    fn news_come_with_each_change_of_state_and_now_and_then() {
        let presence = Presence::new(&[row()]);
        let now = Utc::now();
        let states = |at| presence.news(at).into_iter().map(|(_, news)| news.state).collect::<Vec<_>>();
        assert_eq!(states(now), [], "never heard is how it began");
        assert!(presence.heard(OURS, from(), [868_100_000; 2].into_iter(), true));
        assert_eq!(presence.way_down(OURS), Some(from()));
        assert_eq!(states(now), [GatewayState::Listening]);
        assert_eq!(states(now), []);
        presence.heard(OURS, from(), iter::empty(), false);
        assert_eq!(states(now + TimeDelta::seconds(6)), [GatewayState::Listening], "heard again meanwhile");
        assert_eq!(states(now + TimeDelta::seconds(12)), [], "not heard since it was told of");
        let later = now + TimeDelta::seconds(GatewayState::QUIET_AFTER_S + 2);
        assert_eq!(states(later), [GatewayState::Quiet]);
        assert_eq!(states(now + TimeDelta::seconds(GatewayState::LOST_AFTER_S + 2)), [GatewayState::Lost]);
        assert_eq!(presence.unstored().len(), 1);
        assert_eq!(presence.unstored(), [], "written once");
    }

    #[test]
    fn strangers_are_remembered_within_bounds() {
        let presence = Presence::new(&[]);
        for n in 0..MAX_STRANGERS as u64 + 5 {
            assert!(!presence.heard(Eui64(n), from(), iter::once(868_100_000), true));
        }
        let strangers = presence.strangers();
        assert_eq!(strangers.len(), MAX_STRANGERS);
        assert!(strangers.iter().all(|s| s.eui != Eui64(0)), "the one unheard for longest gave way");
        assert_eq!(presence.way_down(Eui64(900)), None, "a stranger is sent nothing");
        presence.register(&GatewayRow {
            gateway: api::gateway::CheckedGateway { eui: Eui64(900), ..row().gateway },
            ..row()
        });
        assert!(presence.strangers().iter().all(|s| s.eui != Eui64(900)));
    }
}

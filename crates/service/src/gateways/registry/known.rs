//! State of one registered gateway.

use std::collections::{BTreeSet, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::time::Instant;

use api::gateway::event::GatewayEventKind::{Connected, Odd, Refused, Restarted};
use api::gateway::{GatewayReport, GatewaySoftware, GatewayState, LinkDelay, Protocol, Stranger};
use chrono::{DateTime, Utc};
use domain::gateway::check::{CheckedGateway, gateway_state, source_text};
use domain::gateway::reception::report_exceeds;
use gateway_link::mqtt::Name;
use gateway_link::udp::GatewayStatus;
use lorawan::Eui64;
use lorawan::region::{ChannelSet, Region};
use store::{EstateId, GatewayRow};

use crate::gateways::event_log::GatewayEventDraft;

/// Characters kept of a clock as its gateway writes it.
pub(super) const LONGEST_CLOCK: usize = 40;
/// Round trips remembered.
const DELAYS: usize = 32;
/// An address that the gateway left less than this time ago is still in use.
const STILL_THERE_S: u64 = 30;
/// Returns to an address just left, after which two gateways share the EUI.
const RETURNS: u32 = 2;
/// How far a concentrator's clock may differ from the expected value; frames may have been delayed.
const CLOCK_LEAP_US: u32 = 10_000_000;

/// How a gateway is reached now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WayDown {
    /// By a datagram to the place its last PULL_DATA came from.
    Udp(SocketAddr),
    /// By its WebSocket connection.
    Lns,
    /// Through the broker.
    Mqtt,
}

/// The state of a registered gateway.
#[derive(Debug, Clone)]
pub struct Known {
    pub estate_id: EstateId,
    pub name: String,
    pub region: Region,
    pub protocol: Protocol,
    source: Option<ipnet::IpNet>,
    /// Its name at an MQTT broker.
    pub broker_name: Name,
    /// The channels its concentrator is to listen on.
    pub channels: ChannelSet,
    /// Whether it is to send beacons.
    pub beacons: bool,
    /// The uplink channels of its region.
    channels_hz: Vec<u32>,
    pub last_heard: Option<DateTime<Utc>>,
    /// Where it last called from.
    pub address: Option<SocketAddr>,
    pub way_down: Option<WayDown>,
    /// The place it called from before, and when it left it.
    before: Option<(SocketAddr, Instant)>,
    returns: u32,
    pub frames: u64,
    off_plan_hz: BTreeSet<u32>,
    delays_ms: VecDeque<f64>,
    /// The concentrator's clock, and when it showed that.
    clock: Option<(u32, Instant)>,
    pub software: Option<GatewaySoftware>,
    pub report: Option<GatewayReport>,
    pub(super) told: GatewayState,
    pub(super) told_at: DateTime<Utc>,
    pub(super) stored: Option<DateTime<Utc>>,
}

/// The name at an MQTT broker of a gateway that was registered at this time.
pub(crate) fn broker_name(eui: Eui64, added_at: DateTime<Utc>) -> Name {
    Name { eui, registered_us: added_at.timestamp_micros().try_into().unwrap_or_default() }
}

impl Known {
    pub fn new(row: &GatewayRow) -> Self {
        let mut known = Self {
            estate_id: row.estate_id,
            name: String::new(),
            region: row.gateway.region,
            protocol: row.gateway.protocol,
            source: None,
            broker_name: broker_name(row.gateway.eui, row.added_at),
            channels: row.gateway.channels,
            beacons: row.gateway.beacons,
            channels_hz: Vec::new(),
            last_heard: row.last_heard,
            address: None,
            way_down: None,
            before: None,
            returns: 0,
            frames: 0,
            off_plan_hz: BTreeSet::new(),
            delays_ms: VecDeque::new(),
            clock: None,
            software: None,
            report: None,
            told: gateway_state(Utc::now(), row.last_heard),
            told_at: DateTime::UNIX_EPOCH,
            stored: row.last_heard,
        };
        known.set(&row.gateway);
        known
    }

    /// Takes the registered settings.
    pub fn set(&mut self, gateway: &CheckedGateway) {
        self.name.clone_from(&gateway.name);
        if self.region != gateway.region || self.channels_hz.is_empty() {
            self.region = gateway.region;
            self.channels_hz = gateway.region.plan().network_uplinks().map(|channel| channel.frequency_hz).collect();
            self.channels_hz.sort_unstable();
            self.off_plan_hz.clear();
        }
        // A way down by another protocol is dropped; one that still works is found again within seconds.
        if (self.protocol, self.source) != (gateway.protocol, gateway.udp_source) {
            self.way_down = None;
        }
        self.protocol = gateway.protocol;
        self.source = gateway.udp_source;
        self.channels = gateway.channels;
        self.beacons = gateway.beacons;
    }

    /// Why a call by this protocol from this address is rejected.
    pub fn turns_away(&self, protocol: Protocol, from: Option<IpAddr>) -> Option<GatewayEventDraft> {
        if self.protocol != protocol {
            let text = format!(
                "It connects by {}, and is registered for {}. Its frames are not taken twice.",
                protocol.label(),
                self.protocol.label()
            );
            let next = "Either stop the other program on the gateway, or change how it is registered to call.";
            return Some(GatewayEventDraft::new(Refused, text).next(next));
        }
        let (pinned, from) = self.source.as_ref().filter(|_| protocol == Protocol::Udp).zip(from)?;
        // A socket for both versions shows IPv4 addresses as IPv6.
        if pinned.contains(&from.to_canonical()) {
            return None;
        }
        let text = format!("Datagrams with its EUI come from {from}, and are only taken from {}.", source_text(pinned));
        let next = "If that is the gateway in a new place, change where its datagrams may come from. If not, somebody pretends to be it.";
        Some(GatewayEventDraft::new(Refused, text).next(next))
    }

    /// Notes an accepted call.
    pub fn heard(
        &mut self,
        from: Option<SocketAddr>,
        frames_hz: impl ExactSizeIterator<Item = u32>,
    ) -> Option<GatewayEventDraft> {
        self.last_heard = Some(Utc::now());
        self.address = from;
        self.frames += frames_hz.len() as u64;
        let mut first = None;
        for hz in frames_hz {
            if self.channels_hz.binary_search(&hz).is_err() && self.off_plan_hz.len() < Stranger::MOST_FREQUENCIES {
                let new = self.off_plan_hz.insert(hz);
                first = first.or((new && self.off_plan_hz.len() == 1).then_some(hz));
            }
        }
        first.map(|hz| {
            let text = format!(
                "It hears frames on {} MHz, which is no channel of {}.",
                f64::from(hz) / 1e6,
                self.region.name()
            );
            let next = "Compare the channel plan set in the gateway with the region it is registered for.";
            GatewayEventDraft::new(Odd, text).next(next).from(from)
        })
    }

    /// Notes its address for datagrams.
    pub fn pulls_from(&mut self, from: SocketAddr) -> Option<GatewayEventDraft> {
        let was = match self.way_down.replace(WayDown::Udp(from)) {
            Some(WayDown::Udp(was)) if was == from => return None,
            Some(WayDown::Udp(was)) => was,
            _ => return Some(GatewayEventDraft::new(Connected, format!("Connected by UDP from {from}.")).from(from)),
        };
        let back = self.before.is_some_and(|(before, left)| before == from && left.elapsed().as_secs() < STILL_THERE_S);
        self.before = Some((was, Instant::now()));
        if !back {
            self.returns = 0;
            let text = format!("It connects from {from} now; before, from {was}.");
            return Some(GatewayEventDraft::new(Connected, text).from(from));
        }
        self.returns += 1;
        (self.returns == RETURNS).then(|| two_of_them(was, from))
    }

    /// Notes a concentrator's clock; says if it restarted.
    pub fn clock(&mut self, clock_us: u32) -> Option<GatewayEventDraft> {
        let now = Instant::now();
        let (before, at) = self.clock.replace((clock_us, now))?;
        let expected = before.wrapping_add((now - at).as_micros() as u32);
        let off = clock_us.wrapping_sub(expected);
        let leap = off.min(off.wrapping_neg());
        (leap > CLOCK_LEAP_US).then(|| {
            let text =
                "Its concentrator's clock has leapt, as it does when the gateway or its packet forwarder starts.";
            GatewayEventDraft::new(Restarted, text)
        })
    }

    /// Takes its report; its counters tell what came since the report before.
    pub fn reported(&mut self, status: &GatewayStatus) {
        let before = self.report.take();
        let sum = |so_far: fn(&GatewayReport) -> u64, more: Option<u32>| {
            before.as_ref().map_or(0, so_far).saturating_add(more.unwrap_or(0).into())
        };
        let crc_bad = status.received.zip(status.received_ok).map(|(all, good)| all.saturating_sub(good));
        let within = |value: Option<f64>, most: f64| value.filter(|value| value.abs() <= most);
        let forwarded = sum(|report| report.forwarded, status.forwarded);
        self.report = Some(GatewayReport {
            at: Utc::now(),
            reports: before.as_ref().map_or(0, |report| report.reports).saturating_add(1),
            clock: status.time.as_deref().map(|text| text.chars().take(LONGEST_CLOCK).collect()),
            latitude_deg: within(status.latitude_deg, 90.0),
            longitude_deg: within(status.longitude_deg, 180.0),
            altitude_m: within(status.altitude_m, 10_000.0),
            received: sum(|report| report.received, status.received),
            crc_bad: sum(|report| report.crc_bad, crc_bad),
            forwarded,
            sent: sum(|report| report.sent, status.sent),
            arrived: self.frames,
            exceeds_arrived: report_exceeds(forwarded, self.frames),
            acknowledged_percent: within(status.acknowledged_percent, 100.0),
        });
    }

    /// Notes a round-trip time.
    pub fn round_trip(&mut self, ms: f64) {
        if self.delays_ms.len() == DELAYS {
            self.delays_ms.pop_front();
        }
        self.delays_ms.push_back(ms);
    }

    pub fn delay(&self) -> Option<LinkDelay> {
        let mut sorted: Vec<f64> = self.delays_ms.iter().copied().collect();
        sorted.sort_by(f64::total_cmp);
        let steps = self.delays_ms.iter().zip(self.delays_ms.iter().skip(1)).map(|(a, b)| (a - b).abs());
        Some(LinkDelay {
            round_trip_ms: *sorted.get(sorted.len() / 2)?,
            jitter_ms: steps.sum::<f64>() / (sorted.len() as f64 - 1.0).max(1.0),
            samples: sorted.len() as u32,
        })
    }

    /// Frequencies it hears on that its region does not have.
    pub fn off_plan_mhz(&self) -> Vec<f64> {
        self.off_plan_hz.iter().map(|hz| f64::from(*hz) / 1e6).collect()
    }
}

/// Two gateways with one EUI, as far as one can tell from outside.
pub(crate) fn two_of_them(one: SocketAddr, other: SocketAddr) -> GatewayEventDraft {
    let text = format!("It connects from {one} and from {other} in turn: two gateways use this EUI.");
    let next = "Give one of the two another EUI. Until then downlinks reach whichever called last.";
    GatewayEventDraft::new(Odd, text).next(next).from(other)
}

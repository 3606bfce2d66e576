//! Gateways: registered ones and strangers.

use std::net::IpAddr;
use std::str::FromStr;

use chrono::{DateTime, Utc};
use ipnet::IpNet;
use lorawan::Eui64;
use lorawan::region::{ChannelSet, Region};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::problem::{self, Problem, bad_field};
use crate::{BandUse, layout};

/// Characters of a description.
const LONGEST_DESCRIPTION: usize = 500;

/// How a gateway is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GatewayState {
    /// Registered, and not a word from it yet.
    NeverHeard,
    /// It keeps its path open.
    Listening,
    /// Overdue.
    Quiet,
    /// Long overdue.
    Lost,
}

impl GatewayState {
    /// Seconds of silence after which a gateway is quiet. Forwarders call every 5 to 30 s.
    pub const QUIET_AFTER_S: i64 = 60;
    /// Seconds of silence after which it is lost.
    pub const LOST_AFTER_S: i64 = 600;

    /// From the time it was last heard.
    pub fn at(now: DateTime<Utc>, last_heard: Option<DateTime<Utc>>) -> Self {
        match last_heard.map(|at| (now - at).num_seconds()) {
            None => Self::NeverHeard,
            Some(s) if s < Self::QUIET_AFTER_S => Self::Listening,
            Some(s) if s < Self::LOST_AFTER_S => Self::Quiet,
            Some(_) => Self::Lost,
        }
    }

    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::NeverHeard => "never heard",
            Self::Listening => "listening",
            Self::Quiet => "quiet",
            Self::Lost => "lost",
        }
    }
}

/// What a gateway says of itself, by its reports since the service started. Gateways differ in what they fill in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayReport {
    /// When the last one came.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// How many have come.
    pub reports: u64,
    /// The gateway's clock, as it writes it.
    pub clock: Option<String>,
    /// Latitude by its own GPS, north positive.
    pub latitude_deg: Option<f64>,
    /// Longitude by its own GPS, east positive.
    pub longitude_deg: Option<f64>,
    /// Altitude by its own GPS.
    pub altitude_m: Option<f64>,
    /// Frames its radios received.
    pub received: u64,
    /// Those of them whose CRC was wrong.
    pub crc_bad: u64,
    /// Frames it forwarded.
    pub forwarded: u64,
    /// Frames it sent.
    pub sent: u64,
    /// Share of its datagrams that the service acknowledged, by its last report.
    pub acknowledged_percent: Option<f64>,
}

impl GatewayReport {
    /// Latitude and longitude by its own GPS, if it has told both.
    pub fn position_deg(&self) -> Option<(f64, f64)> {
        self.latitude_deg.zip(self.longitude_deg)
    }
}

/// How long the way to a gateway and back takes, of the last times it was measured.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LinkDelay {
    /// The median.
    pub round_trip_ms: f64,
    /// The mean difference between one time and the next.
    pub jitter_ms: f64,
    /// How many times.
    pub samples: u32,
}

/// What runs on a gateway, in its own words.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GatewaySoftware {
    /// Version of the program that speaks to the service.
    pub program: String,
    /// Version of the firmware.
    pub firmware: String,
    /// Name and version of the installed package.
    pub package: String,
    /// The hardware.
    pub model: String,
}

/// A frequency that a gateway has refused to send on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RefusedFrequency {
    /// The frequency.
    pub frequency_mhz: f64,
    /// When it refused.
    #[serde(with = "crate::millis")]
    pub since: DateTime<Utc>,
    /// When it is asked again.
    #[serde(with = "crate::millis")]
    pub until: DateTime<Utc>,
}

/// A registered gateway.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Gateway {
    /// Changes with what is told of it; sent back as `If-Match` with a change, which is then refused if somebody else was
    /// faster.
    #[serde(default)]
    pub revision: String,
    /// Its EUI.
    #[schema(value_type = String, example = "0210203040506070")]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// What people say of it.
    pub description: String,
    /// The region whose limits it keeps.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The uplink channels it listens on, as runs.
    #[schema(example = "0-7")]
    pub channels: String,
    /// How it is to call.
    pub protocol: Protocol,
    /// The only place its UDP datagrams are taken from, if there is one: an address, or a network such as
    /// 192.0.2.0/24.
    pub udp_source: Option<String>,
    /// Latitude, north positive.
    pub latitude_deg: Option<f64>,
    /// Longitude, east positive.
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea.
    pub altitude_m: Option<f64>,
    /// Antenna gain.
    pub antenna_gain_dbi: f32,
    /// Loss of the cable between gateway and antenna.
    pub cable_loss_db: f32,
    /// Whether other estates' devices may be heard through it.
    pub open_to_others: bool,
    /// Whether it is to send class B beacons.
    pub beacons: bool,
    /// Whether it has GPS time.
    pub has_gps: bool,
    /// Frequencies that it has refused to send on. They are not asked of it until then.
    #[serde(default)]
    pub refused_frequencies: Vec<RefusedFrequency>,
    /// How it is doing.
    pub state: GatewayState,
    /// When it was last heard.
    #[serde(with = "crate::millis_option")]
    pub last_heard: Option<DateTime<Utc>>,
    /// Where its datagrams come from.
    pub address: Option<String>,
    /// Frames it brought in since the service started.
    pub frames: u64,
    /// Frequencies of those of them that no channel of its region has; at most
    /// [`MOST_FREQUENCIES`](Stranger::MOST_FREQUENCIES).
    pub off_plan_mhz: Vec<f64>,
    /// How long it takes there and back, if that could be measured since the service started.
    pub delay: Option<LinkDelay>,
    /// What runs on it, if it has said so.
    pub software: Option<GatewaySoftware>,
    /// What it says of itself, if it has reported since the service started.
    pub report: Option<GatewayReport>,
    /// When it was registered.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// Its account of airtime.
    pub airtime: Vec<BandUse>,
}

/// What is told of a gateway when it is registered or changed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayAbout {
    /// Its name.
    #[schema(example = "chapel-rise")]
    pub name: String,
    /// What people should know of it: where the key hangs, whom to call.
    #[serde(default)]
    pub description: Option<String>,
    /// Latitude, north positive.
    #[serde(default)]
    pub latitude_deg: Option<f64>,
    /// Longitude, east positive.
    #[serde(default)]
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea.
    #[serde(default)]
    pub altitude_m: Option<f64>,
    /// Antenna gain; 2.15 dBi, a dipole, if not given.
    #[serde(default)]
    pub antenna_gain_dbi: Option<f32>,
    /// Loss of the cable between gateway and antenna; none if not given.
    #[serde(default)]
    pub cable_loss_db: Option<f32>,
    /// Whether other estates' devices may be heard through it; not if not given.
    #[serde(default)]
    pub open_to_others: Option<bool>,
    /// The region whose limits it keeps. If not given, that of the channels it hears, if it calls already; or else
    /// EU868.
    #[serde(default)]
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
    /// The uplink channels it is to listen on, as runs: `8-15, 65`. If not given, as many of the region's as one
    /// concentrator reaches.
    #[serde(default)]
    #[schema(example = "0-7")]
    pub channels: Option<String>,
    /// How it is to call. If not given, as it calls already, or else by UDP.
    #[serde(default)]
    pub protocol: Option<Protocol>,
    /// Take its UDP datagrams from this address only, or from this network: `192.0.2.7`, `192.0.2.0/24`.
    #[serde(default)]
    pub udp_source: Option<String>,
    /// Whether it is to send class B beacons, as long as it has GPS time.
    #[serde(default)]
    pub beacons: Option<bool>,
}

/// A gateway to register.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewGateway {
    /// Its EUI, in any pasted form.
    #[schema(example = "02:10:20:30:40:50:60:70")]
    pub eui: String,
    /// All else.
    #[serde(flatten)]
    pub about: GatewayAbout,
}

/// A gateway whose values have been checked.
#[derive(Debug, Clone, PartialEq)]
pub struct CheckedGateway {
    pub eui: Eui64,
    pub name: String,
    pub description: String,
    pub region: Region,
    pub channels: ChannelSet,
    pub protocol: Protocol,
    pub udp_source: Option<IpNet>,
    pub latitude_deg: Option<f64>,
    pub longitude_deg: Option<f64>,
    pub altitude_m: Option<f64>,
    pub antenna_gain_dbi: f32,
    pub cable_loss_db: f32,
    pub open_to_others: bool,
    pub beacons: bool,
}

/// Reads where datagrams may come from: an address, or a network.
pub fn source(text: &str) -> Result<IpNet, Problem> {
    let text = text.trim();
    let net = text.parse::<IpNet>().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
    net.map(|net| net.trunc()).map_err(|_| {
        bad_field("udp_source", text, "it has to be an address such as 192.0.2.7 or a network such as 192.0.2.0/24")
    })
}

/// A source as people write it: a network of one address is that address.
pub fn source_text(net: &IpNet) -> String {
    if net.prefix_len() == net.max_prefix_len() { net.addr().to_string() } else { net.to_string() }
}

/// The EUIs that could be meant by the 12 digits of a MAC address; `None` if it is anything else.
pub fn meant_by_mac(text: &str) -> Option<[Eui64; 2]> {
    let mac: [u8; 6] = lorawan::text::bytes(text).ok()?.try_into().ok()?;
    Some(Eui64::from_mac(mac))
}

impl NewGateway {
    /// Reads and checks every field.
    pub fn check(&self) -> Result<CheckedGateway, Problem> {
        self.about.check(problem::eui("eui", &self.eui)?)
    }
}

/// Text that says something.
fn given(text: Option<&str>) -> Option<&str> {
    text.filter(|text| !text.trim().is_empty())
}

impl GatewayAbout {
    /// Checks every field, for the gateway with this EUI.
    pub fn check(&self, eui: Eui64) -> Result<CheckedGateway, Problem> {
        let within = |field, value: Option<f64>, from, to, unit| match value {
            Some(value) => problem::range(field, value, from, to, unit).map(Some),
            None => Ok(None),
        };
        let gain = f64::from(self.antenna_gain_dbi.unwrap_or(2.15));
        let loss = f64::from(self.cable_loss_db.unwrap_or(0.0));
        let region = self.region.unwrap_or(Region::Eu868);
        let description = self.description.as_deref().unwrap_or("").trim();
        if description.chars().count() > LONGEST_DESCRIPTION {
            let why = format!("it may have {LONGEST_DESCRIPTION} characters");
            return Err(bad_field("description", &format!("{} characters long", description.chars().count()), why));
        }
        Ok(CheckedGateway {
            eui,
            name: problem::name("name", &self.name)?,
            description: description.into(),
            region,
            channels: layout::channels(region.plan(), given(self.channels.as_deref()))?.0,
            protocol: self.protocol.unwrap_or_default(),
            udp_source: given(self.udp_source.as_deref()).map(source).transpose()?,
            cable_loss_db: problem::range("cable_loss_db", loss, 0.0, 30.0, "dB")? as f32,
            open_to_others: self.open_to_others.unwrap_or(false),
            beacons: self.beacons.unwrap_or(false),
            latitude_deg: within("latitude_deg", self.latitude_deg, -90.0, 90.0, "degrees")?,
            longitude_deg: within("longitude_deg", self.longitude_deg, -180.0, 180.0, "degrees")?,
            altitude_m: within("altitude_m", self.altitude_m, -500.0, 9000.0, "m")?,
            antenna_gain_dbi: problem::range("antenna_gain_dbi", gain, -20.0, 30.0, "dBi")? as f32,
        })
    }
}

impl From<&Gateway> for GatewayAbout {
    /// As it is registered, to be changed in part.
    fn from(gateway: &Gateway) -> Self {
        Self {
            name: gateway.name.clone(),
            latitude_deg: gateway.latitude_deg,
            longitude_deg: gateway.longitude_deg,
            altitude_m: gateway.altitude_m,
            antenna_gain_dbi: Some(gateway.antenna_gain_dbi),
            cable_loss_db: Some(gateway.cable_loss_db),
            description: Some(gateway.description.clone()),
            region: Some(gateway.region),
            channels: Some(gateway.channels.clone()),
            protocol: Some(gateway.protocol),
            udp_source: gateway.udp_source.clone(),
            open_to_others: Some(gateway.open_to_others),
            beacons: Some(gateway.beacons),
        }
    }
}

/// A gateway that calls but is not registered. Its frames are not accepted.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Stranger {
    /// The EUI it gives.
    #[schema(value_type = String, example = "02ff203040506070")]
    pub eui: Eui64,
    /// Where its datagrams come from.
    pub address: String,
    /// First call since the service started.
    #[serde(with = "crate::millis")]
    pub first_heard: DateTime<Utc>,
    /// Last call.
    #[serde(with = "crate::millis")]
    pub last_heard: DateTime<Utc>,
    /// Frames it offered, all turned away.
    pub frames_turned_away: u64,
    /// How it calls.
    pub protocol: Protocol,
    /// What it was last told, where its protocol lets it be told something.
    pub told: Option<String>,
    /// Frequencies of those frames, the lowest first; at most [`MOST_FREQUENCIES`](Self::MOST_FREQUENCIES).
    pub frequencies_mhz: Vec<f64>,
    /// The region whose uplink channels most of them are, if they are any region's.
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
}

impl Stranger {
    /// Frequencies remembered; a gateway listens on eight channels and two more.
    pub const MOST_FREQUENCIES: usize = 16;
}

/// How a gateway and the service talk.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Protocol {
    /// The UDP packet-forwarder protocol, version 2.
    #[default]
    Udp,
    /// The WebSocket LNS protocol, over TLS.
    Lns,
    /// Through an MQTT broker.
    Mqtt,
}

impl Protocol {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Udp, Self::Lns, Self::Mqtt];

    /// As it is written in files and on command lines.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Udp => "udp",
            Self::Lns => "lns",
            Self::Mqtt => "mqtt",
        }
    }

    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Udp => "UDP packet forwarder",
            Self::Lns => "WebSocket LNS",
            Self::Mqtt => "MQTT",
        }
    }
}

impl FromStr for Protocol {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let known = |protocol: &Self| protocol.name().eq_ignore_ascii_case(text.trim());
        Self::ALL.into_iter().find(known).ok_or_else(|| format!("{text:?} is none of udp, lns and mqtt"))
    }
}

/// The region on whose uplink channels most of these frequencies lie. Where several come out even, the one that
/// has fewest other channels.
pub fn region_of(frequencies_hz: &[u32]) -> Option<Region> {
    let fit = |region: Region| {
        let channels: Vec<u32> = region.plan().network_uplinks().map(|channel| channel.frequency_hz).collect();
        let on = frequencies_hz.iter().filter(|hz| channels.contains(hz)).count();
        (on, std::cmp::Reverse(channels.len()))
    };
    let best = Region::ALL.into_iter().rev().max_by_key(|region| fit(*region))?;
    (fit(best).0 > 0).then_some(best)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mac_address_is_told_from_an_eui_in_any_form() {
        for mac in ["02:A1:F0:00:99:01", "02a1f0009901", "02a1.f000.9901", "0x02a1f0009901"] {
            let meant = meant_by_mac(mac).unwrap().map(|eui| eui.to_string());
            assert_eq!(meant, ["02a1f0fffe009901", "02a1f0ffff009901"], "{mac}");
        }
        for other in ["02a1f00000000001", "02a1f00099", "02a1f00099zz", ""] {
            assert_eq!(meant_by_mac(other), None, "{other:?}");
        }
    }

    #[test]
    fn what_a_gateway_hears_tells_its_region() {
        let heard = |mhz: &[f64]| region_of(&mhz.iter().map(|mhz| (mhz * 1e6).round() as u32).collect::<Vec<_>>());
        assert_eq!(heard(&[868.1, 868.3, 867.5]), Some(Region::Eu868));
        assert_eq!(heard(&[903.9, 904.1, 904.6]), Some(Region::Us915));
        assert_eq!(heard(&[865.0625]), Some(Region::In865));
        assert_eq!(heard(&[923.2, 923.4]), Some(Region::As923_1));
        assert_eq!(heard(&[868.1, 868.3, 922.1]), Some(Region::Eu868), "most of them");
        assert_eq!(heard(&[868.15, 700.0]), None);
        assert_eq!(heard(&[]), None);
        for region in Region::ALL {
            let own: Vec<u32> = region.plan().network_uplinks().map(|channel| channel.frequency_hz).collect();
            let found = region_of(&own).unwrap().plan();
            let both = own.iter().all(|hz| found.network_uplinks().any(|channel| channel.frequency_hz == *hz));
            assert!(both, "{region} has the channels of {}", found.name);
        }
    }
}

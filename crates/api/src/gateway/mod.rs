//! Gateways: registered ones and strangers.

pub mod channels;
pub mod credential;
pub mod event;
pub mod firmware;
pub mod import;
pub mod reception;

use std::str::FromStr;

use chrono::{DateTime, Utc};
use lorawan::Eui64;
use lorawan::region::Region;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::BandUse;

/// A gateway's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum GatewayState {
    /// Registered, and never heard.
    NeverHeard,
    /// It keeps its connection open.
    Listening,
    /// Overdue.
    Quiet,
    /// Long overdue.
    Lost,
}

impl GatewayState {
    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::NeverHeard => "never heard",
            Self::Listening => "listening",
            Self::Quiet => "quiet",
            Self::Lost => "lost",
        }
    }
}

/// What a gateway reports, since the service started. Gateways differ in what they fill in.
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
    /// Its frames that reached the service since the service was started.
    pub arrived: u64,
    /// Whether it reports far more forwarded frames than arrived: it counts running totals, or frames are lost on the
    /// way.
    pub exceeds_arrived: bool,
    /// Share of its datagrams that the service acknowledged, from its last report.
    pub acknowledged_percent: Option<f64>,
}

impl GatewayReport {
    /// Latitude and longitude by its own GPS, if it has told both.
    pub fn position_deg(&self) -> Option<(f64, f64)> {
        self.latitude_deg.zip(self.longitude_deg)
    }
}

/// A gateway's round-trip time, from the latest measurements.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LinkDelay {
    /// The median.
    pub round_trip_ms: f64,
    /// The mean difference between one time and the next.
    pub jitter_ms: f64,
    /// Number of measurements.
    pub samples: u32,
}

/// The software of a gateway, as it reports it.
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
    /// The revision; send it as `If-Match` with a change, which is then refused if another change came first.
    #[serde(default)]
    pub revision: String,
    /// Its EUI.
    #[schema(value_type = String, example = "0210203040506070")]
    pub eui: Eui64,
    /// Its name.
    pub name: String,
    /// Its description.
    pub description: String,
    /// The region whose limits it keeps.
    #[schema(value_type = String, example = "EU868")]
    pub region: Region,
    /// The uplink channels it listens on, as runs.
    #[schema(example = "0-7")]
    pub channels: String,
    /// Its protocol.
    pub protocol: Protocol,
    /// Where its topics begin, if it connects through an MQTT broker. Each registration of an EUI has others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "keen-heron/v1/gateways/0210203040506070-64c1b2e3f0a9d")]
    pub mqtt_topic: Option<String>,
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
    /// Frequencies that it has refused to send on, and until when they are avoided.
    #[serde(default)]
    pub refused_frequencies: Vec<RefusedFrequency>,
    /// Its state.
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
    /// Its round-trip time, if it was measured since the service started.
    pub delay: Option<LinkDelay>,
    /// Its software, if it has reported it.
    pub software: Option<GatewaySoftware>,
    /// Its reports, if it has sent one since the service started.
    pub report: Option<GatewayReport>,
    /// When it was registered.
    #[serde(with = "crate::millis")]
    pub added_at: DateTime<Utc>,
    /// Its airtime account.
    pub airtime: Vec<BandUse>,
}

/// A gateway's settings, to register or change it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct GatewayAbout {
    /// Its name.
    #[schema(max_length = 80, example = "chapel-rise")]
    pub name: String,
    /// A description for people: where the key is, whom to call.
    #[serde(default)]
    #[schema(max_length = 500)]
    pub description: Option<String>,
    /// Latitude, north positive.
    #[serde(default)]
    #[schema(minimum = -90, maximum = 90)]
    pub latitude_deg: Option<f64>,
    /// Longitude, east positive.
    #[serde(default)]
    #[schema(minimum = -180, maximum = 180)]
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea.
    #[serde(default)]
    #[schema(minimum = -500, maximum = 9_000)]
    pub altitude_m: Option<f64>,
    /// Antenna gain; 2.15 dBi, a dipole, if not given.
    #[serde(default)]
    #[schema(minimum = -20, maximum = 30)]
    pub antenna_gain_dbi: Option<f32>,
    /// Loss of the cable between gateway and antenna; none if not given.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 30)]
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
    /// Its protocol. If not given, as it calls already, or else by UDP.
    #[serde(default)]
    pub protocol: Option<Protocol>,
    /// Take its UDP datagrams from this address only, or from this network: `192.0.2.7`, `192.0.2.0/24`.
    #[serde(default)]
    pub udp_source: Option<String>,
    /// Whether it is to send class B beacons, as long as it has GPS time.
    #[serde(default)]
    pub beacons: Option<bool>,
}

/// Changes of a gateway; what is left out stays, and `null` makes it what it would be if nothing had been said. With
/// another region and no channels, it gets those of the region.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeGateway {
    /// Its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 80)]
    pub name: Option<String>,
    /// Description, in free text: at most 500 characters.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 500)]
    pub description: Option<String>,
    /// Latitude in degrees, north positive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -90, maximum = 90)]
    pub latitude_deg: Option<f64>,
    /// Longitude in degrees, east positive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -180, maximum = 180)]
    pub longitude_deg: Option<f64>,
    /// Altitude above the sea.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -500, maximum = 9_000)]
    pub altitude_m: Option<f64>,
    /// Antenna gain; 2.15 dBi if nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = -20, maximum = 30)]
    pub antenna_gain_dbi: Option<f32>,
    /// Loss of the cable to the antenna; none if nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 30)]
    pub cable_loss_db: Option<f32>,
    /// The region whose limits it keeps.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, example = "EU868")]
    pub region: Option<Region>,
    /// Uplink channels it is to listen on, as runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(example = "0-7")]
    pub channels: Option<String>,
    /// Its protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocol: Option<Protocol>,
    /// The address or network that its UDP datagrams are taken from; `null` for anywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub udp_source: Option<String>,
    /// Whether other estates' devices may be heard through it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open_to_others: Option<bool>,
    /// Whether it is to send class B beacons, as long as it has GPS time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beacons: Option<bool>,
}

/// A gateway to register.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewGateway {
    /// Its EUI, in any pasted form.
    #[schema(example = "02:10:20:30:40:50:60:70")]
    pub eui: String,
    /// Its settings.
    #[serde(flatten)]
    pub about: GatewayAbout,
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
    /// Frames it offered, all rejected.
    pub frames_turned_away: u64,
    /// Its protocol.
    pub protocol: Protocol,
    /// The last answer it got, if its protocol has answers.
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

/// The protocol between a gateway and the service.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Protocol {
    /// The UDP packet-forwarder protocol, version 2.
    #[default]
    Udp,
    /// WebSocket over TLS (the LNS protocol).
    Websocket,
    /// Through an MQTT broker.
    Mqtt,
}

impl Protocol {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Udp, Self::Websocket, Self::Mqtt];

    /// As it is written in files and on command lines.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Udp => "udp",
            Self::Websocket => "websocket",
            Self::Mqtt => "mqtt",
        }
    }

    /// In words.
    pub const fn label(self) -> &'static str {
        match self {
            Self::Udp => "UDP packet forwarder",
            Self::Websocket => "WebSocket",
            Self::Mqtt => "MQTT",
        }
    }
}

impl FromStr for Protocol {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let known = |protocol: &Self| protocol.name().eq_ignore_ascii_case(text.trim());
        Self::ALL.into_iter().find(known).ok_or_else(|| format!("{text:?} is none of udp, websocket and mqtt"))
    }
}

//! How a device and the network get on: settings agreed upon and refused, decisions on data rate.

use chrono::{DateTime, Utc};
use engine::{AdrDecision, AdrVerdict, Negotiated, Settings};
use lorawan::mac::Battery;
use lorawan::region::{AdrSettings, Plan};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A time of the engine's.
pub fn time(at: engine::Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or_default()
}

/// One setting: what the device is known to be set to, and what is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setting {
    /// Which.
    #[schema(example = "data rate")]
    pub name: String,
    /// What the device has acknowledged, or follows from its join.
    #[schema(example = "DR0 (SF12 at 125 kHz)")]
    pub known: String,
    /// What the network wants; the same if nothing is to change.
    pub wanted: String,
}

/// A setting that the device refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RefusedSetting {
    /// The request, in words.
    pub what: String,
    /// How often in a row.
    pub times: u8,
    /// When it did so last.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// When it is asked again.
    #[serde(with = "crate::millis")]
    pub again_at: DateTime<Utc>,
}

/// What a device says of itself.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DeviceHealth {
    /// Its battery, in words.
    pub battery: String,
    /// Its charge, where it told one.
    pub battery_percent: Option<f64>,
    /// SNR at which it heard the question.
    pub margin_db: i8,
    /// When it said so.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
}

/// How far device and network agree.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Agreement {
    /// Every setting.
    pub settings: Vec<Setting>,
    /// Requests that the device's next uplink should answer, in words.
    pub under_way: Vec<String>,
    /// What it refused.
    pub refused: Vec<RefusedSetting>,
    /// Downlinks with requests, in a row, that no answer came to.
    pub unanswered: u8,
    /// What it last said of battery and margin.
    pub health: Option<DeviceHealth>,
}

fn setting(name: &str, known: impl Into<String>, wanted: impl Into<String>) -> Setting {
    Setting { name: name.into(), known: known.into(), wanted: wanted.into() }
}

impl Agreement {
    /// In words, with what the region makes of the numbers.
    pub fn new(plan: &Plan, negotiated: &Negotiated) -> Self {
        let Negotiated { known, wanted, under_way, refused, unanswered, health } = negotiated;
        let mhz = |hz: u32| format!("{:.3} MHz", f64::from(hz) / 1e6);
        let power = |s: &Settings| match plan.tx_power.dbm(s.adr.tx_power) {
            Some(dbm) => format!("TXPower {} ({dbm} dBm)", s.adr.tx_power),
            None => format!("TXPower {}", s.adr.tx_power),
        };
        let both = |name: &str, words: &dyn Fn(&Settings) -> String| setting(name, words(known), words(wanted));
        let on_off = |on: bool| if on { "400 ms" } else { "off" }.to_owned();
        let mut settings = vec![
            both("data rate", &|s| plan.data_rate_words(s.adr.data_rate)),
            both("power", &power),
            both("repetitions", &|s| format!("NbTrans {}", s.adr.nb_trans)),
            both("channels", &|s| s.adr.channels.to_string()),
            both("RX1 after", &|s| format!("{} s", s.rx_delay_s)),
            both("RX1DROffset", &|s| s.rx1_data_rate_offset.to_string()),
            both("RX2", &|s| format!("{}, {}", mhz(s.rx2_frequency_hz), plan.data_rate_words(s.rx2_data_rate))),
        ];
        if known.extra_hz != wanted.extra_hz || known.extra_hz.iter().any(|hz| *hz > 0) {
            settings.push(both("extra channels", &|s| {
                let all: Vec<String> = s.extra_hz.iter().filter(|hz| **hz > 0).map(|hz| mhz(*hz)).collect();
                if all.is_empty() { "none".into() } else { all.join(", ") }
            }));
        }
        if plan.dwell.by_command {
            settings.push(both("dwell time up", &|s| on_off(s.uplink_dwell_time)));
            settings.push(both("dwell time down", &|s| on_off(s.downlink_dwell_time)));
        }
        if known.max_duty_cycle != 0 || wanted.max_duty_cycle != 0 {
            settings.push(both("duty cycle at most", &|s| match s.max_duty_cycle {
                0 => "the region's".into(),
                n => format!("1/{}", 1u32 << n),
            }));
        }
        if let Some(periodicity) = known.ping_periodicity {
            let every = format!("every {} s", 1u32 << periodicity);
            settings.push(setting("ping slots", every.clone(), every));
            settings.push(both("ping channel", &|s| {
                let hz = s.ping_frequency_hz.map_or_else(|| "the region's".into(), mhz);
                format!("{hz}, {}", plan.data_rate_words(s.ping_data_rate))
            }));
        }
        Self {
            settings,
            under_way: under_way.clone(),
            refused: refused
                .iter()
                .map(|r| RefusedSetting {
                    what: r.what.clone(),
                    times: r.times,
                    at: time(r.at),
                    again_at: time(r.again_at),
                })
                .collect(),
            unanswered: *unanswered,
            health: health.map(|h| DeviceHealth {
                battery: h.battery.to_string(),
                battery_percent: match h.battery {
                    Battery::Level(_) => h.battery.percent(),
                    _ => None,
                },
                margin_db: h.margin_db,
                at: time(h.at),
            }),
        }
    }
}

/// Data rate, power and repetitions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RateAndPower {
    /// Data rate index.
    pub data_rate: u8,
    /// TXPower index.
    pub tx_power: u8,
    /// How often each uplink is sent.
    pub nb_trans: u8,
}

impl From<AdrSettings> for RateAndPower {
    fn from(s: AdrSettings) -> Self {
        Self { data_rate: s.data_rate, tx_power: s.tx_power, nb_trans: s.nb_trans }
    }
}

/// A decision on a device's data rate, with its reasons.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RateDecision {
    /// When.
    #[serde(with = "crate::millis")]
    pub at: DateTime<Utc>,
    /// The uplink it was made with.
    pub counter: u32,
    /// `change`, `fits`, `strained` or `lossy`.
    pub verdict: String,
    /// In words: what was measured, what was decided, what it saves.
    pub why: String,
    /// Uplinks looked at.
    pub uplinks: u32,
    /// Uplinks between them that were not heard.
    pub lost: u32,
    /// SNR that was gone by.
    pub level_db: f32,
    /// SNR that the data rate needs.
    pub required_snr_db: f32,
    /// Reserve wanted.
    pub margin_db: f32,
    /// Whether the device was taken to be moving.
    pub moving: bool,
    /// What the device was set to.
    pub from: RateAndPower,
    /// What it should be set to.
    pub to: RateAndPower,
    /// Airtime of a message before.
    pub airtime_ms_before: f64,
    /// Airtime of a message after.
    pub airtime_ms_after: f64,
    /// Charge of a message before, by a model of the transmitter.
    pub charge_uah_before: f64,
    /// Charge of a message after.
    pub charge_uah_after: f64,
}

impl From<&AdrDecision> for RateDecision {
    fn from(d: &AdrDecision) -> Self {
        let verdict = match d.verdict {
            AdrVerdict::Change => "change",
            AdrVerdict::Fits => "fits",
            AdrVerdict::Strained => "strained",
            AdrVerdict::Lossy => "lossy",
        };
        Self {
            at: time(d.at),
            counter: d.counter,
            verdict: verdict.into(),
            why: d.why(),
            uplinks: d.measured.uplinks,
            lost: d.measured.lost,
            level_db: d.measured.level_db,
            required_snr_db: d.required_snr_db,
            margin_db: d.margin_db,
            moving: d.measured.moving,
            from: d.from.into(),
            to: d.to.into(),
            airtime_ms_before: d.airtime_us.0 as f64 / 1000.0,
            airtime_ms_after: d.airtime_us.1 as f64 / 1000.0,
            charge_uah_before: d.charge_uah.0,
            charge_uah_after: d.charge_uah.1,
        }
    }
}

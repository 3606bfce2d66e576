//! The agreement of device and network: settings in use, pending and refused, decisions on data rate.

use api::radio::agreement::{Agreement, DeviceHealth, RateDecision, RefusedSetting, Setting};
use chrono::{DateTime, Utc};
use engine::{AdrDecision, AdrVerdict, Negotiated, Settings};
use lorawan::mac::Battery;
use lorawan::region::Plan;

/// A time of the engine's.
pub fn time(at: engine::Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or_default()
}

fn setting(name: &str, known: impl Into<String>, wanted: impl Into<String>) -> Setting {
    Setting { name: name.into(), known: known.into(), wanted: wanted.into() }
}

/// As text; the region explains the numbers.
pub fn agreement(plan: &Plan, negotiated: &Negotiated) -> Agreement {
    let Negotiated { known, wanted, under_way, refused, unanswered, health } = negotiated;
    let mhz = |hz: u32| format!("{:.3} MHz", f64::from(hz) / 1e6);
    let power = |s: &Settings| match plan.tx_power.dbm(s.adr.tx_power) {
        Some(dbm) => format!("TXPower {} ({dbm} dBm)", s.adr.tx_power),
        None => format!("TXPower {}", s.adr.tx_power),
    };
    let both = |name: &str, words: &dyn Fn(&Settings) -> String| setting(name, words(known), words(wanted));
    let on_off = |on: bool| if on { "400 ms" } else { "off" }.to_owned();
    let mut settings = vec![
        both("data rate", &|s| plan.data_rate_label(s.adr.data_rate)),
        both("power", &power),
        both("repetitions", &|s| format!("NbTrans {}", s.adr.nb_trans)),
        both("channels", &|s| s.adr.channels.to_string()),
        both("RX1 after", &|s| format!("{} s", s.rx_delay_s)),
        both("RX1DROffset", &|s| s.rx1_data_rate_offset.to_string()),
        both("RX2", &|s| format!("{}, {}", mhz(s.rx2_frequency_hz), plan.data_rate_label(s.rx2_data_rate))),
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
            format!("{hz}, {}", plan.data_rate_label(s.ping_data_rate))
        }));
    }
    Agreement {
        settings,
        under_way: under_way.clone(),
        refused: refused.iter().map(refused_setting).collect(),
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

/// A setting that a device refused, as it is shown.
pub fn refused_setting(r: &engine::RefusedSetting) -> RefusedSetting {
    RefusedSetting {
        what: r.what.clone(),
        times: r.times,
        since: time(r.since),
        at: time(r.at),
        again_at: time(r.again_at),
    }
}

/// A decision on data rate and power, as it is shown.
pub fn rate_decision(d: &AdrDecision) -> RateDecision {
    let verdict = match d.verdict {
        AdrVerdict::Change => "change",
        AdrVerdict::Fits => "fits",
        AdrVerdict::Strained => "strained",
        AdrVerdict::Lossy => "lossy",
    };
    RateDecision {
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

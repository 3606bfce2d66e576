//! What one gateway hears: signal, channels, data rates, and devices that no other gateway hears.

use std::collections::BTreeMap;

use api::gateway::reception::{ChannelReception, OnlyHere, RateReception, Reception, SignalPoint, UptimeDay};
use api::message::{Body, Message};
use chrono::{DateTime, Utc};
use lorawan::Eui64;

/// Points of the scatter at most.
const MOST_POINTS: usize = 600;

/// Receivers report no SNR above some 10 dB, even for a stronger signal: above this the SNR does not tell the noise.
const TELLS_NOISE_DB: f32 = 5.0;

/// The noise in a channel, from the strength of what was received, which is signal and noise together, and the ratio
/// of the two: N = (S + N) / (1 + S/N).
pub fn noise_dbm(rssi_dbm: f32, snr_db: f32) -> f32 {
    rssi_dbm - 10.0 * (1.0 + 10f32.powf(snr_db / 10.0)).log10()
}

#[derive(Default)]
struct Channel {
    rssi_dbm: Vec<f32>,
    noise_dbm: Vec<f32>,
}

/// From an estate's uplinks, the latest first.
pub fn summary(gateway: Eui64, messages: &[Message]) -> Reception {
    let mut channels: BTreeMap<u64, Channel> = BTreeMap::new();
    let mut rates: BTreeMap<u8, (Option<u8>, u32)> = BTreeMap::new();
    // Of each device: its name, whether it is heard here alone, how often and how well.
    let mut devices: BTreeMap<Eui64, (String, bool, u32, Option<f32>)> = BTreeMap::new();
    let mut points = Vec::new();
    let (mut looked_at, mut uplinks, mut since) = (0, 0, None);
    for message in messages {
        let Body::Uplink(heard) = &message.body else { continue };
        looked_at += 1;
        since = Some(message.time);
        let own = heard.heard_by.iter().find(|copy| copy.gateway == gateway);
        if let Some(device) = &message.device {
            let entry = devices.entry(device.eui).or_insert_with(|| (device.name.clone(), true, 0, None));
            entry.1 &= own.is_some() && heard.heard_by.len() == 1;
            entry.2 += 1;
            entry.3 = [entry.3, own.and_then(|copy| copy.snr_db)].into_iter().flatten().reduce(f32::max);
        }
        let Some(own) = own else { continue };
        uplinks += 1;
        let radio = &heard.radio;
        let channel = channels.entry((radio.frequency_mhz * 1e6).round() as u64).or_default();
        channel.rssi_dbm.push(own.rssi_dbm);
        if let Some(snr_db) = own.snr_db {
            if snr_db <= TELLS_NOISE_DB {
                channel.noise_dbm.push(noise_dbm(own.rssi_dbm, snr_db));
            }
            if points.len() < MOST_POINTS {
                let spreading_factor = radio.spreading_factor;
                points.push(SignalPoint { rssi_dbm: own.rssi_dbm, snr_db, spreading_factor });
            }
        }
        if let Some(data_rate) = radio.data_rate {
            rates.entry(data_rate).or_insert((radio.spreading_factor, 0)).1 += 1;
        }
    }
    let channel = |(hz, mut channel): (u64, Channel)| {
        channel.noise_dbm.sort_by(f32::total_cmp);
        ChannelReception {
            frequency_mhz: hz as f64 / 1e6,
            uplinks: channel.rssi_dbm.len() as u32,
            rssi_dbm: channel.rssi_dbm.iter().sum::<f32>() / channel.rssi_dbm.len() as f32,
            noise_dbm: channel.noise_dbm.get(channel.noise_dbm.len() / 2).copied(),
        }
    };
    let rate = |(data_rate, (spreading_factor, uplinks))| RateReception { data_rate, spreading_factor, uplinks };
    let mut only_here: Vec<OnlyHere> = devices
        .into_iter()
        .filter(|(_, (_, alone, ..))| *alone)
        .map(|(dev_eui, (name, _, uplinks, best_snr_db))| OnlyHere { dev_eui, name, uplinks, best_snr_db })
        .collect();
    only_here.sort_by(|a, b| a.name.cmp(&b.name));
    Reception {
        looked_at,
        since,
        uplinks,
        points,
        channels: channels.into_iter().map(channel).collect(),
        data_rates: rates.into_iter().map(rate).collect(),
        only_here,
    }
}

/// A gateway's online time on its last days, the earliest first, from its changes of state. `states` are when and
/// whether it then was listening, the earliest first; what was before the first is not known.
pub fn uptime(states: &[(DateTime<Utc>, bool)], now: DateTime<Utc>, days: u16) -> Vec<UptimeDay> {
    let midnight = |at: DateTime<Utc>| at.date_naive().and_time(chrono::NaiveTime::MIN).and_utc();
    (0..days)
        .rev()
        .map(|back| {
            let from = midnight(now) - chrono::TimeDelta::days(back.into());
            let to = (from + chrono::TimeDelta::days(1)).min(now);
            let (mut known_ms, mut there_ms, mut returns) = (0, 0, 0);
            for (n, (begin, listening)) in states.iter().enumerate() {
                let end = states.get(n + 1).map_or(now, |next| next.0);
                let ms = (end.min(to) - (*begin).max(from)).num_milliseconds().max(0);
                known_ms += ms;
                if *listening {
                    there_ms += ms;
                    let came_back = n > 0 && !states[n - 1].1;
                    returns += u32::from(came_back && (from..to).contains(begin));
                }
            }
            UptimeDay {
                day: from.format("%Y-%m-%d").to_string(),
                listening_percent: (known_ms > 0).then(|| there_ms as f64 * 100.0 / known_ms as f64),
                returns,
            }
        })
        .collect()
}

/// Frames that a gateway may report beyond those that arrived before it is pointed out: its first report counts frames
/// from before the service was started.
const REPORTED_BEYOND: u64 = 100;

/// Whether a gateway reports far more forwarded frames than arrived.
pub const fn report_exceeds(forwarded: u64, arrived: u64) -> bool {
    forwarded > arrived.saturating_mul(2).saturating_add(REPORTED_BEYOND)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use serde_json::json;

    use super::*;

    const HERE: Eui64 = Eui64(0x02a1_f000_0000_0001);

    fn uplink(device: &str, mhz: f64, data_rate: u8, heard_by: &[(Eui64, f32, f32)]) -> Message {
        let copies: Vec<_> = heard_by
            .iter()
            .map(|(gateway, rssi, snr)| json!({ "gateway": gateway, "name": "g", "rssi_dbm": rssi, "snr_db": snr }))
            .collect();
        serde_json::from_value(json!({
            "id": "01", "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey", "fleet": "f",
            "device": { "eui": format!("02b000000000000{}", device.len()), "name": device },
            "type": "uplink", "frame": { "counter": 1, "port": 2, "confirmed": false, "payload": "00" }, "readings": {},
            "radio": { "region": "EU868", "data_rate": data_rate, "spreading_factor": 12 - data_rate,
                "frequency_mhz": mhz, "airtime_ms": 46.3 },
            "heard_by": copies, "warnings": []
        }))
        .unwrap()
    }

    #[test]
    fn running_totals_are_told_from_counts_since_the_last_report() {
        assert!(report_exceeds(386_463, 3_591) && report_exceeds(101, 0));
        assert!(!report_exceeds(3_600, 3_591) && !report_exceeds(100, 0), "some were heard before the service started");
        assert!(!report_exceeds(u64::MAX, u64::MAX));
    }

    #[test]
    fn noise_follows_from_strength_and_ratio() {
        // As strong as the noise: half of what is received is noise.
        assert!((noise_dbm(-100.0, 0.0) - -103.01).abs() < 0.01);
        // Far below it, all of it is; far above, the ratio tells.
        assert!((noise_dbm(-117.0, -20.0) - -117.04).abs() < 0.01);
        assert!((noise_dbm(-80.0, 10.0) - -90.41).abs() < 0.01);
    }

    #[test]
    fn what_a_gateway_hears_is_summed_up() {
        let other = Eui64(2);
        let messages = [
            uplink("a", 868.1, 5, &[(HERE, -100.0, 0.0)]),
            uplink("a", 868.1, 5, &[(HERE, -80.0, 9.0)]),
            uplink("bb", 868.3, 0, &[(HERE, -117.0, -19.0), (other, -90.0, 5.0)]),
            uplink("ccc", 868.3, 0, &[(other, -90.0, 5.0)]),
        ];
        let reception = summary(HERE, &messages);
        assert_eq!((reception.looked_at, reception.uplinks, reception.points.len()), (4, 3, 3));
        let channels: Vec<_> = reception.channels.iter().map(|c| (c.frequency_mhz, c.uplinks, c.rssi_dbm)).collect();
        assert_eq!(channels, [(868.1, 2, -90.0), (868.3, 1, -117.0)]);
        let noise = reception.channels[0].noise_dbm.unwrap();
        assert!((noise - -103.01).abs() < 0.01, "the strong one tells nothing of it: {noise}");
        let rates: Vec<_> = reception.data_rates.iter().map(|r| (r.data_rate, r.spreading_factor, r.uplinks)).collect();
        assert_eq!(rates, [(0, Some(12), 1), (5, Some(7), 2)]);
        let alone: Vec<_> = reception.only_here.iter().map(|d| (d.name.as_str(), d.uplinks, d.best_snr_db)).collect();
        assert_eq!(alone, [("a", 2, Some(9.0))]);
        assert_eq!(summary(other, &messages).only_here.len(), 1);
        assert_eq!(summary(HERE, &[]).since, None);
    }

    #[test]
    fn days_are_shared_out_among_states() {
        let now: DateTime<Utc> = "2026-05-04T12:00:00Z".parse().unwrap();
        let hours = |h| now - TimeDelta::hours(h);
        // Known since noon two days ago; lost for six hours yesterday morning.
        let states = [(hours(48), true), (hours(30), false), (hours(24), true)];
        let days = uptime(&states, now, 4);
        let told: Vec<_> = days.iter().map(|d| (d.day.as_str(), d.listening_percent, d.returns)).collect();
        assert_eq!(
            told,
            [
                ("2026-05-01", None, 0),
                ("2026-05-02", Some(100.0), 0),
                ("2026-05-03", Some(75.0), 1),
                ("2026-05-04", Some(100.0), 0),
            ]
        );
    }
}

//! `heron airtime calc`: worked out here, without a service.

use anyhow::Result;
use api::calculator::airtime::{AirtimeQuestion, AirtimeRow};
use domain::calculator::airtime::table;
use domain::input;

use crate::commands::airtime::args::AirtimeCalcArgs;
use crate::show::{self, Out};

/// Works a message's cost out here; nothing is asked of a service.
pub(super) fn calc(out: &Out, args: &AirtimeCalcArgs) -> Result<()> {
    let payload_bytes = match (&args.payload, args.payload_bytes) {
        (Some(hex), _) => input::payload("payload", hex, 242)?.len() as u32,
        (None, bytes) => bytes.unwrap_or_default(),
    };
    let question = AirtimeQuestion {
        payload_bytes,
        fopts_bytes: Some(args.fopts),
        interval_s: args.interval,
        daily_airtime_s: args.daily_airtime,
        times: Some(args.times),
        repeater: args.repeater,
        dwell_off: args.dwell_off,
    };
    let answer = table(args.region, &question)?;
    if out.json {
        return out.json(&answer);
    }
    let sent = if answer.times > 1 { format!(", each sent {} times", answer.times) } else { String::new() };
    let interval = answer.interval_s.map(|s| format!(", every {}", duration(s))).unwrap_or_default();
    let own = answer.daily_airtime_s.map(|s| format!(", at most {} of airtime a day", duration(s))).unwrap_or_default();
    out.line(format!(
        "{}: {} bytes of payload, {} on air{interval}{sent}{own}.",
        answer.region, answer.payload_bytes, answer.phy_payload_bytes
    ))?;
    if let Some(ms) = answer.dwell_ms {
        out.line(format!("A single LoRa or FSK uplink may last {ms} ms; the largest payloads below keep to that."))?;
    }
    out.line("")?;
    let mut head =
        vec!["DR", "MODULATION", "MAX BYTES", "AIRTIME", "LIMIT", "SHORTEST INTERVAL", "A DAY", "SENSITIVITY"];
    if answer.interval_s.is_some() {
        head.extend(["DUTY CYCLE", "AIRTIME A DAY", "KEEPS LIMITS", "LARGEST PAYLOAD"]);
    }
    out.line(show::table(&head, answer.rows.iter().map(row)))
}

fn row(row: &AirtimeRow) -> Vec<String> {
    let none = || "–".to_owned();
    let max = match (row.max_payload_bytes, row.fits) {
        (None, _) => "not usable".into(),
        (Some(max), true) => max.to_string(),
        (Some(max), false) => format!("{max}, too long"),
    };
    let limit = match (row.limit_percent, &row.sub_band) {
        (Some(percent), Some(band)) => format!("{percent} % ({band})"),
        _ => "none".into(),
    };
    let mut cells = vec![
        format!("DR{}", row.data_rate),
        row.modulation.clone(),
        max,
        format!("{:.1} ms", row.airtime_ms),
        limit,
        row.shortest_interval_s.map_or_else(none, duration),
        row.messages_a_day.map_or_else(none, |n| n.to_string()),
        row.sensitivity_dbm.map_or_else(none, |dbm| format!("{dbm:.0} dBm")),
    ];
    if let (Some(duty), Some(a_day), Some(keeps)) = (row.duty_cycle_percent, row.airtime_s_a_day, row.keeps_limits) {
        let keeps = match (row.fits, keeps) {
            (false, _) => "too long",
            (true, true) => "yes",
            (true, false) => "no",
        };
        let largest = row.largest_payload_bytes.map_or("none".into(), |n| format!("{n} bytes"));
        cells.extend([format!("{duty:.3} %"), duration(a_day), keeps.into(), largest]);
    }
    cells
}

/// Seconds in a unit that suits them.
fn duration(s: f64) -> String {
    match s {
        _ if s < 120.0 => format!("{} s", rounded(s)),
        _ if s < 7200.0 => format!("{} min", rounded(s / 60.0)),
        _ if s < 172_800.0 => format!("{} h", rounded(s / 3600.0)),
        _ => format!("{} days", rounded(s / 86_400.0)),
    }
}

/// Two decimals, without those that say nothing.
fn rounded(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

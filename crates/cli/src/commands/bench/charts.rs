//! `heron bench charts`: how long charts take of what is stored.

use std::time::Instant;

use anyhow::{Result, bail};
use api::device::Device;
use api::reading::chart::{Chart, WantedChart, WantedLine};
use chrono::{TimeDelta, Utc};
use serde::Serialize;

use crate::client::Client;
use crate::commands::bench::args::ChartsArgs;
use crate::show::{self, Out};

/// Charts of one kind.
#[derive(Debug, Serialize)]
struct Charts {
    what: &'static str,
    points: usize,
    p50_ms: f64,
    p95_ms: f64,
    worst_ms: f64,
}

pub(super) async fn run(client: &Client, out: &Out, args: &ChartsArgs) -> Result<()> {
    let devices: Vec<Device> = client.all(&client.in_estate("devices").await?, &[]).await?;
    if devices.is_empty() {
        bail!("there is no device; `scripts/bench history` registers some");
    }
    let path = client.in_estate("chart").await?;
    let kinds = [
        ("a day", 1, 1),
        ("a month", 30, 1),
        ("a month of ten devices", 30, 10),
        ("a year", 365, 1),
        ("a month, a year ago", 30, 1),
    ];
    let mut measured = Vec::new();
    for (n, (what, days, lines)) in kinds.into_iter().enumerate() {
        let (mut ms, mut points) = (Vec::new(), 0);
        for chart in 0..args.charts as usize {
            // Other devices with each chart: what was read just before must not help.
            let of = |line: usize| &devices[(chart * 7919 + n * 104_729 + line * 613) % devices.len()];
            let lines = (0..lines).map(|line| WantedLine { device: of(line).dev_eui, reading: args.reading.clone() });
            let until = Utc::now() - TimeDelta::days(if what.ends_with("ago") { 330 } else { 0 });
            let from = until - TimeDelta::days(days);
            let wanted = WantedChart { lines: lines.collect(), from, until: Some(until), points: Some(400) };
            let begun = Instant::now();
            let answer: Chart = client.post(&path, &wanted).await?;
            ms.push(begun.elapsed().as_secs_f64() * 1000.0);
            points = points.max(answer.lines.iter().map(|line| line.points.len()).sum());
        }
        ms.sort_by(f64::total_cmp);
        let at = |share: f64| ms[((ms.len() - 1) as f64 * share) as usize];
        measured.push(Charts { what, points, p50_ms: at(0.5), p95_ms: at(0.95), worst_ms: at(1.0) });
    }
    if out.json {
        return out.json(&measured);
    }
    let rows = measured.iter().map(|of| {
        let ms = |ms: f64| format!("{ms:.1} ms");
        vec![of.what.into(), of.points.to_string(), ms(of.p50_ms), ms(of.p95_ms), ms(of.worst_ms)]
    });
    out.line(show::table(&["A CHART OF", "POINTS", "P50", "P95", "WORST"], rows))
}

//! `heron region`.

pub(crate) mod args;

use anyhow::Result;
use api::calculator::region::{ChannelInfo, RegionDetail, RegionSummary};
use domain::calculator::region::{detail, summaries};

use crate::commands::region::args::RegionVerb;
use crate::show::{self, Out};

pub(crate) fn run(out: &Out, verb: RegionVerb) -> Result<()> {
    match verb {
        RegionVerb::List => list(out),
        RegionVerb::Show { region } => {
            let region = detail(region);
            if out.json { out.json(&region) } else { print(out, &region) }
        }
    }
}

fn list(out: &Out) -> Result<()> {
    let head = ["NAME", "RP002", "BAND", "CHANNELS", "PLAN", "POWER"];
    out.list(&summaries(), "", &head, |r: &RegionSummary| {
        vec![
            r.name.to_string(),
            r.title.clone(),
            format!("{}–{} MHz", r.from_mhz, r.to_mhz),
            r.channels.to_string(),
            if r.dynamic { "dynamic".into() } else { "fixed".into() },
            format!("{} dBm", r.max_power_dbm),
        ]
    })
}

fn print(out: &Out, region: &RegionDetail) -> Result<()> {
    let summary = &region.summary;
    out.line(format!("{}: {}, {}", summary.name, summary.title, region.source))?;
    out.line("")?;
    band(out, region)?;
    section(out, "Uplink channels")?;
    channels(out, &region.uplinks)?;
    if !region.downlinks.is_empty() {
        section(out, "Downlink channels")?;
        channels(out, &region.downlinks)?;
    }
    if !region.blocks.is_empty() {
        section(out, "Blocks of eight channels and a wide one")?;
        let head = ["BLOCK", "CHANNELS", "MHZ", "CHMASKCNTL 5"];
        out.line(show::table(
            &head,
            region.blocks.iter().map(|b| {
                let mask = format!("ChMask 0x{:04x}", b.mask);
                vec![b.number.to_string(), b.channels.clone(), span(b.from_mhz, b.to_mhz), mask]
            }),
        ))?;
    }
    section(out, "Join channels")?;
    let head = ["CHANNEL", "MHZ", "DATA RATES", "RX1 MHZ", "RX2 MHZ"];
    let joins = runs(&region.joins, |a, b| {
        a.min_data_rate == b.min_data_rate && a.max_data_rate == b.max_data_rate && b.index == a.index + 1
    });
    out.line(show::table(
        &head,
        joins.into_iter().flat_map(|run| evenly(run, |j| j.frequency_mhz)).map(|run| {
            let (first, last) = (&run[0], &run[run.len() - 1]);
            vec![
                span(first.index, last.index),
                span(first.frequency_mhz, last.frequency_mhz),
                rates(first.min_data_rate, first.max_data_rate),
                span(first.rx1_mhz, last.rx1_mhz),
                span(first.rx2_mhz, last.rx2_mhz),
            ]
        }),
    ))?;
    data_rates(out, region)?;
    windows(out, region)?;
    limits(out, region)?;
    section(out, "Channel masks and lists")?;
    out.line(format!("CFList: {}", region.cf_list))?;
    for (cntl, meaning) in region.ch_mask_cntl.iter().enumerate() {
        out.line(format!("ChMaskCntl {cntl}: {meaning}"))?;
    }
    for note in &region.notes {
        out.line(format!("\n{note}"))?;
    }
    Ok(())
}

fn section(out: &Out, title: &str) -> Result<()> {
    out.line(format!("\n{title}"))
}

/// The band as a line, with a mark where channels are.
fn band(out: &Out, region: &RegionDetail) -> Result<()> {
    const WIDTH: usize = 96;
    let (from, to) = (region.summary.from_mhz, region.summary.to_mhz);
    let strip = |frequencies: &mut dyn Iterator<Item = f64>| -> String {
        let mut cells = ['·'; WIDTH];
        for mhz in frequencies {
            let at = ((mhz - from) / (to - from) * WIDTH as f64) as usize;
            cells[at.min(WIDTH - 1)] = '█';
        }
        cells.iter().collect()
    };
    let line = |name: &str, strip: String| out.line(format!("{name:<10}{strip}"));
    let edges = format!("{from} MHz");
    out.line(format!("{:<10}{edges}{:>width$}", "", format!("{to} MHz"), width = WIDTH - edges.len()))?;
    line("uplinks", strip(&mut region.uplinks.iter().map(|c| c.frequency_mhz)))?;
    if !region.downlinks.is_empty() {
        line("downlinks", strip(&mut region.downlinks.iter().map(|c| c.frequency_mhz)))?;
    }
    line("RX2", strip(&mut std::iter::once(region.rx2_mhz)))?;
    line("beacon", strip(&mut region.class_b.beacon_mhz.iter().copied()))
}

fn channels(out: &Out, channels: &[ChannelInfo]) -> Result<()> {
    let head = ["CHANNEL", "MHZ", "STEP", "WIDTH", "DATA RATES", "SUB-BAND", ""];
    let alike = runs(channels, |a, b| {
        a.bandwidth_khz == b.bandwidth_khz && a.added == b.added && a.sub_band == b.sub_band && b.index == a.index + 1
    });
    let like = alike.into_iter().flat_map(|run| evenly(run, |c| c.frequency_mhz));
    out.line(show::table(
        &head,
        like.map(|run| {
            let (first, last) = (&run[0], &run[run.len() - 1]);
            vec![
                span(first.index, last.index),
                span(first.frequency_mhz, last.frequency_mhz),
                run.get(1)
                    .map_or(String::new(), |next| format!("{} kHz", step_khz(first.frequency_mhz, next.frequency_mhz))),
                format!("{} kHz", first.bandwidth_khz),
                rates(first.min_data_rate, first.max_data_rate),
                first.sub_band.clone().unwrap_or_default(),
                if first.added { "added by this network".into() } else { String::new() },
            ]
        }),
    ))
}

fn data_rates(out: &Out, region: &RegionDetail) -> Result<()> {
    section(out, "Data rates, and largest payloads in bytes")?;
    let switched = region.dwell.by_command;
    let mut head = vec!["DR", "MODULATION", "USE", "BIT/S", "PAYLOAD", "WITH REPEATER"];
    if switched {
        head.extend(["DWELL TIME ON", "AND REPEATER"]);
    }
    head.extend(["SNR", "SENSITIVITY"]);
    let bytes = |n: Option<usize>| n.map_or("not usable".into(), |n| n.to_string());
    out.line(show::table(
        &head,
        region.data_rates.iter().map(|d| {
            let mut row = vec![
                format!("DR{}", d.index),
                d.modulation.clone(),
                d.direction.clone(),
                d.bit_rate_bps.to_string(),
                bytes(d.max_payload),
                bytes(d.max_payload_repeater),
            ];
            if switched {
                row.extend([bytes(d.max_payload_dwell), bytes(d.max_payload_dwell_repeater)]);
            }
            row.push(d.required_snr_db.map_or(String::new(), |db| format!("{db} dB")));
            row.push(d.sensitivity_dbm.map_or(String::new(), |dbm| format!("{dbm:.0} dBm")));
            row
        }),
    ))
}

fn windows(out: &Out, region: &RegionDetail) -> Result<()> {
    section(out, "Receive windows")?;
    out.line(format!("RX1 is on {}, at the data rate below by RX1DROffset.", region.rx1_channel))?;
    out.line(format!("RX2 is on {} MHz at DR{}.", region.rx2_mhz, region.rx2_data_rate))?;
    let tables = [("UPLINK", Some(&region.rx1_data_rates)), ("DWELL ON", region.rx1_data_rates_dwell.as_ref())];
    for (title, table) in tables {
        let Some(table) = table else { continue };
        let offsets = table.first().map_or(0, |row| row.rx1.len());
        let names: Vec<String> = (0..offsets).map(|offset| format!("OFFSET {offset}")).collect();
        let head: Vec<&str> = std::iter::once(title).chain(names.iter().map(String::as_str)).collect();
        let cells = |row: &api::calculator::region::Rx1Row| {
            std::iter::once(row.uplink).chain(row.rx1.iter().copied()).map(|dr| format!("DR{dr}")).collect()
        };
        out.line(show::table(&head, table.iter().map(cells)))?;
    }
    let b = &region.class_b;
    let hop = |all: &[f64]| match all {
        [first, .., last] => format!("{first} to {last} MHz, {} channels hopped over", all.len()),
        _ => all.iter().map(|mhz| format!("{mhz} MHz")).collect::<Vec<_>>().join(", "),
    };
    out.line(format!("Beacon: {} at DR{}.", hop(&b.beacon_mhz), b.beacon_data_rate))?;
    out.line(format!("Ping slots: {} at DR{}.", hop(&b.ping_slot_mhz), b.ping_slot_data_rate))
}

fn limits(out: &Out, region: &RegionDetail) -> Result<()> {
    section(out, "Power and limits")?;
    let powers: Vec<String> = region.tx_power_dbm.iter().map(f32::to_string).collect();
    let reference = &region.tx_power_reference;
    out.line(format!("TXPower 0 to {}: {} dBm ({reference})", powers.len() - 1, powers.join(", ")))?;
    let dwell = &region.dwell;
    let longest = |ms: Option<u32>| ms.map_or("of any length".into(), |ms| format!("at most {ms} ms"));
    let switched = if dwell.by_command { ", unless TxParamSetupReq changes it" } else { "" };
    let source = if dwell.source.is_empty() { String::new() } else { format!(" ({})", dwell.source) };
    let (up, down) = (longest(dwell.uplink_ms), longest(dwell.downlink_ms));
    out.line(match (dwell.uplink_ms, dwell.downlink_ms) {
        (None, None) => "No dwell time limit.".into(),
        _ => format!("Uplinks are {up}, downlinks {down}{switched}{source}."),
    })?;
    let head = ["SUB-BAND", "FROM", "TO", "DUTY CYCLE", "EIRP", "GATEWAYS", "SOURCE"];
    out.line(show::table(
        &head,
        region.sub_bands.iter().map(|s| {
            vec![
                s.name.clone(),
                format!("{} MHz", s.from_mhz),
                format!("{} MHz", s.to_mhz),
                s.duty_cycle_percent.map_or("none".into(), |percent| format!("{percent} %")),
                format!("{} dBm", s.max_eirp_dbm),
                format!("{} dBm", s.gateway_eirp_dbm),
                s.source.clone(),
            ]
        }),
    ))
}

fn rates(min: u8, max: u8) -> String {
    if min == max { format!("DR{min}") } else { format!("DR{min}–DR{max}") }
}

fn span<T: PartialEq + std::fmt::Display + Copy>(first: T, last: T) -> String {
    if first == last { first.to_string() } else { format!("{first}–{last}") }
}

fn step_khz(from_mhz: f64, to_mhz: f64) -> f64 {
    ((to_mhz - from_mhz) * 1e3).round()
}

/// A run cut where its spacing changes.
fn evenly<T>(run: &[T], mhz: impl Fn(&T) -> f64) -> Vec<&[T]> {
    let step = |a: &T, b: &T| step_khz(mhz(a), mhz(b));
    let mut rest = run;
    let mut out = Vec::new();
    while let [first, second, ..] = rest {
        let wanted = step(first, second);
        let even = 1 + rest.windows(2).take_while(|w| step(&w[0], &w[1]) == wanted).count();
        let (head, tail) = rest.split_at(even);
        out.push(head);
        rest = tail;
    }
    if !rest.is_empty() {
        out.push(rest);
    }
    out
}

/// Neighbours that belong together.
fn runs<T>(all: &[T], together: impl Fn(&T, &T) -> bool) -> Vec<&[T]> {
    all.chunk_by(together).collect()
}

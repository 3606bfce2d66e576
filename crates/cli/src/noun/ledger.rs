//! `heron airtime ledger`: the accounts of airtime.

use anyhow::Result;
use api::ledger::{DayStrip, Ledger};

use crate::args::LedgerBy;
use crate::client::Client;
use crate::show::{self, Out};

pub async fn run(client: &Client, out: &Out, by: Option<LedgerBy>) -> Result<()> {
    let ledger: Ledger = client.get(&client.in_estate("airtime").await?, &[]).await?;
    if out.json {
        return out.json(&ledger);
    }
    let shown = |which| by.is_none_or(|only| only == which);
    if shown(LedgerBy::Gateway) {
        gateways(out, &ledger)?;
    }
    if shown(LedgerBy::Device) {
        devices(out, &ledger)?;
    }
    if shown(LedgerBy::SubBand) {
        sub_bands(out, &ledger)?;
    }
    Ok(())
}

fn s(ms: f64) -> String {
    format!("{:.2} s", ms / 1000.0)
}

fn gateways(out: &Out, ledger: &Ledger) -> Result<()> {
    out.line("Gateways, the last hour: what the law counts")?;
    let rows = ledger.gateways.iter().flat_map(|gateway| {
        let silent = vec![gateway.name.clone(), "–".into(), "nothing sent".into(), "".into(), "".into(), "".into()];
        let bands = gateway.hour.iter().map(|band| {
            vec![
                gateway.name.clone(),
                band.sub_band.clone(),
                s(band.airtime_ms),
                s((band.allowance_ms - band.airtime_ms).max(0.0)),
                format!("{:.2} %", band.used_percent),
                band.frames.to_string(),
            ]
        });
        let bands: Vec<_> = bands.collect();
        if bands.is_empty() { vec![silent] } else { bands }
    });
    out.line(show::table(&["GATEWAY", "SUB-BAND", "SENT", "LEFT", "USED", "FRAMES"], rows))?;
    for gateway in &ledger.gateways {
        for strip in &gateway.day {
            out.line(format!(
                "\n{} {}, 24 hours: {} in {} frames",
                gateway.name,
                strip.sub_band,
                s(strip.airtime_ms),
                strip.frames
            ))?;
            out.line(format!("-24 h {} now", drawn(strip)))?;
        }
    }
    out.line("")
}

/// A day as a strip: each quarter of an hour against a quarter of the hour's allowance.
fn drawn(strip: &DayStrip) -> String {
    const STEPS: [char; 9] = ['·', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let share = strip.allowance_ms / 4.0;
    let step = |ms: &f64| match ms / share {
        none if none <= 0.0 => STEPS[0],
        used => STEPS[((used * 8.0).ceil() as usize).clamp(1, 8)],
    };
    strip.quarters_ms.iter().map(step).collect()
}

fn devices(out: &Out, ledger: &Ledger) -> Result<()> {
    if ledger.devices.is_empty() {
        return out.line("No device was on air in the last hour.\n");
    }
    out.line("Devices, the last hour, fullest sub-band first")?;
    let rows = ledger.devices.iter().map(|device| {
        let band = &device.hour;
        let over = if band.used_percent > 100.0 { "over the limit: `heron device why` says what fits" } else { "" };
        vec![
            device.name.clone(),
            device.fleet.clone(),
            band.sub_band.clone(),
            s(band.airtime_ms),
            format!("{:.2} %", band.used_percent),
            band.frames.to_string(),
            over.into(),
        ]
    });
    out.line(show::table(&["DEVICE", "FLEET", "SUB-BAND", "SENT", "USED", "FRAMES", ""], rows))?;
    if !ledger.towards.is_empty() {
        out.line("\nDownlinks, the last 24 hours: what each device cost gateways")?;
        let rows =
            ledger.towards.iter().map(|d| vec![d.name.clone(), d.fleet.clone(), s(d.airtime_ms), d.frames.to_string()]);
        out.line(show::table(&["DEVICE", "FLEET", "AIRTIME", "DOWNLINKS"], rows))?;
    }
    out.line("")
}

fn sub_bands(out: &Out, ledger: &Ledger) -> Result<()> {
    out.line("Sub-bands, all transmitters together")?;
    let rows = ledger.sub_bands.iter().map(|band| {
        vec![
            format!("{} {}", band.region, band.sub_band),
            format!("{:.3}–{:.3} MHz", band.from_mhz, band.to_mhz),
            s(band.up_hour_ms),
            s(band.down_hour_ms),
            s(band.up_day_ms),
            s(band.down_day_ms),
        ]
    });
    out.line(show::table(&["SUB-BAND", "", "UP, HOUR", "DOWN, HOUR", "UP, DAY", "DOWN, DAY"], rows))
}

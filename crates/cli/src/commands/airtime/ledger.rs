//! `heron airtime show`: the accounts of airtime.

use anyhow::Result;
use api::ledger::{DayStrip, Ledger, Spans};

use crate::client::Client;
use crate::commands::airtime::args::LedgerBy;
use crate::show::{self, Out};

pub(super) async fn run(client: &Client, out: &Out, by: Option<LedgerBy>) -> Result<()> {
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

/// Airtime now, in the last hour and in the last day, as three cells.
fn spans(sent: &Spans) -> [String; 3] {
    [sent.now, sent.hour, sent.day].map(|spent| s(spent.airtime_ms))
}

/// What all the columns of [`spans`] stand for.
const NOW: &str = "now is the running minute and the one before";

fn gateways(out: &Out, ledger: &Ledger) -> Result<()> {
    out.line(format!("Gateways, all they sent; {NOW}"))?;
    let rows = ledger.gateways.iter().map(|gateway| {
        let [now, hour, day] = spans(&gateway.sent);
        vec![gateway.name.clone(), gateway.region.to_string(), now, hour, day, gateway.sent.day.frames.to_string()]
    });
    out.line(show::table(&["GATEWAY", "REGION", "NOW", "HOUR", "DAY", "FRAMES, DAY"], rows))?;
    out.line("\nGateways, the last hour: what the law counts")?;
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
    out.line(format!("Devices, fullest sub-band of the last hour first; {NOW}"))?;
    let rows = ledger.devices.iter().map(|device| {
        let band = &device.hour;
        let [now, hour, day] = spans(&device.sent);
        let over = if band.used_percent > 100.0 { "over the limit: `heron device why` says what fits" } else { "" };
        vec![
            device.name.clone(),
            device.fleet.clone(),
            now,
            hour,
            day,
            device.sent.day.frames.to_string(),
            format!("{:.2} % of {}", band.used_percent, band.sub_band),
            over.into(),
        ]
    });
    out.line(show::table(&["DEVICE", "FLEET", "NOW", "HOUR", "DAY", "FRAMES, DAY", "USED", ""], rows))?;
    if !ledger.towards.is_empty() {
        out.line("\nDownlinks: what each device cost gateways")?;
        let rows = ledger.towards.iter().map(|device| {
            let [now, hour, day] = spans(&device.sent);
            let downlinks = device.sent.day.frames.to_string();
            vec![device.name.clone(), device.fleet.clone(), now, hour, day, downlinks]
        });
        out.line(show::table(&["DEVICE", "FLEET", "NOW", "HOUR", "DAY", "DOWNLINKS, DAY"], rows))?;
    }
    out.line("")
}

fn sub_bands(out: &Out, ledger: &Ledger) -> Result<()> {
    out.line("Sub-bands, all transmitters together")?;
    let rows = ledger.sub_bands.iter().map(|band| {
        let place =
            [format!("{} {}", band.region, band.sub_band), format!("{:.3}–{:.3} MHz", band.from_mhz, band.to_mhz)];
        place.into_iter().chain(spans(&band.up)).chain(spans(&band.down)).collect()
    });
    out.line(show::table(&["SUB-BAND", "", "UP, NOW", "HOUR", "DAY", "DOWN, NOW", "HOUR", "DAY"], rows))
}

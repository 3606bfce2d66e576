//! `heron readings`.

pub(crate) mod args;

use std::path::Path;

use anyhow::{Result, bail};
use api::reading::chart::{Chart, ChartLine, ChartPoint, DeviceReading, Freshness, WantedChart, WantedLine};
use chrono::DateTime;

use crate::args::moment;
use crate::args::moment::Moment;
use crate::client::Client;
use crate::commands::readings::args::{ChartArgs, ExportArgs, ExportForm, ReadingsVerb};
use crate::save;
use crate::show::{self, Out};

impl ExportForm {
    const fn name(self) -> &'static str {
        match self {
            Self::Csv => "csv",
            Self::Jsonl => "jsonl",
            Self::Parquet => "parquet",
        }
    }

    /// By the end of a file's name.
    fn of(file: &Path) -> Result<Self> {
        match file.extension().and_then(|ending| ending.to_str()) {
            Some("csv") => Ok(Self::Csv),
            Some("jsonl" | "ndjson") => Ok(Self::Jsonl),
            Some("parquet") => Ok(Self::Parquet),
            _ => bail!("{}: a name that ends with .csv, .jsonl or .parquet is wanted, or --form", file.display()),
        }
    }
}

/// How wide bars are.
const BAR: f64 = 40.0;

pub(crate) async fn run(client: &Client, out: &Out, verb: ReadingsVerb) -> Result<()> {
    match verb {
        ReadingsVerb::List { device } => list(client, out, &device).await,
        ReadingsVerb::Chart(args) => chart(client, out, args).await,
        ReadingsVerb::Export(args) => export(client, args).await,
    }
}

async fn list(client: &Client, out: &Out, device: &str) -> Result<()> {
    let eui = client.dev_eui(device).await?;
    let readings: Vec<DeviceReading> =
        client.all(&client.in_estate(&format!("devices/{eui}/readings")).await?, &[]).await?;
    let none = "There is no reading yet. Is there a model with a decoder? `heron device show` says.";
    out.list(&readings, none, &["READING", "VALUE", "AGE", "", "LAST DAY", "KIND"], |r| {
        let freshness = match (r.freshness, r.interval_s) {
            (Freshness::Fresh, _) => String::new(),
            (Freshness::NowAndThen, Some(s)) => format!("comes about every {}", api::elapsed(s as i64)),
            (Freshness::NowAndThen, None) => "comes now and then".into(),
            (Freshness::Overdue, Some(s)) => format!("overdue: usually every {}", api::elapsed(s as i64)),
            (Freshness::Overdue, None) => "overdue".into(),
        };
        let day = r.day.map_or_else(String::new, |day| {
            format!("{} to {}, mean {}", short(day.least), short(day.most), short(day.mean))
        });
        let age = show::ago(Some(r.time));
        vec![r.name.clone(), r.reading.to_string(), age, freshness, day, r.kind.label().into()]
    })?;
    if !out.json {
        for doubt in readings.iter().filter_map(|reading| reading.doubt.as_ref()) {
            out.line(format!("! {}: {}; {}", doubt.reading, doubt.seen, doubt.question))?;
        }
    }
    Ok(())
}

fn short(number: f64) -> String {
    let text = format!("{number:.3}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

async fn chart(client: &Client, out: &Out, args: ChartArgs) -> Result<()> {
    let line = WantedLine { device: client.dev_eui(&args.device).await?, reading: args.reading };
    let (from, until) = (args.since.since(), args.until.map(Moment::until));
    let wanted = WantedChart { lines: vec![line], from, until, points: Some(args.points) };
    let chart: Chart = client.post(&client.in_estate("chart").await?, &wanted).await?;
    if out.json {
        return out.json(&chart);
    }
    chart.lines.iter().try_for_each(|line| draw(out, line))
}

fn draw(out: &Out, line: &ChartLine) -> Result<()> {
    if line.points.is_empty() {
        return out.line("There is no value in this time.");
    }
    let bounds = line.points.iter().flat_map(|p| [p.least, p.most, p.value]).flatten();
    let (low, high) = bounds.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), v| (low.min(v), high.max(v)));
    let place = |value: f64| if high > low { ((value - low) / (high - low) * BAR).round() as usize } else { 0 };
    let unit = line.unit.as_deref().unwrap_or_default();
    let rows = line.points.iter().map(|point| {
        let at = DateTime::from_timestamp_millis(point.at_ms).map_or_else(String::new, show::moment);
        let at = at.trim_end_matches(".000").to_owned();
        match (point.value, &point.word) {
            (Some(value), Some(word)) => vec![at, word.clone(), bar(point, value, &place)],
            (Some(value), None) => vec![at, format!("{} {unit}", short(value)), bar(point, value, &place)],
            (None, Some(word)) => vec![at, line.words.get(word).unwrap_or(word).clone(), String::new()],
            (None, None) => vec![at, "–".into(), "no values".into()],
        }
    });
    out.line(show::table(
        &[&format!("TIME ({})", show::zone()), if line.step_s.is_some() { "MEAN" } else { "VALUE" }, ""],
        rows,
    ))?;
    match line.step_s {
        Some(s) => {
            out.line(format!("each stands for {}; ─ from the lowest to the highest", api::elapsed(i64::from(s))))
        }
        None => Ok(()),
    }
}

/// A line from the lowest to the highest, with the mean on it.
fn bar(point: &ChartPoint, value: f64, place: &impl Fn(f64) -> usize) -> String {
    let (from, to) = (place(point.least.unwrap_or(value)), place(point.most.unwrap_or(value)));
    let mean = place(value);
    (0..=to)
        .map(|at| {
            if at == mean {
                '●'
            } else if at >= from {
                '─'
            } else {
                ' '
            }
        })
        .collect()
}

async fn export(client: &Client, args: ExportArgs) -> Result<()> {
    let form = match (args.form, &args.output) {
        (Some(form), _) => form,
        (None, Some(file)) => ExportForm::of(file)?,
        (None, None) => ExportForm::Csv,
    };
    let mut query = vec![("form", form.name().to_owned()), ("since", moment::text(args.since.since()))];
    query.extend(args.until.map(|until| ("until", moment::text(until.until()))));
    if let Some(device) = &args.device {
        query.push(("device", client.dev_eui(device).await?.to_string()));
    }
    query.extend(args.fleet.map(|fleet| ("fleet", fleet)));
    query.extend(args.model.map(|model| ("model", model)));
    query.extend(args.reading.map(|reading| ("reading", reading)));
    let response = client.stream(&client.in_estate("readings/export").await?, &query, None).await?;
    save::whole(response, args.output.as_deref()).await
}

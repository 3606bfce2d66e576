//! Measuring a running service under a load of our own making.

mod api;
pub(crate) mod args;
mod charts;
mod gateways;
mod outlets;

use std::time::{Duration, Instant};

use ::api::device::DeviceDetail;
use ::api::device::register::NewDevice;
use ::api::fleet::{Fleet, NewFleet};
use ::api::gateway::Gateway;
use ::api::metrics::{Metrics, Slice};
use ::api::model::Model;
use ::api::{IngestStats, Page};
use anyhow::{Result, bail};
use domain::metrics::within_ms;
use futures::{StreamExt as _, TryStreamExt as _, stream};
use serde::Serialize;
use simulator::load::{Load, Size};

use crate::client::Client;
use crate::commands::bench::args::{BenchVerb, IngestArgs};
use crate::commands::bench::outlets::Sinks;
use crate::show::{self, Out};

const FLEET: &str = "load";
const MODEL: &str = "load-probe";
/// Registrations under way at a time.
const REGISTERING: usize = 8;
/// Uplinks sent and not yet stored, at most: enough to keep the service busy, not more than it can work on.
const UNDER_WAY: u64 = 20_000;
const LOOK_EVERY: Duration = Duration::from_millis(20);
/// Before anything counts.
const WARM_UP: Duration = Duration::from_secs(5);
/// After the last uplink, for what is still under way.
const DRAIN: Duration = Duration::from_secs(60);
/// One uplink in this many is confirmed in the steady part: as many answers as the gateways'
/// airtime allows.
const CONFIRMED_EVERY: u64 = 50;

/// Uplinks a second of all devices whose decoder never ends.
const ENDLESS_PER_S: f64 = 50.0;
const ENDLESS: &str = "load-endless";

/// What was measured.
#[derive(Debug, Serialize)]
struct Measured {
    devices: u32,
    gateways: u8,
    sustained: Part,
    steady: Part,
    #[serde(skip_serializing_if = "Option::is_none")]
    beside_endless_decoders: Option<Part>,
    /// Sustained uplinks against the rows a second the same database takes by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    share_of_raw_rate: Option<f64>,
    /// Messages a second that an outlet delivers of what is stored: to a web server, and to a broker.
    #[serde(skip_serializing_if = "Option::is_none")]
    catching_up_per_s: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    catching_up_by_broker_per_s: Option<f64>,
    shed_frames: u64,
    datagrams_not_acknowledged: u64,
    resident_bytes: Option<u64>,
}

#[derive(Debug, Serialize)]
struct Part {
    uplinks_per_s: f64,
    until_stored_p50_ms: Option<f64>,
    until_stored_p99_ms: Option<f64>,
    /// From the end of the collection window to the gateway's having the answer.
    answer_p50_ms: Option<f64>,
    answer_p99_ms: Option<f64>,
    answers: usize,
    cores_used: Option<f64>,
    /// From the first copy's datagram to the arrival at an outlet's other side.
    #[serde(skip_serializing_if = "Option::is_none")]
    arrived_p50_ms: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    arrived_p99_ms: Option<f64>,
    arrivals: usize,
}

pub(crate) async fn run(client: &Client, out: &Out, verb: BenchVerb, yes: bool) -> Result<()> {
    let args = match verb {
        BenchVerb::Ingest(args) => args,
        BenchVerb::Api(args) => return api::run(client, out, &args, yes).await,
        BenchVerb::Charts(args) => return charts::run(client, out, &args).await,
        BenchVerb::Gateways(args) => return gateways::run(client, out, &args, yes).await,
    };
    let measured = ingest(client, &args, yes).await?;
    if out.json {
        return out.json(&measured);
    }
    let head = ["", "UPLINKS/S", "STORED P50", "P99", "ANSWERED P50", "P99", "ARRIVED P50", "P99", "CORES"];
    let ms = |value: Option<f64>| value.map_or_else(|| "–".into(), |ms| format!("{ms:.1} ms"));
    let parts = [("as fast as it goes", &measured.sustained), ("steady", &measured.steady)];
    let beside = measured.beside_endless_decoders.iter().map(|part| ("beside endless decoders", part));
    let rows = parts.into_iter().chain(beside).map(|(name, part)| {
        vec![
            name.into(),
            format!("{:.0}", part.uplinks_per_s),
            ms(part.until_stored_p50_ms),
            ms(part.until_stored_p99_ms),
            ms(part.answer_p50_ms),
            ms(part.answer_p99_ms),
            ms(part.arrived_p50_ms),
            ms(part.arrived_p99_ms),
            part.cores_used.map_or_else(|| "–".into(), |cores| format!("{cores:.2}")),
        ]
    });
    out.line(show::table(&head, rows))?;
    out.line(format!(
        "\n{} devices, each uplink heard by {} gateways, every second one decoded by a script. \"Stored\" counts from \
         the first copy's datagram, the collection window included; \"answered\" from the end of that window to the \
         gateway's having the downlink ({} of them).",
        measured.devices, measured.gateways, measured.steady.answers
    ))?;
    out.line(format!(
        "{} frames shed, {} datagrams not acknowledged; {} MB of memory.",
        measured.shed_frames,
        measured.datagrams_not_acknowledged,
        measured.resident_bytes.map_or(0, |bytes| bytes >> 20)
    ))?;
    for (rate, to) in [(measured.catching_up_per_s, "a web server"), (measured.catching_up_by_broker_per_s, "a broker")]
    {
        if let Some(rate) = rate {
            out.line(format!("An outlet to {to} delivers {rate:.0} stored messages a second."))?;
        }
    }
    if let Some(share) = measured.share_of_raw_rate {
        out.line(format!("{share:.2} uplinks for each row that the database takes by itself."))?;
    }
    Ok(())
}

async fn ingest(client: &Client, args: &IngestArgs, yes: bool) -> Result<Measured> {
    let size = Size { devices: args.devices, gateways: args.gateways, endless: args.endless_decoders };
    show::confirm(
        yes,
        &format!(
            "This registers {} gateways and {} devices in a fleet named {FLEET}. They cannot be removed together: use a service made for this.",
            size.gateways, size.devices
        ),
    )?;
    register(client, size).await?;
    let begun = chrono::Utc::now();
    let sinks = match args.outlets {
        0 => None,
        outlets => Some(Sinks::add(client, outlets, args.broker.as_deref()).await?),
    };
    let sinks = sinks.as_ref();
    let before: IngestStats = client.get("/ingest", &[]).await?;
    let load = Load::start(size, args.gateways_call)?;
    eprintln!("as fast as it goes, for {} s …", args.seconds);
    let sustained = part(client, args, (&load, sinks), None).await?;
    eprintln!("{} uplinks a second, for {} s …", args.rate, args.seconds);
    load.confirm_every(CONFIRMED_EVERY);
    let steady = part(client, args, (&load, sinks), Some(args.rate)).await?;
    let beside_endless_decoders = match size.endless {
        0 => None,
        endless => {
            eprintln!("the same beside {endless} devices whose decoder never ends, for {} s …", args.seconds);
            load.endless_every((args.rate / ENDLESS_PER_S).ceil() as u64);
            Some(part(client, args, (&load, sinks), Some(args.rate)).await?)
        }
    };
    let after: IngestStats = client.get("/ingest", &[]).await?;
    let metrics = client.metrics().await?;
    let mut caught_up = (None, None);
    if let Some(sinks) = sinks {
        eprintln!("catching up with what is stored …");
        sinks.remove(client).await?;
        caught_up.0 = Some(sinks.catch_up(client, begun, None).await?);
        if args.broker.is_some() {
            caught_up.1 = Some(sinks.catch_up(client, begun, args.broker.as_deref()).await?);
        }
    }
    let shed =
        |ingest: &IngestStats| ingest.dropped.iter().filter(|d| d.reason == "overload").map(|d| d.count).sum::<u64>();
    Ok(Measured {
        devices: size.devices,
        gateways: size.gateways,
        share_of_raw_rate: args.raw_rows_per_s.map(|raw| sustained.uplinks_per_s / raw),
        catching_up_per_s: caught_up.0,
        catching_up_by_broker_per_s: caught_up.1,
        sustained,
        steady,
        beside_endless_decoders,
        shed_frames: shed(&after) - shed(&before),
        datagrams_not_acknowledged: load.unacknowledged(),
        resident_bytes: metrics.resident_bytes,
    })
}

async fn register(client: &Client, size: Size) -> Result<()> {
    let fleets: Page<Fleet> = client.get(&client.in_estate("fleets").await?, &[]).await?;
    if fleets.items.iter().any(|fleet| fleet.slug == FLEET) {
        bail!("a fleet named {FLEET} is there already, and its devices' counters with it; take a fresh service");
    }
    let new = NewFleet { slug: FLEET.into(), name: None, limits: Default::default() };
    client.post::<Fleet>(&client.in_estate("fleets").await?, &new).await?;
    client.put::<Model>(&client.in_estate(&format!("models/{MODEL}")).await?, &Size::model()).await?;
    for n in 0..size.gateways {
        client.post::<Gateway>(&client.in_estate("gateways").await?, &Size::gateway(n)).await?;
    }
    let devices = (0..size.devices).map(|n| Size::device(n, FLEET, MODEL)).collect();
    register_devices(client, devices).await?;
    if size.endless > 0 {
        let new = NewFleet { slug: ENDLESS.into(), name: None, limits: Default::default() };
        client.post::<Fleet>(&client.in_estate("fleets").await?, &new).await?;
        client.put::<Model>(&client.in_estate(&format!("models/{ENDLESS}")).await?, &Size::endless_model()).await?;
        let devices = (0..size.endless).map(|n| size.endless_device(n, ENDLESS, ENDLESS)).collect();
        register_devices(client, devices).await?;
    }
    Ok(())
}

async fn register_devices(client: &Client, devices: Vec<NewDevice>) -> Result<()> {
    let (path, of) = (client.in_estate("devices").await?, devices.len());
    stream::iter(devices.into_iter().enumerate())
        .map(|(n, device)| {
            let path = &path;
            async move {
                client.post::<DeviceDetail>(path, &device).await?;
                if (n + 1).is_multiple_of(1000) {
                    eprintln!("{} of {of} devices registered", n + 1);
                }
                anyhow::Ok(())
            }
        })
        .buffer_unordered(REGISTERING)
        .try_collect()
        .await
}

/// One part of the measurement, at a rate or as fast as uplinks are stored.
async fn part(
    client: &Client,
    args: &IngestArgs,
    (load, sinks): (&Load, Option<&Sinks>),
    rate: Option<f64>,
) -> Result<Part> {
    let base = client.metrics().await?;
    let sent_before = load.sent();
    let start = Instant::now();
    let mut began: Option<(Instant, Metrics, usize)> = None;
    let ended = loop {
        tokio::time::sleep(LOOK_EVERY).await;
        let now = client.metrics().await?;
        match rate {
            Some(rate) => load.allow(sent_before + (start.elapsed().as_secs_f64() * rate) as u64),
            None => load.allow(sent_before + done_between(&base, &now) + UNDER_WAY),
        }
        match &began {
            None if start.elapsed() >= WARM_UP => {
                sinks.map(Sinks::begin);
                began = Some((Instant::now(), now, load.answered_us().len()));
            }
            Some((at, ..)) if at.elapsed() >= Duration::from_secs(args.seconds) => break now,
            _ => {}
        }
    };
    let Some((at, first, answered)) = began else { bail!("it ended before it began") };
    let seconds = at.elapsed().as_secs_f64();
    let ages_ms = sinks.map(Sinks::ages_ms).unwrap_or_default();
    let drained = Instant::now();
    while drained.elapsed() < DRAIN {
        let now = client.metrics().await?;
        let sent = load.sent() - sent_before;
        let (stored, decoded) = (now.uplinks_stored - base.uplinks_stored, now.uplinks_decoded - base.uplinks_decoded);
        // Those whose decoder never ends are read for minutes yet.
        if stored >= sent && (decoded >= sent / 2 || load.endless_sent() > 0) {
            break;
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
    if let Some(sinks) = sinks {
        sinks.settle().await;
    }
    let slices = difference(&ended.until_stored, &first.until_stored);
    let window_us = u64::from(ended.collect_ms) * 1000;
    let mut answers_us: Vec<u64> = load.answered_us().split_off(answered);
    answers_us.iter_mut().for_each(|us| *us = us.saturating_sub(window_us));
    answers_us.sort_unstable();
    let answers_ms: Vec<f64> = answers_us.iter().map(|us| *us as f64 / 1000.0).collect();
    Ok(Part {
        uplinks_per_s: done_between(&first, &ended) as f64 / seconds,
        until_stored_p50_ms: within_ms(&slices, 0.5),
        until_stored_p99_ms: within_ms(&slices, 0.99),
        answer_p50_ms: at_share(&answers_ms, 0.5),
        answer_p99_ms: at_share(&answers_ms, 0.99),
        answers: answers_us.len(),
        arrived_p50_ms: at_share(&ages_ms, 0.5),
        arrived_p99_ms: at_share(&ages_ms, 0.99),
        arrivals: ages_ms.len(),
        cores_used: ended.cpu_s.zip(first.cpu_s).map(|(end, begin)| (end - begin) / seconds),
    })
}

/// The value that a share of all does not exceed.
fn at_share(sorted: &[f64], share: f64) -> Option<f64> {
    let at = (sorted.len() as f64 * share).ceil() as usize;
    sorted.get(at.checked_sub(1)?).copied()
}

/// Uplinks done in between. Every second one is done when its readings are stored as well.
fn done_between(before: &Metrics, after: &Metrics) -> u64 {
    let decoded = after.uplinks_decoded - before.uplinks_decoded;
    (after.uplinks_stored - before.uplinks_stored).min(2 * decoded)
}

fn difference(after: &[Slice], before: &[Slice]) -> Vec<Slice> {
    let count = |up_to_ms: f64| before.iter().find(|s| s.up_to_ms == up_to_ms).map_or(0, |slice| slice.count);
    after.iter().map(|slice| Slice { count: slice.count - count(slice.up_to_ms), ..*slice }).collect()
}

//! Measuring what connected gateways cost, and how a service stands it when all come back at once.

use std::time::{Duration, Instant};

use agent::kit::{Entrance, Kit};
use anyhow::{Context as _, Result, bail};
use api::gateway::Protocol;
use api::gateway::credential::KitOrder;
use api::gateway::import::{GatewayImport, ImportOutcome};
use api::metrics::Metrics;
use futures::{StreamExt as _, TryStreamExt as _, stream};
use serde::Serialize;
use simulator::crowd::{self, Crowd};

use crate::client::Client;
use crate::commands::bench::args::GatewaysArgs;
use crate::show::{self, Out};

/// Kits made at a time.
const AT_ONCE: usize = 8;
const LOOK_EVERY: Duration = Duration::from_millis(20);
/// The longest wait for all of them.
const PATIENCE: Duration = Duration::from_secs(300);

/// What was measured.
#[derive(Debug, Serialize)]
struct Measured {
    by_udp: usize,
    by_websocket: usize,
    /// While they are connected and hear nothing.
    idle_cores: Option<f64>,
    idle_bytes: Option<u64>,
    /// The same before any was connected.
    bytes_without_gateways: Option<u64>,
    storm_gateways: usize,
    /// From the moment when all were dropped until all were connected again.
    storm_settled_s: f64,
    /// Connections tried for that, discovery not counted.
    storm_attempts: usize,
    /// Processor time the service took for it.
    storm_cpu_s: Option<f64>,
}

async fn until(what: &str, there: impl Fn() -> bool) -> Result<Duration> {
    let begun = Instant::now();
    while !there() {
        if begun.elapsed() > PATIENCE {
            bail!("after {} s still waiting for {what}", PATIENCE.as_secs());
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
    Ok(begun.elapsed())
}

async fn entrance(client: &Client, n: usize) -> Result<(usize, Entrance)> {
    let eui = crowd::eui(Protocol::Websocket, n);
    let kit = client.fetch(&client.in_estate(&format!("gateways/{eui}/kit")).await?, &KitOrder::default()).await?;
    let entrance = Kit::from_zip(&kit)?.entrance("tc")?.context("a kit without an entrance for traffic")?;
    Ok((n, entrance))
}

pub(super) async fn run(client: &Client, out: &Out, args: &GatewaysArgs, yes: bool) -> Result<()> {
    let (by_udp, storm) = (args.by_udp, args.storm);
    show::confirm(
        yes,
        &format!(
            "This registers {} gateways. They cannot be removed together: use a service made for this.",
            by_udp + storm
        ),
    )?;
    register(client, by_udp, storm).await?;
    let measured = measure(client, args).await?;
    if out.json { out.json(&measured) } else { measured.print(out) }
}

async fn register(client: &Client, by_udp: usize, by_websocket: usize) -> Result<()> {
    let path = client.in_estate("gateways/import").await?;
    // The largest file has 2000 rows.
    for (udp, websocket) in [(by_udp, 0), (0, by_websocket)] {
        let file = GatewayImport { csv: crowd::csv(udp, websocket), skip_bad: true, preview: false };
        let _: ImportOutcome = client.post(&path, &file).await?;
    }
    Ok(())
}

async fn measure(client: &Client, args: &GatewaysArgs) -> Result<Measured> {
    let (by_udp, storm) = (args.by_udp, args.storm);
    let by_websocket = args.by_websocket.min(storm);
    eprintln!("making {storm} connection kits …");
    let entrances: Vec<(usize, Entrance)> =
        stream::iter(0..storm).map(|n| entrance(client, n)).buffer_unordered(AT_ONCE).try_collect().await?;
    let before = client.metrics().await?;
    let mut crowd = Crowd::default();
    eprintln!("{by_udp} gateways by UDP and {by_websocket} by WebSocket connect …");
    for n in 0..by_udp {
        crowd.add_udp(crowd::eui(Protocol::Udp, n), args.gateways_call).await?;
    }
    let (first, rest) = entrances.split_at(by_websocket);
    for (n, entrance) in first {
        crowd.add_websocket(crowd::eui(Protocol::Websocket, *n), entrance.clone());
    }
    until("all to be connected", || crowd.connected() == by_websocket && crowd.acknowledged() == by_udp).await?;
    eprintln!("they are there, and hear nothing for {} s …", args.seconds);
    let idle = client.metrics().await?;
    tokio::time::sleep(Duration::from_secs(args.seconds)).await;
    let after = client.metrics().await?;
    for (n, entrance) in rest {
        crowd.add_websocket(crowd::eui(Protocol::Websocket, *n), entrance.clone());
    }
    until("all to be connected", || crowd.connected() == storm).await?;
    eprintln!("{storm} by WebSocket are dropped at once, and come back …");
    let (calm, attempts) = (client.metrics().await?, crowd.attempts());
    let begun = Instant::now();
    crowd.drop_all();
    until("the drop", || crowd.connected() < storm).await?;
    until("all to be back", || crowd.connected() == storm).await?;
    let storm_settled_s = begun.elapsed().as_secs_f64();
    let settled = client.metrics().await?;
    Ok(Measured {
        by_udp,
        by_websocket,
        idle_cores: cpu_between(&idle, &after).map(|s| s / (after.up_s - idle.up_s).max(f64::EPSILON)),
        idle_bytes: after.resident_bytes,
        bytes_without_gateways: before.resident_bytes,
        storm_gateways: storm,
        storm_settled_s,
        storm_attempts: crowd.attempts() - attempts,
        storm_cpu_s: cpu_between(&calm, &settled),
    })
}

/// Processor time the service took between two looks at it.
fn cpu_between(from: &Metrics, to: &Metrics) -> Option<f64> {
    from.cpu_s.zip(to.cpu_s).map(|(a, b)| b - a)
}

impl Measured {
    fn print(&self, out: &Out) -> Result<()> {
        let mb = |bytes: Option<u64>| bytes.map_or("–".into(), |bytes| format!("{} MB", bytes >> 20));
        out.line(format!(
            "{} gateways by UDP and {} by WebSocket connected, keep-alive and status only: {:.3} cores, {} of memory ({} \
             before any was connected).",
            self.by_udp,
            self.by_websocket,
            self.idle_cores.unwrap_or_default(),
            mb(self.idle_bytes),
            mb(self.bytes_without_gateways)
        ))?;
        out.line(format!(
            "{} by WebSocket over TLS, dropped at once: all back after {:.1} s, {} attempts, {:.1} s of the service's \
             processor time. Both sides ran on this machine.",
            self.storm_gateways,
            self.storm_settled_s,
            self.storm_attempts,
            self.storm_cpu_s.unwrap_or_default()
        ))
    }
}

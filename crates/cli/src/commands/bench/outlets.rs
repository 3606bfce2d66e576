//! Outlets beside the load: sinks of this command's own making note how old each message is when it arrives.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use ::api::outlet::Outlet;
use anyhow::{Context as _, Result};
use chrono::{DateTime, Utc};
use http_body_util::{BodyExt as _, Empty};
use hyper::body::{Bytes, Incoming};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use rumqttc::{AsyncClient, Event, Incoming as Packet, MqttOptions, QoS};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::net::TcpListener;

use crate::client::Client;

/// Messages in one request at most.
const TOGETHER: u32 = 100;
/// The same while history is caught up with.
const CATCHING_UP: u32 = 1_000;
/// How long catching up may take.
const LONGEST: Duration = Duration::from_secs(120);

/// What has arrived.
#[derive(Default)]
struct Arrivals {
    count: AtomicU64,
    /// From a message's time to its arrival, in milliseconds.
    ages_ms: Mutex<Vec<f64>>,
}

/// What outlets are told to send: little, so that it is they that are measured and not the sinks.
#[derive(Deserialize)]
struct Sent {
    time: DateTime<Utc>,
}

impl Arrivals {
    fn take(&self, body: &[u8]) {
        let now = Utc::now();
        let sent = serde_json::from_slice::<Vec<Sent>>(body)
            .or_else(|_| serde_json::from_slice::<Sent>(body).map(|one| vec![one]))
            .unwrap_or_default();
        let ages = sent.iter().map(|one| (now - one.time).as_seconds_f64() * 1000.0);
        self.count.fetch_add(sent.len() as u64, Ordering::Relaxed);
        self.ages_ms.lock().unwrap_or_else(PoisonError::into_inner).extend(ages);
    }
}

/// Sinks, and the outlets that deliver to them.
pub(super) struct Sinks {
    arrivals: Arc<Arrivals>,
    web: SocketAddr,
    outlets: u32,
}

impl Sinks {
    /// Adds outlets: to a web server of this command's, and by turns to a broker, if there is one.
    pub(super) async fn add(client: &Client, outlets: u32, broker: Option<&str>) -> Result<Self> {
        let arrivals = Arc::new(Arrivals::default());
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let web = listener.local_addr()?;
        tokio::spawn(serve(listener, Arc::clone(&arrivals)));
        if let Some(broker) = broker {
            subscribe(broker, Arc::clone(&arrivals))?;
        }
        for n in 0..outlets {
            let to = match broker.filter(|_| n % 2 == 1) {
                Some(url) => json!({ "mqtt": { "url": url, "topic": format!("bench/{n}/{{device}}"), "qos": 1 } }),
                None => webhook(web, TOGETHER),
            };
            add(client, &format!("bench-{n}"), to, None).await?;
        }
        Ok(Self { arrivals, web, outlets })
    }

    /// Forgets what has arrived; how much that was.
    pub(super) fn begin(&self) -> u64 {
        self.arrivals.ages_ms.lock().unwrap_or_else(PoisonError::into_inner).clear();
        self.arrivals.count.swap(0, Ordering::Relaxed)
    }

    /// The ages of all that has arrived since, sorted.
    pub(super) fn ages_ms(&self) -> Vec<f64> {
        let mut ages = std::mem::take(&mut *self.arrivals.ages_ms.lock().unwrap_or_else(PoisonError::into_inner));
        ages.sort_unstable_by(f64::total_cmp);
        ages
    }

    /// Waits until nothing arrives any more.
    pub(super) async fn settle(&self) {
        let mut before = u64::MAX;
        while before != self.arrivals.count.load(Ordering::Relaxed) {
            before = self.arrivals.count.load(Ordering::Relaxed);
            // Longer than outlets pause while uplinks are stored late.
            tokio::time::sleep(Duration::from_secs(5)).await;
        }
    }

    /// Removes the outlets, once they are done.
    pub(super) async fn remove(&self, client: &Client) -> Result<()> {
        self.settle().await;
        for n in 0..self.outlets {
            client.delete(&client.in_estate(&format!("outlets/bench-{n}")).await?).await?;
        }
        Ok(())
    }

    /// Has one more outlet deliver all that was stored since a moment; messages a second.
    pub(super) async fn catch_up(&self, client: &Client, since: DateTime<Utc>, broker: Option<&str>) -> Result<f64> {
        self.begin();
        let to = match broker {
            Some(url) => json!({ "mqtt": { "url": url, "topic": "bench/history", "qos": 1 } }),
            None => webhook(self.web, CATCHING_UP),
        };
        let begun = Instant::now();
        add(client, "bench-history", to, Some(since)).await?;
        let path = client.in_estate("outlets/bench-history").await?;
        loop {
            let outlet: Outlet = client.get(&path, &[]).await?;
            if outlet.status.backlog == 0 || begun.elapsed() > LONGEST {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let rate = self.arrivals.count.load(Ordering::Relaxed) as f64 / begun.elapsed().as_secs_f64();
        client.delete(&path).await?;
        Ok(rate)
    }
}

fn webhook(to: SocketAddr, most: u32) -> Value {
    json!({ "webhook": { "url": format!("http://{to}/in"), "together": { "most": most, "within_s": 0 } } })
}

async fn add(client: &Client, slug: &str, to: Value, since: Option<DateTime<Utc>>) -> Result<()> {
    let mut new = json!({ "slug": slug, "types": ["uplink"], "shape": { "fields": ["id", "time"] }, "to": to });
    if let Some(since) = since {
        new["since"] = json!(since);
    }
    client.post::<Outlet>(&client.in_estate("outlets").await?, &new).await?;
    Ok(())
}

async fn serve(listener: TcpListener, arrivals: Arc<Arrivals>) {
    while let Ok((stream, _)) = listener.accept().await {
        let _ = stream.set_nodelay(true);
        let arrivals = Arc::clone(&arrivals);
        tokio::spawn(async move {
            let answer = service_fn(|request: Request<Incoming>| {
                let arrivals = Arc::clone(&arrivals);
                async move {
                    if let Ok(body) = request.into_body().collect().await {
                        arrivals.take(&body.to_bytes());
                    }
                    Ok::<_, Infallible>(Response::new(Empty::<Bytes>::new()))
                }
            });
            // A connection ends when the outlet does.
            let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await;
        });
    }
}

fn subscribe(broker: &str, arrivals: Arc<Arrivals>) -> Result<()> {
    let place = broker.strip_prefix("mqtt://").and_then(|place| place.rsplit_once(':'));
    let (host, port) = place.context("--broker has to look like mqtt://HOST:PORT")?;
    let port = port.parse().context("--broker has to look like mqtt://HOST:PORT")?;
    let mut options = MqttOptions::new("heron-bench", host, port);
    options.set_keep_alive(Duration::from_secs(30)).set_max_packet_size(1 << 20, 1 << 20);
    let (client, mut events) = AsyncClient::new(options, 100);
    client.try_subscribe("bench/#", QoS::AtMostOnce)?;
    tokio::spawn(async move {
        loop {
            match events.poll().await {
                Ok(Event::Incoming(Packet::Publish(publish))) => arrivals.take(&publish.payload),
                Ok(_) => {}
                Err(why) => {
                    eprintln!("the broker: {why}");
                    tokio::time::sleep(Duration::from_secs(1)).await;
                    let _ = client.try_subscribe("bench/#", QoS::AtMostOnce);
                }
            }
        }
    });
    Ok(())
}

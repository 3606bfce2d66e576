//! Shared by all parts of the service: sockets, and what is loaded before any part begins.

use std::net::SocketAddr;
use std::sync::Arc;

use anyhow::{Context as _, Result};
use api::gateway::event::GatewayEvent;
use lorawan::Eui64;
use store::Store;
use tokio::net::{TcpListener, UdpSocket};
use tokio::runtime::Handle;
use tokio::sync::{Notify, mpsc};
use tokio_util::sync::CancellationToken;

use crate::gateways::authority::Authority;
use crate::gateways::credentials::Credentials;
use crate::gateways::event_log::GatewayLog;
use crate::gateways::firmware::Firmwares;
use crate::gateways::registry::GatewayRegistry;
use crate::gateways::transport::{PublicEndpoints, udp};
use crate::ground::Ground;
use crate::ground::grounds::Grounds;
use crate::history::summaries::Doubts;
use crate::ingest::stats::IngestStats;
use crate::ingest::strangers::Strangers;
use crate::net::tls::{Given, Identity};
use crate::outlets::{Allowed, Outlets};
use crate::pipeline::condition::Condition;
use crate::pipeline::directory::Directory;
use crate::pipeline::live::Live;
use crate::pipeline::metrics::Metrics;
use crate::pipeline::recent::Recent;
use crate::planning::forecaster::Forecaster;
use crate::planning::survey::surveys::Surveys;
use crate::startup::config::Options;

/// Where the service listens. All are bound before anything else begins, so that a port that is taken is told at once.
pub(crate) struct Sockets {
    pub http: TcpListener,
    pub udp: UdpSocket,
    pub tls: TcpListener,
    pub addresses: Addresses,
}

#[derive(Clone, Copy)]
pub(crate) struct Addresses {
    pub http: SocketAddr,
    pub udp: SocketAddr,
    pub tls: SocketAddr,
}

impl Sockets {
    pub(crate) async fn bind(options: &Options) -> Result<Self> {
        let http = TcpListener::bind(options.http).await.with_context(|| format!("listening on {}", options.http))?;
        let udp = UdpSocket::bind(options.udp).await.with_context(|| format!("listening on {} (UDP)", options.udp))?;
        udp::widen(&udp);
        let tls =
            TcpListener::bind(options.gateways).await.with_context(|| format!("listening on {}", options.gateways))?;
        let addresses = Addresses { http: http.local_addr()?, udp: udp.local_addr()?, tls: tls.local_addr()? };
        Ok(Self { http, udp, tls, addresses })
    }
}

/// Events of gateways that are to be written.
pub(crate) type GatewayEvents = mpsc::Receiver<(Eui64, GatewayEvent)>;

/// Loaded once, and used by many parts.
pub(crate) struct Shared {
    /// Drawn under maps, and computed from.
    pub grounds: Arc<Grounds>,
    pub forecaster: Arc<Forecaster>,
    pub surveys: Arc<Surveys>,
    pub store: Store,
    pub directory: Arc<Directory>,
    pub presence: Arc<GatewayRegistry>,
    pub strangers: Arc<Strangers>,
    pub live: Arc<Live>,
    pub recent: Arc<Recent>,
    pub outlets: Arc<Outlets>,
    pub ingest: Arc<IngestStats>,
    pub metrics: Arc<Metrics>,
    pub condition: Arc<Condition>,
    pub doubts: Arc<Doubts>,
    pub credentials: Arc<Credentials>,
    pub gateway_log: Arc<GatewayLog>,
    pub authority: Arc<Authority>,
    pub identity: Arc<Identity>,
    pub endpoints: Arc<PublicEndpoints>,
    pub firmware: Arc<Firmwares>,
    /// Told when there is a new job.
    pub jobs: Arc<Notify>,
    pub rounds: Arc<Notify>,
    pub stopping: CancellationToken,
}

impl Shared {
    pub(crate) async fn load(
        options: &Options,
        store: &Store,
        (addresses, for_outlets): (Addresses, Handle),
    ) -> Result<(Self, GatewayEvents)> {
        // First, so that a file that cannot be read is told before anything begins.
        let of_operator = Ground::read(&options.terrain, &options.cover).context("reading the ground")?;
        let grounds = Arc::new(Grounds::new(store.clone(), of_operator, &options.data));
        let stopping = CancellationToken::new();
        let authority = Arc::new(Authority::open_or_create(&options.data)?);
        let identity = Arc::new(identity(&authority, options)?);
        let (gateway_log, events) = GatewayLog::new();
        let recent = Arc::new(Recent::new(store.told_until().await?));
        let directory = Arc::new(Directory::load(store).await?);
        let allowed = Allowed {
            hosts: options.outlet_hosts.iter().map(|host| host.to_ascii_lowercase()).collect(),
            folders: options.outlet_folders.clone().unwrap_or_else(|| options.data.join("outlets")),
        };
        let metrics = Arc::new(Metrics::new(options.collect_ms));
        let known = (Arc::clone(&recent), Arc::clone(&directory), Arc::clone(&metrics));
        let outlets = Outlets::new(store.clone(), known, allowed, (for_outlets, stopping.clone()));
        let shared = Self {
            forecaster: Arc::new(Forecaster::new(Arc::clone(&grounds), &options.data)?),
            surveys: Arc::new(Surveys::new(store.clone())),
            grounds,
            directory,
            presence: Arc::new(GatewayRegistry::new(&store.all_gateways().await?, Arc::clone(&gateway_log))),
            strangers: Arc::default(),
            live: Arc::new(Live::new(stopping.clone())),
            recent,
            outlets: Arc::new(outlets),
            ingest: Arc::default(),
            metrics,
            condition: Arc::default(),
            doubts: Arc::default(),
            credentials: Arc::new(Credentials::load(store.clone()).await?),
            gateway_log,
            authority,
            identity,
            endpoints: Arc::new(PublicEndpoints::new(options, addresses.tls.port(), addresses.udp.port())),
            firmware: Arc::new(Firmwares::new(&options.data)),
            jobs: Arc::default(),
            rounds: Arc::default(),
            store: store.clone(),
            stopping,
        };
        Ok((shared, events))
    }
}

/// The certificate that gateways are shown.
fn identity(authority: &Authority, options: &Options) -> Result<Identity> {
    match (&options.gateway_certificate, &options.gateway_key, &options.gateway_trust) {
        (Some(certificate), Some(key), Some(trust)) => Identity::given(&Given { certificate, key, trust }),
        _ => Identity::own(authority, &options.gateway_names).context("making a certificate for --gateway-names"),
    }
}

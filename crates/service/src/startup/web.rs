//! Starts the console and the HTTP interface.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context as _, Result, anyhow};
use api::ground::MapTiles;
use domain::coverage::map_tiles::TileAddress;
use store::Store;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::downlinks::Downlinks;
use crate::gateways::authority::Authority;
use crate::http;
use crate::http::app::{App, GatewayServices};
use crate::http::edge::{Edge, Setup};
use crate::ingest::network::Network;
use crate::net::few::Few;
use crate::net::listen::Port;
use crate::net::room::Limits;
use crate::net::tls;
use crate::net::tls::{Given, Identity};
use crate::startup::config::Options;
use crate::startup::ports::Transports;
use crate::startup::shared::Shared;

/// The time limit of a handshake, and of each request's header.
const PATIENCE: Duration = Duration::from_secs(30);
/// Live streams of one account: each tab of the console has one.
const STREAMS: usize = 32;

/// The console and the interface, ready to be served.
pub(crate) struct Web {
    app: App,
    /// The certificate that browsers and programs are shown; nothing without TLS.
    pub identity: Option<Arc<Identity>>,
}

impl Web {
    pub(crate) async fn new(
        options: &Options,
        shared: &Shared,
        network: &Network,
        transports: &Transports,
    ) -> Result<Self> {
        let identity = web_identity(&shared.authority, options)?.map(Arc::new);
        let setup = Setup {
            secure: identity.is_some(),
            names: options.http_names.clone(),
            requests_per_s: options.requests_per_s,
            catalogue_hosts: options.catalogue_hosts.iter().map(|host| host.to_ascii_lowercase()).collect(),
            audit_days: options.audit_days,
            audit_append_only: shared.store.guard_audit().await,
            map_tiles: options.map_tiles.as_ref().map(|tiles| map_tiles(options, tiles)),
        };
        let app = App {
            store: shared.store.clone(),
            net_id: options.net_id,
            network: network.clone(),
            downlinks: Downlinks {
                store: shared.store.clone(),
                directory: Arc::clone(&shared.directory),
                network: network.clone(),
            },
            directory: Arc::clone(&shared.directory),
            presence: Arc::clone(&shared.presence),
            strangers: Arc::clone(&shared.strangers),
            live: Arc::clone(&shared.live),
            ingest: Arc::clone(&shared.ingest),
            metrics: Arc::clone(&shared.metrics),
            condition: Arc::clone(&shared.condition),
            doubts: Arc::clone(&shared.doubts),
            gateway_services: GatewayServices {
                authority: Arc::clone(&shared.authority),
                identity: Arc::clone(&shared.identity),
                broker_trust: transports.broker_trust.clone(),
                credentials: Arc::clone(&shared.credentials),
                gateway_log: Arc::clone(&shared.gateway_log),
                lns: Arc::clone(&transports.lns),
                endpoints: Arc::clone(&shared.endpoints),
                firmware: Arc::clone(&shared.firmware),
            },
            edge: Arc::new(Edge::new(&setup, http::console::page().as_deref())),
            grounds: Arc::clone(&shared.grounds),
            forecaster: Arc::clone(&shared.forecaster),
            surveys: Arc::clone(&shared.surveys),
            turns: Arc::default(),
            exports: Arc::default(),
            streams: Arc::new(Few::new(STREAMS)),
            jobs: Arc::clone(&shared.jobs),
            rounds: Arc::clone(&shared.rounds),
            outlets: Arc::clone(&shared.outlets),
        };
        Ok(Self { app, identity })
    }

    /// The scheme of its address.
    pub(crate) fn scheme(&self) -> &'static str {
        if self.identity.is_some() { "https" } else { "http" }
    }

    /// Begins to listen, after a warning if it is reachable without protection.
    pub(crate) async fn serve(self, listener: TcpListener, most: usize) -> Result<JoinHandle<()>> {
        let Self { app, identity } = self;
        warn_of_exposure(&app.store, listener.local_addr()?, identity.is_some()).await?;
        let (ingest, stopping) = (Arc::clone(&app.ingest), app.live.stopping());
        let port = Port {
            tls: identity.map(tls::plain_config).transpose()?.map(TlsAcceptor::from),
            patience: PATIENCE,
            limits: Limits::callers(most),
            router: http::router(app).map_err(|why| anyhow!(why))?,
            ingest,
        };
        Ok(tokio::spawn(port.serve(listener, stopping)))
    }
}

/// Map tiles from elsewhere as they are told, and what a browser has to be allowed to load from.
fn map_tiles(options: &Options, tiles: &TileAddress) -> (MapTiles, String) {
    let (address, credit) = (tiles.address().to_owned(), options.map_tiles_credit.clone());
    (MapTiles { address, credit, max_level: options.map_tiles_levels }, tiles.origin().to_owned())
}

/// The certificate that browsers and programs are shown; nothing without TLS.
fn web_identity(authority: &Authority, options: &Options) -> Result<Option<Identity>> {
    match (&options.http_certificate, &options.http_key) {
        (Some(certificate), Some(key)) => Identity::given(&Given { certificate, key, trust: certificate }).map(Some),
        _ if options.http_tls => {
            let names: Vec<String> =
                options.http_names.iter().map(|name| name.trim_matches(['[', ']']).to_owned()).collect();
            Identity::own(authority, &names).context("making a certificate for --http-names").map(Some)
        }
        _ => Ok(None),
    }
}

/// Warns about ports that are reachable from outside without protection.
async fn warn_of_exposure(store: &Store, address: SocketAddr, secure: bool) -> Result<()> {
    if address.ip().is_loopback() {
        return Ok(());
    }
    let mut dangers = Vec::new();
    if !secure {
        dangers
            .push("Passwords and tokens cross the network in the clear: use --http-tls or --http-certificate.".into());
    }
    let given = store.given_passwords().await?;
    if !given.is_empty() {
        dangers.push(format!("These accounts have the password that was printed for them: {}.", given.join(", ")));
    }
    if !dangers.is_empty() {
        eprintln!("\n  ATTENTION: this service listens on {address}, beyond this machine.");
        for danger in &dangers {
            eprintln!("  ATTENTION: {danger}");
            tracing::warn!("{danger}");
        }
        eprintln!();
    }
    Ok(())
}

//! What handlers need.

use std::sync::Arc;

use axum::extract::FromRef;
use lorawan::{Eui64, NetId};
use store::{EstateId, Named, PersonId, Store};
use tokio::sync::Notify;

use crate::downlinks::Downlinks;
use crate::gateways::authority::Authority;
use crate::gateways::credentials::Credentials;
use crate::gateways::event_log::GatewayLog;
use crate::gateways::firmware::Firmwares;
use crate::gateways::registry::GatewayRegistry;
use crate::gateways::transport::PublicEndpoints;
use crate::gateways::transport::lns::Lns;
use crate::ground::grounds::Grounds;
use crate::history::summaries::Doubts;
use crate::http::edge::Edge;
use crate::http::error::{Refusal, not_found};
use crate::http::exports::Exports;
use crate::http::models::turns::Turns;
use crate::ingest::network::Network;
use crate::ingest::stats::IngestStats;
use crate::ingest::strangers::Strangers;
use crate::net::few::Few;
use crate::net::tls::{Identity, Trust};
use crate::outlets::Outlets;
use crate::pipeline::condition::Condition;
use crate::pipeline::directory::Directory;
use crate::pipeline::live::Live;
use crate::pipeline::metrics::Metrics;
use crate::planning::forecaster::Forecaster;
use crate::planning::survey::surveys::Surveys;

/// What decides which gateways may connect, and how.
#[derive(Clone)]
pub struct GatewayServices {
    pub authority: Arc<Authority>,
    pub identity: Arc<Identity>,
    /// The certificate that gateways check the broker against.
    pub broker_trust: Trust,
    pub credentials: Arc<Credentials>,
    pub gateway_log: Arc<GatewayLog>,
    pub lns: Arc<Lns>,
    pub endpoints: Arc<PublicEndpoints>,
    pub firmware: Arc<Firmwares>,
}

/// What handlers need.
#[derive(Clone)]
pub struct App {
    pub store: Store,
    pub net_id: NetId,
    pub network: Network,
    pub(crate) downlinks: Downlinks,
    pub directory: Arc<Directory>,
    pub presence: Arc<GatewayRegistry>,
    pub strangers: Arc<Strangers>,
    pub live: Arc<Live>,
    pub ingest: Arc<IngestStats>,
    pub metrics: Arc<Metrics>,
    pub condition: Arc<Condition>,
    pub doubts: Arc<Doubts>,
    pub gateway_services: GatewayServices,
    pub edge: Arc<Edge>,
    pub grounds: Arc<Grounds>,
    pub forecaster: Arc<Forecaster>,
    pub surveys: Arc<Surveys>,
    /// Scripts that people run.
    pub turns: Arc<Turns>,
    /// Exports going on: each reads from the database for as long as it takes.
    pub exports: Arc<Exports>,
    /// Live streams of each account.
    pub streams: Arc<Few<PersonId>>,
    /// Told when there is a new job.
    pub jobs: Arc<Notify>,
    /// Told when there is a new round.
    pub rounds: Arc<Notify>,
    pub(crate) outlets: Arc<Outlets>,
}

impl App {
    /// The EUI that a text stands for: it is one, in any form, or it is a name in this estate.
    pub(crate) async fn eui_of(&self, estate: EstateId, kind: Named, text: &str) -> Result<Eui64, Refusal> {
        let eui = domain::input::eui("eui", text);
        if let Ok(eui) = &eui
            && (kind != Named::Device || self.directory.device(*eui).is_some())
        {
            return Ok(*eui);
        }
        match self.store.eui_named(estate, kind, text).await? {
            Some(found) => Ok(found),
            None => eui.map_err(|_| not_found(kind.word(), text)),
        }
    }
}

impl FromRef<App> for Store {
    fn from_ref(app: &App) -> Self {
        app.store.clone()
    }
}

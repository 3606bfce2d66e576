//! Handlers that only show: watch, traffic, readings, airtime ledger, frames, regions, search.

pub(crate) mod find;
pub(crate) mod frames;
pub(crate) mod ground;
pub(crate) mod ledger;
pub(crate) mod readings;
pub(crate) mod regions;
pub(crate) mod service;
pub(crate) mod traffic;
pub(crate) mod watch;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(service::show_health))
        .routes(routes!(service::show_ingest))
        .routes(routes!(service::show_metrics))
        .routes(routes!(readings::list_readings))
        .routes(routes!(readings::chart))
        .routes(routes!(readings::export_readings))
        .routes(routes!(ledger::ledger))
        .routes(routes!(frames::decode_frame))
        .routes(routes!(regions::list_regions))
        .routes(routes!(regions::show_region))
        .routes(routes!(regions::airtime))
        .routes(routes!(regions::layout))
        .routes(routes!(ground::show_ground))
        .routes(routes!(ground::ground_tile))
        .routes(routes!(find::find))
        .routes(routes!(watch::show_watch))
        .routes(routes!(watch::list_decode_failures))
        .routes(routes!(traffic::history))
        .routes(routes!(traffic::export_traffic))
        .routes(routes!(traffic::live))
}

//! The service's metrics.

use api::health::{Health, PartState};
use axum::extract::State;
use axum::http::StatusCode;
use domain::diagnosis::health;

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::json::{Answer, Json};

/// Whether the service is up.
#[utoipa::path(get, path = "/health", tag = "service", extensions(("x-right" = json!("none"))), responses(
    (status = 200, body = Health), (status = 503, description = "What is heard does not become durable", body = Health)))]
pub(crate) async fn show_health(State(app): State<App>) -> (StatusCode, Json<Health>) {
    let parts = app.condition.parts(&app.network);
    let health = health::health(env!("CARGO_PKG_VERSION"), parts);
    let failing = health.status == PartState::Failing;
    (if failing { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::OK }, Json(health))
}

/// Frames received from gateways since the start, and frames dropped.
#[utoipa::path(get, path = "/ingest", tag = "service",
    extensions(("x-right" = json!("installation"))), responses((status = 200, body = api::IngestStats)))]
pub(crate) async fn show_ingest(State(app): State<App>, _entry: RequestContext) -> Answer<api::IngestStats> {
    Ok(Json(app.ingest.report(app.network.backlog())))
}

/// The service's metrics: load, latencies, and the age of its parts.
#[utoipa::path(get, path = "/metrics", tag = "service",
    extensions(("x-right" = json!("installation"))), responses((status = 200, body = api::metrics::Metrics)))]
pub(crate) async fn show_metrics(State(app): State<App>, _entry: RequestContext) -> Answer<api::metrics::Metrics> {
    Ok(Json(app.metrics.report()))
}

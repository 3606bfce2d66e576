//! The HTTP interface under `/api/v1`, its description, and the console.

pub(crate) mod app;
pub(crate) mod auth;
mod body_time;
pub(crate) mod console;
pub(crate) mod contract;
pub(crate) mod description;
pub(crate) mod devices;
pub(crate) mod edge;
pub(crate) mod error;
pub(crate) mod exports;
pub(crate) mod extract;
pub(crate) mod file;
pub(crate) mod gateways;
pub(crate) mod insight;
pub(crate) mod json;
pub(crate) mod listing;
pub(crate) mod models;
pub(crate) mod outlets;
pub(crate) mod people;
pub(crate) mod planning;
pub(crate) mod upload;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use description::TokenScheme;
pub(crate) use description::message_schemas;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate as _};
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_swagger_ui::SwaggerUi;

use crate::http::app::App;
use crate::http::auth::endpoint::Endpoints;
use crate::http::contract::body::MAX_BODY;

/// How long a body may stop coming before it is given up.
const BODY_PATIENCE: Duration = Duration::from_secs(20);

#[derive(OpenApi)]
#[openapi(
    info(title = "Keen Heron", description = "LoRaWAN network service: gateways, devices, outboxes and live traffic."),
    modifiers(&TokenScheme)
)]
struct Document;

fn described() -> OpenApiRouter<App> {
    let all = [
        insight::routes(),
        auth::routes(),
        people::routes(),
        gateways::routes(),
        models::routes(),
        devices::routes(),
        planning::routes(),
        outlets::routes(),
    ];
    let all = all.into_iter().fold(OpenApiRouter::new(), OpenApiRouter::merge);
    OpenApiRouter::with_openapi(Document::openapi()).nest(api::BASE, all)
}

/// What answers, and its description.
fn parts() -> (Router<App>, utoipa::openapi::OpenApi) {
    let (router, mut document) = described().split_for_parts();
    description::complete(&mut document);
    (router, document)
}

/// The OpenAPI document.
pub(crate) fn document() -> utoipa::openapi::OpenApi {
    parts().1
}

/// Everything the HTTP port answers.
///
/// # Errors
/// Names an endpoint that does not state what it needs.
pub(crate) fn router(app: App) -> Result<Router, String> {
    let (router, document) = parts();
    let endpoints = Arc::new(Endpoints::of(&document)?);
    let edge = Arc::clone(&app.edge);
    Ok(router
        .layer(middleware::from_fn_with_state((app.clone(), endpoints), auth::authorize::guard))
        .merge(SwaggerUi::new("/api/browse").url("/api/openapi.json", document))
        .route(api::problem::kinds::PAGE, get(error::problems))
        .route("/api/{*rest}", get(error::no_such_endpoint).fallback(error::no_such_endpoint))
        .fallback(console::serve)
        .method_not_allowed_fallback(error::no_such_method)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(middleware::from_fn(run_to_completion))
        .layer(RequestBodyTimeoutLayer::new(BODY_PATIENCE))
        .layer(middleware::from_fn(body_time::in_time))
        // A compressed event stream would wait until a block is full.
        .layer(CompressionLayer::new().compress_when(DefaultPredicate::new().and(NotForContentType::SSE)))
        .layer(middleware::from_fn_with_state(Arc::clone(&edge), edge::own_name))
        .layer(middleware::from_fn_with_state(edge, edge::headers))
        .with_state(app))
}

/// What has begun to change something is finished, even if the caller has left: else it could be written down, and
/// never be told to the engine.
async fn run_to_completion(request: Request, next: Next) -> Response {
    if request.method().is_safe() {
        return next.run(request).await;
    }
    tokio::spawn(next.run(request)).await.unwrap_or_else(|why| {
        tracing::error!("a handler ended early: {why}");
        error::Refusal::internal().into_response()
    })
}

#[cfg(test)]
mod tests {
    /// The console's client and the docs are made from this file.
    #[test]
    fn the_committed_openapi_document_is_current() {
        // Compared as values: the order of keys follows which packages are built together.
        let committed: serde_json::Value = serde_json::from_str(include_str!("../../../../docs/openapi.json")).unwrap();
        let current = serde_json::to_value(super::document()).unwrap();
        assert!(committed == current, "run: cargo run -p service -- openapi > docs/openapi.json");
    }
}

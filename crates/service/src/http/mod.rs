//! The HTTP interface under `/api/v1`, its description, and the console.

pub(crate) mod app;
pub(crate) mod auth;
pub(crate) mod console;
pub(crate) mod description;
pub(crate) mod devices;
pub(crate) mod edge;
pub(crate) mod error;
pub(crate) mod extract;
pub(crate) mod gateways;
pub(crate) mod insight;
pub(crate) mod json;
pub(crate) mod models;
pub(crate) mod people;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use description::TokenScheme;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate as _};
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use utoipa_swagger_ui::SwaggerUi;

use crate::http::app::App;
use crate::http::auth::authorize::Endpoints;

/// The largest request body; a decoder's script is the largest thing sent.
const MAX_BODY: usize = 1 << 20;
/// A body that stops coming for so long is given up.
const BODY_PATIENCE: Duration = Duration::from_secs(20);
/// A firmware takes a third more in base64.
const MAX_FIRMWARE_BODY: usize = domain::gateway::firmware::LARGEST / 3 * 4 + (1 << 16);

#[derive(OpenApi)]
#[openapi(
    info(title = "Keen Heron", description = "LoRaWAN network service: gateways, devices, outboxes and live traffic."),
    modifiers(&TokenScheme)
)]
struct Document;

fn described() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Document::openapi()).nest(
        api::BASE,
        OpenApiRouter::new()
            .routes(routes!(insight::service::show_health))
            .routes(routes!(insight::service::show_ingest))
            .routes(routes!(insight::service::show_metrics))
            .routes(routes!(auth::sign_in::sign_in))
            .routes(routes!(auth::sign_in::sign_out))
            .routes(routes!(auth::sign_in::open_invitation))
            .routes(routes!(auth::sign_in::take_invitation))
            .routes(routes!(auth::account::me))
            .routes(routes!(auth::account::list_sign_ins, auth::account::end_other_sign_ins))
            .routes(routes!(auth::account::end_sign_in))
            .routes(routes!(auth::account::set_password))
            .routes(routes!(auth::account::prepare_two_step, auth::account::begin_two_step))
            .routes(routes!(auth::account::renew_recovery_codes))
            .routes(routes!(auth::account::end_two_step))
            .routes(routes!(people::members::list_roles))
            .routes(routes!(people::members::list_people))
            .routes(routes!(people::members::change_member, people::members::remove_member))
            .routes(routes!(people::members::leave))
            .routes(routes!(people::members::list_invitations, people::members::add_invitation))
            .routes(routes!(people::members::withdraw_invitation))
            .routes(routes!(people::members::list_shares))
            .routes(routes!(people::members::change_share, people::members::end_share))
            .routes(routes!(auth::tokens::list_tokens, auth::tokens::add_token))
            .routes(routes!(auth::tokens::revoke_token))
            .routes(routes!(people::audit::list_audit))
            .routes(routes!(people::audit::export_audit))
            .routes(routes!(people::audit::list_installation_audit))
            .routes(routes!(people::installation::list_installation_estates, people::installation::found_estate))
            .routes(routes!(people::estates::list_estates))
            .routes(routes!(people::estates::list_fleets, people::estates::add_fleet))
            .routes(routes!(people::estates::show_fleet, people::estates::remove_fleet))
            .routes(routes!(people::estates::set_fleet_limits))
            .routes(routes!(people::estates::set_fleet_keeping))
            .routes(routes!(gateways::gateway::list_gateways, gateways::gateway::add_gateway))
            .routes(routes!(
                gateways::gateway::show_gateway,
                gateways::gateway::change_gateway,
                gateways::gateway::remove_gateway
            ))
            .routes(routes!(gateways::gateway::forget_refused_frequencies))
            .routes(routes!(gateways::gateway::import_gateways))
            .routes(routes!(gateways::gateway::list_strangers))
            .routes(routes!(gateways::access::list_credentials, gateways::access::add_credential))
            .routes(routes!(gateways::access::revoke_credential))
            .routes(routes!(gateways::access::replace_credentials))
            .routes(routes!(gateways::access::make_kit))
            .routes(routes!(gateways::access::list_events))
            .routes(routes!(gateways::access::show_reception))
            .routes(routes!(gateways::access::show_uptime))
            .routes(routes!(gateways::access::list_endings))
            .routes(routes!(gateways::firmware::remove_firmware))
            .routes(routes!(gateways::firmware::hand_firmware))
            .routes(routes!(models::model::list_models))
            .routes(routes!(models::model::show_model, models::model::put_model, models::model::remove_model))
            .routes(routes!(models::workbench::try_draft))
            .routes(routes!(models::workbench::list_doubts))
            .routes(routes!(models::workbench::list_editions))
            .routes(routes!(models::workbench::show_edition))
            .routes(routes!(models::workbench::compare_editions))
            .routes(routes!(models::workbench::restore_edition))
            .routes(routes!(models::redecoding::list_jobs, models::redecoding::add_job))
            .routes(routes!(models::redecoding::show_job, models::redecoding::cancel_job))
            .routes(routes!(devices::rehearsal::rehearse))
            .routes(routes!(models::catalogue::list_sources))
            .routes(routes!(models::catalogue::import_git))
            .routes(routes!(models::catalogue::import_shipped))
            .routes(routes!(models::catalogue::refresh))
            .routes(routes!(devices::profiles::list_profiles))
            .routes(routes!(
                devices::profiles::show_profile,
                devices::profiles::put_profile,
                devices::profiles::remove_profile
            ))
            .routes(routes!(devices::device::list_devices, devices::register::add_device))
            .routes(routes!(devices::device::list_device_strangers))
            .routes(routes!(devices::labels::print_labels))
            .routes(routes!(devices::register::check_device))
            .routes(routes!(devices::register::export_devices))
            .routes(routes!(devices::change::change_devices))
            .routes(routes!(
                devices::device::show_device,
                devices::change::change_device,
                devices::device::remove_device
            ))
            .routes(routes!(devices::change::forget_session))
            .routes(routes!(devices::change::set_counters))
            .routes(routes!(people::estates::set_fleet_key))
            .routes(routes!(devices::device::show_keys))
            .routes(routes!(devices::change::set_radio))
            .routes(routes!(devices::device::why))
            .routes(routes!(insight::readings::list_readings))
            .routes(routes!(insight::readings::chart))
            .routes(routes!(insight::readings::export_readings))
            .routes(routes!(insight::ledger::ledger))
            .routes(routes!(devices::groups::list_groups, devices::groups::add_group))
            .routes(routes!(devices::groups::show_group, devices::groups::remove_group))
            .routes(routes!(devices::groups::set_members))
            .routes(routes!(devices::groups::show_group_keys))
            .routes(routes!(devices::outbox::list_outbox, devices::outbox::add_to_outbox))
            .routes(routes!(devices::outbox::check_outbox_item))
            .routes(routes!(devices::outbox::place_in_outbox))
            .routes(routes!(devices::outbox::cancel))
            .routes(routes!(insight::frames::take_apart))
            .routes(routes!(insight::regions::list_regions))
            .routes(routes!(insight::regions::show_region))
            .routes(routes!(insight::regions::airtime))
            .routes(routes!(insight::regions::layout))
            .routes(routes!(insight::find::find))
            .routes(routes!(insight::watch::show_watch))
            .routes(routes!(insight::watch::list_decode_failures))
            .routes(routes!(insight::traffic::history))
            .routes(routes!(insight::traffic::live))
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(devices::register::import_devices))
                    .layer(DefaultBodyLimit::max(domain::device::import::LARGEST)),
            )
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(models::catalogue::import_files))
                    .layer(DefaultBodyLimit::max(domain::model::catalogue::LARGEST)),
            )
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(devices::labels::read_photo))
                    .layer(DefaultBodyLimit::max(crate::import::labels::LARGEST_PHOTO)),
            )
            // Only a firmware is larger than anything else.
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(gateways::firmware::list_firmware, gateways::firmware::add_firmware))
                    .layer(DefaultBodyLimit::max(MAX_FIRMWARE_BODY)),
            ),
    )
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
        .route("/api/{*rest}", get(error::no_such_endpoint).fallback(error::no_such_endpoint))
        .fallback(console::serve)
        .method_not_allowed_fallback(error::no_such_method)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(middleware::from_fn(run_to_completion))
        .layer(RequestBodyTimeoutLayer::new(BODY_PATIENCE))
        // A compressed event stream would wait until a block is full.
        .layer(CompressionLayer::new().compress_when(DefaultPredicate::new().and(NotForContentType::SSE)))
        .layer(middleware::from_fn_with_state(Arc::clone(&edge), edge::own_name))
        .layer(middleware::from_fn_with_state(edge, edge::headers))
        .with_state(app))
}

/// What has begun to change something is finished, even if the caller has left: else it could be written down, and never
/// be told to the engine.
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
        let committed = include_str!("../../../../docs/openapi.json");
        let current = super::document().to_pretty_json().unwrap();
        assert_eq!(committed.trim(), current.trim(), "run: cargo run -p service -- openapi > docs/openapi.json");
    }
}

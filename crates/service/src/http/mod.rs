//! The HTTP interface under `/api/v1`, its description, and the console.

mod account;
mod audit;
pub mod auth;
mod catalogue;
mod changing;
pub mod console;
mod description;
mod devices;
pub mod edge;
mod error;
mod estates;
mod extract;
mod find;
mod firmware;
mod frames;
mod gateway_access;
mod gateways;
mod groups;
mod installation;
mod jobs;
mod knowing;
mod labels;
mod ledger;
pub mod limits;
mod members;
mod models;
mod outbox;
mod profiles;
mod readings;
mod recent;
mod regions;
mod registering;
mod rehearsal;
mod scripts;
mod sign_in;
mod tokens;
mod traffic;
mod trail;
mod two_step;
mod warden;
mod watch;
pub mod workbench;

use std::sync::Arc;
use std::time::Duration;

use api::health::{Health, PartState};
use axum::Router;
use axum::extract::{DefaultBodyLimit, FromRef, Request, State};
use axum::http::StatusCode;
use axum::middleware::{self, Next};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use description::TokenScheme;
use domain::diagnosis::health;
use edge::Edge;
use error::Answer;
use extract::Json;
use lorawan::NetId;
use store::Store;
use tokio::sync::{Notify, Semaphore};
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate as _};
use tower_http::timeout::RequestBodyTimeoutLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use utoipa_swagger_ui::SwaggerUi;
use warden::{Endpoints, Entry};

use crate::authority::Authority;
use crate::chronicle::Chronicle;
use crate::condition::Condition;
use crate::credentials::Credentials;
use crate::directory::Directory;
use crate::firmware::Firmwares;
use crate::history::Doubts;
use crate::intake::Intake;
use crate::link::Doors;
use crate::link::lns::Lns;
use crate::link::tls::{Identity, Trust};
use crate::live::Live;
use crate::network::Network;
use crate::presence::Presence;
use crate::strangers::Strangers;
use crate::vitals::Vitals;

/// The largest request body; a decoder's script is the largest thing sent.
const MAX_BODY: usize = 1 << 20;
/// A body that stops coming for so long is given up.
const BODY_PATIENCE: Duration = Duration::from_secs(20);
/// A firmware takes a third more in base64.
const MAX_FIRMWARE_BODY: usize = domain::gateway::firmware::LARGEST / 3 * 4 + (1 << 16);

/// What decides which gateway may come in, and how.
#[derive(Clone)]
pub struct Gate {
    pub authority: Arc<Authority>,
    pub identity: Arc<Identity>,
    /// What gateways are to check the broker against.
    pub broker_trust: Trust,
    pub credentials: Arc<Credentials>,
    pub chronicle: Arc<Chronicle>,
    pub lns: Arc<Lns>,
    pub doors: Arc<Doors>,
    pub firmware: Arc<Firmwares>,
}

/// What handlers need.
#[derive(Clone)]
pub struct App {
    pub store: Store,
    pub net_id: NetId,
    pub network: Network,
    pub directory: Arc<Directory>,
    pub presence: Arc<Presence>,
    pub strangers: Arc<Strangers>,
    pub live: Arc<Live>,
    pub intake: Arc<Intake>,
    pub vitals: Arc<Vitals>,
    pub condition: Arc<Condition>,
    pub doubts: Arc<Doubts>,
    pub gate: Gate,
    pub edge: Arc<Edge>,
    /// Scripts that people run.
    pub turns: Arc<scripts::Turns>,
    /// Exports going on: each reads from the database for as long as it takes.
    pub exports: Arc<Semaphore>,
    /// Told when there is a new job.
    pub jobs: Arc<Notify>,
}

impl FromRef<App> for Store {
    fn from_ref(app: &App) -> Self {
        app.store.clone()
    }
}

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
            .routes(routes!(health))
            .routes(routes!(intake))
            .routes(routes!(vitals))
            .routes(routes!(sign_in::sign_in))
            .routes(routes!(sign_in::sign_out))
            .routes(routes!(sign_in::open_invitation))
            .routes(routes!(sign_in::take_invitation))
            .routes(routes!(account::me))
            .routes(routes!(account::list_sign_ins, account::end_other_sign_ins))
            .routes(routes!(account::end_sign_in))
            .routes(routes!(account::set_password))
            .routes(routes!(account::prepare_two_step, account::begin_two_step))
            .routes(routes!(account::renew_recovery_codes))
            .routes(routes!(account::end_two_step))
            .routes(routes!(members::list_roles))
            .routes(routes!(members::list_people))
            .routes(routes!(members::change_member, members::remove_member))
            .routes(routes!(members::leave))
            .routes(routes!(members::list_invitations, members::add_invitation))
            .routes(routes!(members::withdraw_invitation))
            .routes(routes!(members::list_shares))
            .routes(routes!(members::change_share, members::end_share))
            .routes(routes!(tokens::list_tokens, tokens::add_token))
            .routes(routes!(tokens::revoke_token))
            .routes(routes!(audit::list_audit))
            .routes(routes!(audit::export_audit))
            .routes(routes!(audit::list_installation_audit))
            .routes(routes!(installation::list_installation_estates, installation::found_estate))
            .routes(routes!(estates::list_estates))
            .routes(routes!(estates::list_fleets, estates::add_fleet))
            .routes(routes!(estates::show_fleet, estates::remove_fleet))
            .routes(routes!(estates::set_fleet_limits))
            .routes(routes!(estates::set_fleet_keeping))
            .routes(routes!(gateways::list_gateways, gateways::add_gateway))
            .routes(routes!(gateways::show_gateway, gateways::change_gateway, gateways::remove_gateway))
            .routes(routes!(gateways::forget_refused_frequencies))
            .routes(routes!(gateways::import_gateways))
            .routes(routes!(gateways::list_strangers))
            .routes(routes!(gateway_access::list_credentials, gateway_access::add_credential))
            .routes(routes!(gateway_access::revoke_credential))
            .routes(routes!(gateway_access::replace_credentials))
            .routes(routes!(gateway_access::make_kit))
            .routes(routes!(gateway_access::list_events))
            .routes(routes!(gateway_access::show_reception))
            .routes(routes!(gateway_access::show_uptime))
            .routes(routes!(gateway_access::list_endings))
            .routes(routes!(firmware::remove_firmware))
            .routes(routes!(firmware::hand_firmware))
            .routes(routes!(models::list_models))
            .routes(routes!(models::show_model, models::put_model, models::remove_model))
            .routes(routes!(workbench::try_draft))
            .routes(routes!(workbench::list_doubts))
            .routes(routes!(workbench::list_editions))
            .routes(routes!(workbench::show_edition))
            .routes(routes!(workbench::compare_editions))
            .routes(routes!(workbench::restore_edition))
            .routes(routes!(jobs::list_jobs, jobs::add_job))
            .routes(routes!(jobs::show_job, jobs::cancel_job))
            .routes(routes!(rehearsal::rehearse))
            .routes(routes!(catalogue::list_sources))
            .routes(routes!(catalogue::import_git))
            .routes(routes!(catalogue::import_shipped))
            .routes(routes!(catalogue::refresh))
            .routes(routes!(profiles::list_profiles))
            .routes(routes!(profiles::show_profile, profiles::put_profile, profiles::remove_profile))
            .routes(routes!(devices::list_devices, registering::add_device))
            .routes(routes!(devices::list_device_strangers))
            .routes(routes!(labels::print_labels))
            .routes(routes!(registering::check_device))
            .routes(routes!(registering::export_devices))
            .routes(routes!(changing::change_devices))
            .routes(routes!(devices::show_device, changing::change_device, devices::remove_device))
            .routes(routes!(changing::forget_session))
            .routes(routes!(changing::set_counters))
            .routes(routes!(estates::set_fleet_key))
            .routes(routes!(devices::show_keys))
            .routes(routes!(changing::set_radio))
            .routes(routes!(devices::why))
            .routes(routes!(readings::list_readings))
            .routes(routes!(readings::chart))
            .routes(routes!(readings::export_readings))
            .routes(routes!(ledger::ledger))
            .routes(routes!(groups::list_groups, groups::add_group))
            .routes(routes!(groups::show_group, groups::remove_group))
            .routes(routes!(groups::set_members))
            .routes(routes!(groups::show_group_keys))
            .routes(routes!(outbox::list_outbox, outbox::add_to_outbox))
            .routes(routes!(outbox::check_outbox_item))
            .routes(routes!(outbox::place_in_outbox))
            .routes(routes!(outbox::cancel))
            .routes(routes!(frames::take_apart))
            .routes(routes!(regions::list_regions))
            .routes(routes!(regions::show_region))
            .routes(routes!(regions::airtime))
            .routes(routes!(regions::layout))
            .routes(routes!(find::find))
            .routes(routes!(watch::show_watch))
            .routes(routes!(watch::list_decode_failures))
            .routes(routes!(traffic::history))
            .routes(routes!(traffic::live))
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(registering::import_devices))
                    .layer(DefaultBodyLimit::max(domain::device::import::LARGEST)),
            )
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(catalogue::import_files))
                    .layer(DefaultBodyLimit::max(domain::model::catalogue::LARGEST)),
            )
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(labels::read_photo))
                    .layer(DefaultBodyLimit::max(crate::labels::LARGEST_PHOTO)),
            )
            // Only a firmware is larger than anything else.
            .merge(
                OpenApiRouter::new()
                    .routes(routes!(firmware::list_firmware, firmware::add_firmware))
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
pub fn document() -> utoipa::openapi::OpenApi {
    parts().1
}

/// Everything the HTTP port answers.
///
/// # Errors
/// Names an endpoint that does not state what it needs.
pub fn router(app: App) -> Result<Router, String> {
    let (router, document) = parts();
    let endpoints = Arc::new(Endpoints::of(&document)?);
    let edge = Arc::clone(&app.edge);
    Ok(router
        .layer(middleware::from_fn_with_state((app.clone(), endpoints), warden::guard))
        .merge(SwaggerUi::new("/api/browse").url("/api/openapi.json", document))
        .route("/api/{*rest}", get(error::no_such_endpoint).fallback(error::no_such_endpoint))
        .fallback(console::serve)
        .method_not_allowed_fallback(error::no_such_method)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .layer(middleware::from_fn(to_the_end))
        .layer(RequestBodyTimeoutLayer::new(BODY_PATIENCE))
        // A compressed event stream would wait until a block is full.
        .layer(CompressionLayer::new().compress_when(DefaultPredicate::new().and(NotForContentType::SSE)))
        .layer(middleware::from_fn_with_state(Arc::clone(&edge), edge::own_name))
        .layer(middleware::from_fn_with_state(edge, edge::headers))
        .with_state(app))
}

/// What has begun to change something is finished, even if the caller has left: else it could be written down, and never
/// be told to the engine.
async fn to_the_end(request: Request, next: Next) -> Response {
    if request.method().is_safe() {
        return next.run(request).await;
    }
    tokio::spawn(next.run(request)).await.unwrap_or_else(|why| {
        tracing::error!("a handler ended early: {why}");
        error::Refusal::internal().into_response()
    })
}

/// Whether the service is up.
#[utoipa::path(get, path = "/health", tag = "service", extensions(("x-right" = json!("none"))), responses(
    (status = 200, body = Health), (status = 503, description = "What is heard does not become durable", body = Health)))]
async fn health(State(app): State<App>) -> (StatusCode, Json<Health>) {
    let parts = app.condition.parts(&app.network);
    let health = health::health(env!("CARGO_PKG_VERSION"), parts);
    let failing = health.status == PartState::Failing;
    (if failing { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::OK }, Json(health))
}

/// What came in on the gateways' port since the start, and what had to be dropped.
#[utoipa::path(get, path = "/intake", tag = "service", security(("token" = [])),
    extensions(("x-right" = json!("installation"))), responses((status = 200, body = api::Intake)))]
async fn intake(State(app): State<App>, _entry: Entry) -> Answer<api::Intake> {
    Ok(Json(app.intake.report(app.network.backlog())))
}

/// How the service itself is doing: what it takes, and how long until uplinks are stored.
#[utoipa::path(get, path = "/vitals", tag = "service", security(("token" = [])),
    extensions(("x-right" = json!("installation"))), responses((status = 200, body = api::vitals::Vitals)))]
async fn vitals(State(app): State<App>, _entry: Entry) -> Answer<api::vitals::Vitals> {
    Ok(Json(app.vitals.report()))
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

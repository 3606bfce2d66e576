//! Handlers for gateways: list, registration, credentials and kits, firmware.

pub(crate) mod access;
pub(crate) mod firmware;
pub(crate) mod gateway;
pub(crate) mod strangers;

use axum::extract::DefaultBodyLimit;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .merge(
            OpenApiRouter::new()
                .routes(routes!(firmware::list_firmware, firmware::add_firmware))
                .layer(DefaultBodyLimit::max(firmware::MAX_BODY)),
        )
        .routes(routes!(gateway::list_gateways, gateway::add_gateway))
        .routes(routes!(gateway::show_gateway, gateway::change_gateway, gateway::remove_gateway))
        .routes(routes!(gateway::forget_refused_frequencies))
        .routes(routes!(gateway::import_gateways))
        .routes(routes!(strangers::list_strangers))
        .routes(routes!(access::list_credentials, access::add_credential))
        .routes(routes!(access::show_credential, access::revoke_credential))
        .routes(routes!(access::replace_credentials))
        .routes(routes!(access::make_kit))
        .routes(routes!(access::list_events))
        .routes(routes!(access::show_reception))
        .routes(routes!(access::show_uptime))
        .routes(routes!(access::list_endings))
        .routes(routes!(firmware::show_firmware, firmware::remove_firmware))
        .routes(routes!(firmware::hand_firmware))
}

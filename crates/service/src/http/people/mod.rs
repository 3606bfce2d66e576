//! Handlers for estates, fleets, members, shares, the installation and the audit log.

pub(crate) mod audit;
pub(crate) mod estates;
pub(crate) mod installation;
pub(crate) mod members;
pub(crate) mod removal;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(members::list_roles))
        .routes(routes!(members::list_people))
        .routes(routes!(members::show_member, members::change_member, members::remove_member))
        .routes(routes!(members::leave))
        .routes(routes!(members::list_invitations, members::add_invitation))
        .routes(routes!(members::show_invitation, members::withdraw_invitation))
        .routes(routes!(members::list_shares))
        .routes(routes!(members::show_share, members::change_share, members::end_share))
        .routes(routes!(audit::list_audit))
        .routes(routes!(audit::export_audit))
        .routes(routes!(audit::list_installation_audit))
        .routes(routes!(installation::list_installation_estates, installation::found_estate))
        .routes(routes!(estates::list_estates))
        .routes(routes!(estates::show_estate, removal::remove_estate))
        .routes(routes!(estates::list_fleets, estates::add_fleet))
        .routes(routes!(estates::show_fleet, estates::change_fleet, estates::remove_fleet))
}

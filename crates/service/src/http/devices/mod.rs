//! Handlers for devices: list, registration, changes, groups, radio profiles, outbox, rehearsal, labels.

pub(crate) mod change;
pub(crate) mod device;
pub(crate) mod groups;
pub(crate) mod labels;
pub(crate) mod moving;
pub(crate) mod outbox;
pub(crate) mod profiles;
pub(crate) mod register;
pub(crate) mod rehearsal;
pub(crate) mod rounds;

use axum::extract::DefaultBodyLimit;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .merge(
            OpenApiRouter::new()
                .routes(routes!(register::import_devices))
                .layer(DefaultBodyLimit::max(domain::device::import::LARGEST)),
        )
        .merge(
            OpenApiRouter::new()
                .routes(routes!(labels::read_photo))
                .layer(DefaultBodyLimit::max(crate::import::labels::LARGEST_PHOTO)),
        )
        .routes(routes!(rehearsal::rehearse))
        .routes(routes!(profiles::list_profiles))
        .routes(routes!(profiles::show_profile, profiles::put_profile, profiles::remove_profile))
        .routes(routes!(device::list_devices, register::add_device))
        .routes(routes!(device::list_device_strangers))
        .routes(routes!(labels::print_labels))
        .routes(routes!(register::check_device))
        .routes(routes!(register::export_devices))
        .routes(routes!(change::change_devices))
        .routes(routes!(device::show_device, change::change_device, device::remove_device))
        .routes(routes!(moving::move_device))
        .routes(routes!(change::forget_session))
        .routes(routes!(change::set_counters))
        .routes(routes!(device::show_keys))
        .routes(routes!(change::set_radio))
        .routes(routes!(device::why))
        .routes(routes!(groups::list_groups, groups::add_group))
        .routes(routes!(groups::show_group, groups::change_group, groups::remove_group))
        .routes(routes!(groups::show_group_keys))
        .routes(routes!(rounds::list_rounds, rounds::add_round))
        .routes(routes!(rounds::check_round))
        .routes(routes!(rounds::show_round, rounds::cancel_round))
        .routes(routes!(rounds::list_round_devices))
        .routes(routes!(outbox::list_outbox, outbox::add_to_outbox))
        .routes(routes!(outbox::check_outbox_item))
        .routes(routes!(outbox::show_outbox_item, outbox::change_outbox_item, outbox::cancel))
}

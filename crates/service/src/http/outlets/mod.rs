//! Outlets: setting them up, how they stand, and their dead letters.

mod connect;
mod deliveries;
mod outlet;
mod shape;
mod stream;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(crate) use outlet::rename_fleet;

use crate::http::app::App;

pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(outlet::list_outlets, outlet::add_outlet))
        .routes(routes!(outlet::show_outlet, outlet::change_outlet, outlet::remove_outlet))
        .routes(routes!(outlet::pause_outlet))
        .routes(routes!(outlet::resume_outlet))
        .routes(routes!(outlet::send_again))
        .routes(routes!(connect::connect_to_messages))
        .routes(routes!(connect::connect_to_outlet))
        .routes(routes!(shape::try_shape))
        .routes(routes!(deliveries::list_commands))
        .routes(routes!(stream::next_messages))
        .routes(routes!(stream::stream_messages))
        .routes(routes!(deliveries::list_deliveries))
        .routes(routes!(deliveries::try_outlet))
        .routes(routes!(deliveries::list_dead_letters))
        .routes(routes!(deliveries::replay_dead_letters))
        .routes(routes!(deliveries::show_dead_letter, deliveries::remove_dead_letter))
        .routes(routes!(deliveries::replay_dead_letter))
}

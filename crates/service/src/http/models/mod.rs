//! Handlers for models and decoders: catalogue, workbench, scripts, decoding history again.

pub(crate) mod catalogue;
pub(crate) mod model;
pub(crate) mod redecoding;
pub(crate) mod scripts;
pub(crate) mod turns;
pub(crate) mod workbench;

use axum::extract::DefaultBodyLimit;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .merge(
            OpenApiRouter::new()
                .routes(routes!(catalogue::import_files))
                .layer(DefaultBodyLimit::max(domain::model::catalogue::LARGEST)),
        )
        .routes(routes!(model::list_models))
        .routes(routes!(model::show_model, model::put_model, model::remove_model))
        .routes(routes!(workbench::try_draft))
        .routes(routes!(workbench::list_doubts))
        .routes(routes!(workbench::list_editions))
        .routes(routes!(workbench::show_edition))
        .routes(routes!(workbench::compare_editions))
        .routes(routes!(workbench::restore_edition))
        .routes(routes!(redecoding::list_jobs, redecoding::add_job))
        .routes(routes!(redecoding::show_job, redecoding::cancel_job))
        .routes(routes!(catalogue::list_sources))
        .routes(routes!(catalogue::import_git))
        .routes(routes!(catalogue::import_shipped))
        .routes(routes!(catalogue::refresh))
}

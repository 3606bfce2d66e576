//! Handlers for coverage: the ground, sites, kinds of receiver, forecasts, links of devices, the survey.

pub(crate) mod calibrations;
pub(crate) mod comparisons;
pub(crate) mod drive_tests;
pub(crate) mod forecasts;
pub(crate) mod ground;
pub(crate) mod links;
pub(crate) mod map;
pub(crate) mod receivers;
pub(in crate::http) mod signal;
pub(crate) mod sites;
pub(crate) mod survey;

use axum::extract::DefaultBodyLimit;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::http::app::App;

/// Bytes of a drive test.
const LARGEST_IMPORT: usize = 32 << 20;

/// All endpoints of this part.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .merge(
            OpenApiRouter::new()
                .routes(routes!(drive_tests::list_imports, drive_tests::add_import))
                .layer(DefaultBodyLimit::max(LARGEST_IMPORT)),
        )
        .merge(
            OpenApiRouter::new()
                .routes(routes!(ground::list_ground_files, ground::add_ground_file))
                .layer(DefaultBodyLimit::max(ground::MAX_BODY)),
        )
        .routes(routes!(ground::show_estate_ground))
        .routes(routes!(ground::show_ground_file, ground::remove_ground_file))
        .routes(routes!(ground::estate_ground_tile))
        .routes(routes!(drive_tests::show_import, drive_tests::remove_import))
        .routes(routes!(sites::list_sites, sites::add_site))
        .routes(routes!(sites::change_sites))
        .routes(routes!(sites::show_site, sites::change_site, sites::remove_site))
        .routes(routes!(receivers::list_receivers, receivers::add_receiver))
        .routes(routes!(receivers::show_receiver, receivers::change_receiver, receivers::remove_receiver))
        .routes(routes!(forecasts::list_forecasts, forecasts::add_forecast))
        .routes(routes!(forecasts::show_forecast, forecasts::remove_forecast))
        .routes(routes!(map::show_layers))
        .routes(routes!(map::layer_tile))
        .routes(routes!(map::layer_values))
        .routes(routes!(map::show_place))
        .routes(routes!(map::show_ranking))
        .routes(routes!(calibrations::list_calibrations, calibrations::add_calibration))
        .routes(routes!(calibrations::show_calibration, calibrations::remove_calibration))
        .routes(routes!(comparisons::difference_tile))
        .routes(routes!(comparisons::compare_with_survey))
        .routes(routes!(comparisons::compare_forecasts))
        .routes(routes!(survey::show_survey))
        .routes(routes!(survey::survey_tile))
        .routes(routes!(survey::list_hexagons))
        .routes(routes!(survey::show_surveyed_place))
        .routes(routes!(survey::list_areas))
        .routes(routes!(signal::list_changes))
        .routes(routes!(signal::show_signal))
        .routes(routes!(links::list_links))
        .routes(routes!(links::list_coverage))
        .routes(routes!(links::show_coverage))
}

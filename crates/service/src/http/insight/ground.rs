//! The ground under maps.

use std::sync::Arc;

use api::ground::{GroundInfo, Paper, TileQuestion};
use api::problem::Problem;
use axum::extract::{Path, State};
use axum::response::Response;
use coverage::terrain::relief::{MAX_LEVEL, Palette, Tile};
use domain::coverage::ground_extent;

use crate::http::app::App;
use crate::http::auth::context::RequestContext;
use crate::http::error::Refusal;
use crate::http::extract::Params;
use crate::http::file;
use crate::http::json::{Answer, Json};

/// How long a browser may keep a tile: the files change only when the service is started again.
const KEPT: &str = "private, max-age=3600";

/// The ground that the service has files of: maps lie on it.
#[utoipa::path(get, path = "/ground", tag = "ground",
    extensions(("x-right" = json!("anyone"))), responses((status = 200, body = GroundInfo)))]
pub(crate) async fn show_ground(State(app): State<App>, _entry: RequestContext) -> Answer<GroundInfo> {
    let extent = app.grounds.of_operator().terrain().extent().as_ref().map(ground_extent);
    Ok(Json(GroundInfo { extent, max_level: MAX_LEVEL, tiles: app.edge.map_tiles.clone() }))
}

/// The colours on a paper; light if none is wanted.
pub(in crate::http) fn palette(paper: Option<Paper>) -> Palette {
    match paper.unwrap_or_default() {
        Paper::Light => Palette::LIGHT,
        Paper::Dark => Palette::DARK,
    }
}

/// A tile of a map of the ground, 256 pixels square, in the scheme of web maps (OGC 17-083r4, Annex D.1). The sea and what is
/// not known are clear.
#[utoipa::path(get, path = "/ground/tiles/{level}/{column}/{row}", tag = "ground",
    extensions(("x-right" = json!("anyone"))),
    params(("level" = u8, Path, maximum = 16, example = 11), ("column" = u32, Path, example = 1046),
        ("row" = u32, Path, example = 650), TileQuestion),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem)))]
pub(crate) async fn ground_tile(
    State(app): State<App>,
    _entry: RequestContext,
    Path((level, column, row)): Path<(u8, u32, u32)>,
    Params(question): Params<TileQuestion>,
) -> Result<Response, Refusal> {
    let Some(tile) = Tile::new(level, column, row) else {
        let why =
            format!("levels are 0 to {MAX_LEVEL}, and a level has columns and rows from 0 to 2 to the power of it");
        return Err(Refusal(Problem::new(404, "not_found", "There is no such tile").detail(why)));
    };
    let palette = palette(question.paper);
    let ground = Arc::clone(app.grounds.of_operator());
    file::tile(&app, KEPT, move || ground.tile(tile, &palette)).await
}

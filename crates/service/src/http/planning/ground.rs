//! The ground of an estate: its own files of heights and of cover, together with those of the operator.

use std::sync::Arc;

use api::Page;
use api::ground::{EstateGround, EstateTileQuestion, GroundFile, GroundView, NewGroundFile};
use api::problem::{Problem, bad_field};
use axum::extract::{RawPathParams, State};
use axum::http::StatusCode;
use axum::response::Response;
use chrono::Utc;
use coverage::terrain::holes;
use coverage::terrain::relief::MAX_LEVEL;
use domain::coverage::ground::{LARGEST, MOST_CELLS, new_file};
use domain::coverage::ground_extent;
use store::PlanKind;

use crate::ground::grounds::digest;
use crate::ground::png;
use crate::http::app::App;
use crate::http::error::{Refusal, not_found};
use crate::http::extract::{Paging, Params, PathName, WholeEstate};
use crate::http::file;
use crate::http::insight::ground::palette;
use crate::http::json::{Answer, Created, Json, Made};
use crate::http::listing::Choice;
use crate::http::models::scripts::blocking;
use crate::http::planning::map::tile_in;
use crate::http::upload::Upload;

/// The largest body.
pub(super) const MAX_BODY: usize = LARGEST + 1;
/// Forecasts that are closed when the ground changes: an estate keeps no more.
const MOST_FORECASTS: u32 = 100;
/// How long a browser may keep a tile: its address changes with the ground.
const KEPT: &str = "private, max-age=3600";

/// The ground of an estate: its own files, and those of the operator. Forecasts and links are computed from it.
#[utoipa::path(get, path = "/estates/{estate}/ground", tag = "ground",
    extensions(("x-right" = json!("view"))), responses((status = 200, body = EstateGround)))]
pub(crate) async fn show_estate_ground(State(app): State<App>, estate: WholeEstate) -> Answer<EstateGround> {
    let ground = app.grounds.of(estate.id).await?;
    let files = ground.files().to_vec();
    Ok(Json(EstateGround {
        edition: ground.fingerprint().to_owned(),
        extent: ground.terrain().extent().as_ref().map(ground_extent),
        max_level: MAX_LEVEL,
        cells: files.iter().filter(|file| !file.by_operator).map(|file| file.raster.cells()).sum(),
        most_cells: MOST_CELLS,
        files,
    }))
}

/// The estate's own files as they are recorded.
async fn own(app: &App, estate: &WholeEstate) -> Result<Vec<GroundFile>, Refusal> {
    Ok(app.store.plans(estate.id, PlanKind::GroundFile).await?)
}

/// The files of heights and of cover that are the estate's own, by name.
#[utoipa::path(get, path = "/estates/{estate}/ground/files", tag = "ground",
    extensions(("x-right" = json!("view"))), params(Choice, Paging),
    responses((status = 200, body = Page<GroundFile>), (status = 422, body = Problem)))]
pub(crate) async fn list_ground_files(
    State(app): State<App>,
    estate: WholeEstate,
    Params(choice): Params<Choice>,
    Params(paging): Params<Paging>,
) -> Answer<Page<GroundFile>> {
    let ground = app.grounds.of(estate.id).await?;
    let mut own: Vec<GroundFile> = ground.files().iter().filter(|file| !file.by_operator).cloned().collect();
    own.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Json(choice.page_of(own, &paging, |file: &GroundFile| file.name.clone())?))
}

/// To be called when the files of an estate have changed.
async fn changed(app: &App, estate: &WholeEstate) -> Result<(), Refusal> {
    app.grounds.forget(estate.id);
    app.forecaster.close_all(&app.store.forecasts(estate.id, MOST_FORECASTS).await?);
    Ok(())
}

/// Adds a file of heights or of cover to the ground of the estate: a GeoTIFF, or an SRTM height file. Where several files have a
/// value, that of the file with the smallest cells counts; of the same size, the estate's own before the operator's.
#[utoipa::path(post, path = "/estates/{estate}/ground/files", tag = "ground",
    extensions(("x-right" = json!("gateways")), ("x-max-body-bytes" = json!(MAX_BODY))), params(NewGroundFile),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 201, body = GroundFile), (status = 413, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_ground_file(
    State(app): State<App>,
    estate: WholeEstate,
    Params(wanted): Params<NewGroundFile>,
    Upload { bytes, turn: upload }: Upload,
) -> Made<GroundFile> {
    if bytes.len() > LARGEST {
        return Err(
            bad_field("file", &format!("{} bytes", bytes.len()), format!("at most {LARGEST} are allowed")).into()
        );
    }
    // Whether there is room is looked at and taken by one after the other.
    let turn = app.grounds.reading.lock().await;
    let there = own(&app, &estate).await?;
    let (grounds, id) = (Arc::clone(&app.grounds), estate.id);
    let read = blocking(move || {
        let _upload = upload;
        let file = new_file(&wanted, &bytes, (digest(&bytes), &there)).map_err(Refusal::from)?;
        grounds.write(id, &file.sha256, &bytes).map_err(|why| {
            tracing::error!("a file of the ground cannot be written: {why:#}");
            Refusal(Problem::new(500, "not_kept", "The file could not be kept; the service's log says why"))
        })?;
        Ok::<_, Refusal>(file)
    });
    let mut file = read.await??;
    (file.added_by, file.added_at) = (estate.person.clone(), Some(Utc::now()));
    app.store.add_plan(estate.id, PlanKind::GroundFile, (&file.name, &file)).await?;
    drop(turn);
    estate.audit().object(format!("ground file {}", file.name)).made(&file);
    changed(&app, &estate).await?;
    Ok(Created { at: estate.path_of("ground/files", &file.name), made: file })
}

async fn found(app: &App, estate: &WholeEstate, name: &str) -> Result<GroundFile, Refusal> {
    let ground = app.grounds.of(estate.id).await?;
    let file = ground.files().iter().find(|file| !file.by_operator && file.name == name);
    file.cloned().ok_or_else(|| not_found("file", name))
}

/// A file of the estate's own.
#[utoipa::path(get, path = "/estates/{estate}/ground/files/{file}", tag = "ground",
    extensions(("x-right" = json!("view"))), params(("file" = String, Path)),
    responses((status = 200, body = GroundFile), (status = 404, body = Problem)))]
pub(crate) async fn show_ground_file(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Answer<GroundFile> {
    found(&app, &estate, &name).await.map(Json)
}

/// Removes a file of the estate's own. Forecasts that were made of it are kept, and say that the ground has changed.
#[utoipa::path(delete, path = "/estates/{estate}/ground/files/{file}", tag = "ground",
    extensions(("x-right" = json!("gateways"))), params(("file" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_ground_file(
    State(app): State<App>,
    estate: WholeEstate,
    PathName(name): PathName,
) -> Result<StatusCode, Refusal> {
    let file = found(&app, &estate, &name).await?;
    let turn = app.grounds.reading.lock().await;
    app.store.remove_plan(estate.id, PlanKind::GroundFile, &file.name).await?;
    drop(turn);
    estate.audit().object(format!("ground file {}", file.name)).removed(&file);
    changed(&app, &estate).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A tile of a map of the estate's ground, 256 pixels square, in the scheme of web maps (OGC 17-083r4, Annex D.1).
#[utoipa::path(get, path = "/estates/{estate}/ground/tiles/{level}/{column}/{row}", tag = "ground",
    extensions(("x-right" = json!("view"))),
    params(("level" = u8, Path, maximum = 16, example = 11), ("column" = u32, Path, example = 1046),
        ("row" = u32, Path, example = 650), EstateTileQuestion),
    responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem)))]
pub(crate) async fn estate_ground_tile(
    State(app): State<App>,
    estate: WholeEstate,
    path: RawPathParams,
    Params(question): Params<EstateTileQuestion>,
) -> Result<Response, Refusal> {
    let (_, tile) = tile_in(&path)?;
    let ground = app.grounds.of(estate.id).await?;
    let palette = palette(question.paper);
    let draw = move || match question.view.unwrap_or_default() {
        GroundView::Relief => ground.tile(tile, &palette),
        GroundView::Holes => png(&holes::tile(ground.terrain(), tile)),
    };
    file::tile(&app, KEPT, draw).await
}

//! Answers that are files.

use anyhow::Result;
use api::problem::{Problem, bad_field};
use axum::body::Body;
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use serde::Deserialize;
use store::PersonId;

use crate::history::TextForm;
use crate::http::app::App;
use crate::http::error::Refusal;
use crate::http::exports::{FileParts, parts_of};
use crate::http::models::scripts::blocking;

/// The format of a file of text.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct WantedForm {
    /// `csv` (the default) or `jsonl` (an object a line).
    form: Option<String>,
}

impl WantedForm {
    /// # Errors
    /// If there is no such format.
    pub(crate) fn read(&self) -> Result<TextForm, Problem> {
        match self.form.as_deref() {
            None | Some("csv") => Ok(TextForm::Csv),
            Some("jsonl") => Ok(TextForm::JsonLines),
            Some(other) => Err(bad_field("form", other, "csv and jsonl are allowed")),
        }
    }
}

/// A file that is saved under this name.
pub(crate) fn file(name: &str, content_type: &'static str, body: Body) -> Response {
    let head = [
        (header::CONTENT_TYPE, content_type.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
        (header::CACHE_CONTROL, "no-store".to_owned()),
    ];
    (head, body).into_response()
}

/// The bytes of a picture or a raster that takes a while to write.
///
/// # Errors
/// If it cannot be written; the log says why.
pub(crate) async fn written(
    what: &str,
    write: impl FnOnce() -> Result<Vec<u8>> + Send + 'static,
) -> Result<Vec<u8>, Refusal> {
    blocking(write).await?.map_err(|why| {
        tracing::error!("{what} cannot be written: {why:#}");
        Refusal::internal()
    })
}

/// A tile of a map as a PNG, drawn when it is its turn; `kept` says how long a browser may keep it.
pub(crate) async fn tile(
    app: &App,
    kept: &'static str,
    draw: impl FnOnce() -> Result<Vec<u8>> + Send + 'static,
) -> Result<Response, Refusal> {
    let _turn = app.grounds.turns.acquire().await;
    let drawn = written("a tile", draw).await?;
    Ok(([(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, kept)], drawn).into_response())
}

/// A file that is written while it is sent, once it is the caller's turn.
///
/// # Errors
/// The caller has too many exports, or it took too long.
pub(crate) async fn written_file<W>(
    (app, person): (&App, PersonId),
    (name, content_type): (&str, &'static str),
    write: impl FnOnce(FileParts) -> W,
) -> Result<Response, Refusal>
where
    W: Future<Output = Result<()>> + Send + 'static,
{
    let turn = app.exports.turn(person).await?;
    Ok(file(name, content_type, Body::from_stream(parts_of(turn, write))))
}

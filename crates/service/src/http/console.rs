//! The console's files, built into the program. An address that is not a file gets the page itself, which then shows
//! the route.

use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

use crate::http::app::App;

#[derive(RustEmbed)]
#[folder = "../../console/build"]
#[allow_missing = true]
struct Files;

const PAGE: &str = "index.html";
/// Names under this folder change with their content.
const HASHED: &str = "_app/immutable/";

/// The console's page, if it is built in.
pub(crate) fn page() -> Option<String> {
    String::from_utf8(Files::get(PAGE)?.data.into_owned()).ok()
}

pub(crate) async fn serve(State(app): State<App>, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (name, file) = match Files::get(path) {
        Some(file) => (path, Some(file)),
        // A missing script must not be answered with a page.
        None if path.starts_with("_app/") => return StatusCode::NOT_FOUND.into_response(),
        None => (PAGE, Files::get(PAGE)),
    };
    let Some(file) = file else {
        return (StatusCode::NOT_FOUND, "The console is not built into this program; see README.md.\n").into_response();
    };
    if name == PAGE {
        let (page, policy) = app.edge.page(&String::from_utf8_lossy(&file.data));
        let headers = [
            (header::CONTENT_TYPE, "text/html; charset=utf-8".to_owned()),
            (header::CACHE_CONTROL, "no-store".to_owned()),
            (header::CONTENT_SECURITY_POLICY, policy),
        ];
        return (headers, page).into_response();
    }
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    let cache = if name.starts_with(HASHED) { "public, max-age=31536000, immutable" } else { "no-cache" };
    let headers = [(header::CONTENT_TYPE, kind.as_ref().to_owned()), (header::CACHE_CONTROL, cache.to_owned())];
    (headers, file.data.into_owned()).into_response()
}

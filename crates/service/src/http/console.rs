//! The console's files, built into the program. A path that is one of the console's routes gets the page itself, which
//! then shows the route. Every other path does not exist.

use axum::extract::State;
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

use crate::http::app::App;
use crate::http::error::{no_such_method, not_found};

#[derive(RustEmbed)]
#[folder = "../../console/build"]
#[allow_missing = true]
struct Files;

const PAGE: &str = "index.html";
/// Names under this folder change with their content.
const HASHED: &str = "_app/immutable/";

/// The console's routes, as its folder `src/routes` has them; `*` stands for one name.
const ROUTES: &[&str] = &[
    "",
    "account",
    "airtime",
    "coverage",
    "decoders",
    "decoders/*",
    "devices",
    "devices/*",
    "devices/chart",
    "devices/fleets",
    "devices/fleets/*",
    "devices/models",
    "devices/profiles",
    "devices/rounds",
    "devices/rounds/*",
    "gateways",
    "gateways/*",
    "installation",
    "invitation",
    "outlets",
    "outlets/*",
    "outlets/connect",
    "people",
    "people/audit",
    "people/tokens",
    "sign-in",
    "tools",
    "tools/airtime",
    "tools/frame",
    "tools/regions",
    "tools/regions/*",
    "traffic",
    "watch",
];

/// Whether a path, without the slash in front, is one of the console's routes.
fn is_route(path: &str) -> bool {
    let path = path.strip_suffix('/').unwrap_or(path);
    let fits = |route: &&str| {
        route.split('/').count() == path.split('/').count()
            && route
                .split('/')
                .zip(path.split('/'))
                .all(|(wanted, part)| wanted == part || wanted == "*" && !part.is_empty())
    };
    ROUTES.iter().any(fits)
}

/// Whether a caller takes a page, as browsers do: one that names nothing takes anything.
fn takes_html(headers: &HeaderMap) -> bool {
    let Some(accepted) = headers.get(header::ACCEPT) else { return true };
    let accepted = accepted.to_str().unwrap_or_default();
    ["text/html", "text/*", "*/*"].iter().any(|kind| accepted.contains(kind))
}

/// The console's page, if it is built in.
pub(crate) fn page() -> Option<String> {
    String::from_utf8(Files::get(PAGE)?.data.into_owned()).ok()
}

pub(crate) async fn serve(State(app): State<App>, method: Method, uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (name, file) = match Files::get(path).filter(|_| path != PAGE) {
        Some(file) => (path, Some(file)),
        None if is_route(path) && takes_html(&headers) => (PAGE, Files::get(PAGE)),
        None => return not_found("page", uri.path()).into_response(),
    };
    if !method.is_safe() {
        return no_such_method(method, uri).await.into_response();
    }
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

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    /// The routes of a folder: those with a page of their own. Names in brackets stand for any name, and those in
    /// parentheses are no part of a path.
    fn routes_in(folder: &Path, prefix: &str, found: &mut Vec<String>) {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let name = entry.file_name().into_string().unwrap();
            if name == "+page.svelte" {
                found.push(prefix.trim_start_matches('/').to_owned());
            } else if entry.path().is_dir() {
                let part = match name.chars().next() {
                    Some('(') => String::new(),
                    Some('[') => "/*".to_owned(),
                    _ => format!("/{name}"),
                };
                routes_in(&entry.path(), &format!("{prefix}{part}"), found);
            }
        }
    }

    #[test]
    fn the_routes_are_those_of_the_console() {
        let mut found = Vec::new();
        routes_in(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/src/routes"), "", &mut found);
        found.sort();
        assert_eq!(found, ROUTES);
    }

    #[test]
    fn only_routes_are_pages() {
        for route in ["", "devices", "devices/02b0000000000001", "devices/chart", "tools/regions/EU868", "watch/"] {
            assert!(is_route(route), "{route}");
        }
        for other in ["healthz", "metrics", "devices/a/b", "devices//", "people/other", "*"] {
            assert!(!is_route(other), "{other}");
        }
    }

    #[test]
    fn a_program_that_wants_something_else_gets_no_page() {
        let accepting = |text: &str| HeaderMap::from_iter([(header::ACCEPT, text.parse().unwrap())]);
        assert!(takes_html(&HeaderMap::new()) && takes_html(&accepting("*/*")));
        assert!(takes_html(&accepting("text/html,application/xhtml+xml")));
        assert!(!takes_html(&accepting("application/json")));
    }
}

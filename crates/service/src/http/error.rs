//! One error type, one way to answer with it: RFC 9457 problem details.

use std::time::Duration;

use api::problem::Problem;
use axum::extract::rejection::BytesRejection;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{Html, IntoResponse, Response};
use store::StoreError;

/// An error on its way to the client.
#[derive(Debug)]
pub struct Refusal(pub Problem);

impl Refusal {
    /// An internal error; the particulars are in the log.
    pub fn internal() -> Self {
        Self(Problem::new(500, "internal", "Something went wrong in the service"))
    }

    /// The account has as many of these going on as it may.
    pub fn too_many(what: &str) -> Self {
        let problem = Problem::new(429, "too_many_open", format!("The account has too many {what} open"));
        Self(problem.detail("end some that are not needed, or wait until they have ended"))
    }

    /// Too many of these, and how long to wait.
    pub fn too_often(wait: Duration) -> Self {
        let seconds = u32::try_from(wait.as_secs() + 1).unwrap_or(u32::MAX);
        let problem = Problem::new(429, "too_often", "Too many attempts").detail(format!("try again in {seconds} s"));
        Self(Problem { retry_after_s: Some(seconds), ..problem })
    }
}

impl From<Problem> for Refusal {
    fn from(problem: Problem) -> Self {
        Self(problem)
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Exists(what) => {
                Self(Problem::new(409, "exists", "It exists already").detail(format!("{what} is registered already")))
            }
            StoreError::Gone(what) => {
                Self(Problem::new(409, "gone", "It is gone").detail(format!("{what} was removed meanwhile")))
            }
            StoreError::InUse(what) => {
                Self(Problem::new(409, "in_use", "It is still in use").detail(format!("{what} still has devices")))
            }
            StoreError::NoSuchName => Self(Problem::new(404, "not_found", "There is nothing of that name")),
            unreadable if unreadable.is_unreadable() => {
                tracing::error!("{unreadable}");
                Self(Problem::new(500, "unreadable", "A stored record cannot be read; the service's log says which"))
            }
            other => {
                // The particulars are for the log, not for the caller.
                tracing::error!("{other}");
                Self(Problem::new(503, "unavailable", "The database is not available; try again shortly"))
            }
        }
    }
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self.0).unwrap_or_default();
        let mut answer = (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response();
        if status == StatusCode::UNAUTHORIZED {
            answer.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        if let Some(seconds) = self.0.retry_after_s {
            answer.headers_mut().insert(header::RETRY_AFTER, seconds.into());
        }
        answer
    }
}

/// There is nothing of that name. The name is repeated, cut to a sensible length.
pub(crate) fn not_found(what: &str, name: impl std::fmt::Display) -> Refusal {
    let name: String = name.to_string().chars().take(80).collect();
    Refusal(
        Problem::new(404, "not_found", format!("There is no such {what}")).detail(format!("{name:?} was asked for")),
    )
}

/// The body is larger than is taken.
pub(crate) fn too_large() -> Refusal {
    Refusal(Problem::new(413, "too_large", "The body is larger than is allowed here"))
}

/// The body broke off, or did not come in time.
pub(crate) fn broken_off(why: &impl std::fmt::Display) -> Refusal {
    Refusal(Problem::new(400, "broken_off", "The request's body did not come as a whole").detail(why.to_string()))
}

/// Why a body could not be read.
pub(crate) fn unread(why: &BytesRejection) -> Refusal {
    if why.status() == StatusCode::PAYLOAD_TOO_LARGE { too_large() } else { broken_off(why) }
}

/// The page with all kinds of problem: `type` leads there.
pub(crate) async fn problems() -> Html<String> {
    let rows: String = api::problem::kinds::KINDS
        .iter()
        .map(|kind| {
            let step = kind.step.replace('`', "");
            format!(
                "<tr id=\"{0}\"><td>{0}</td><td>{1}</td><td>{2}</td><td>{step}</td></tr>",
                kind.code, kind.status, kind.means
            )
        })
        .collect();
    Html(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Problems: Keen Heron</title><h1>Problems</h1>\
         <table><tr><th>Code</th><th>Status</th><th>Means</th><th>What to do</th></tr>{rows}</table></html>"
    ))
}

pub(crate) async fn no_such_endpoint(uri: axum::http::Uri) -> Refusal {
    not_found("endpoint", uri.path())
}

pub(crate) async fn no_such_method(method: axum::http::Method, uri: axum::http::Uri) -> Refusal {
    let detail = format!("{method} is not possible on {}", uri.path());
    Refusal(Problem::new(405, "method_not_allowed", "This cannot be done there").detail(detail))
}

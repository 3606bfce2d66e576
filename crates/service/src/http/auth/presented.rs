//! The token that a request came with.

use api::problem::Problem;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, header};

use crate::http::app::App;
use crate::http::error::Refusal;

/// The token that a request came with.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Presented {
    pub token: String,
    /// Whether a browser sent it by itself.
    pub by_cookie: bool,
}

/// The token of a request: from its `Authorization`, or a browser's cookie.
pub(crate) fn presented(headers: &HeaderMap, secure: bool) -> Option<Presented> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    if let Some(authorization) = text(header::AUTHORIZATION) {
        let token = authorization.strip_prefix("Bearer ")?.trim().to_owned();
        return Some(Presented { token, by_cookie: false });
    }
    let mut pairs = text(header::COOKIE)?.split(';').filter_map(|pair| pair.trim().split_once('='));
    let token = pairs.find_map(|(name, value)| (name == cookie_name(secure)).then(|| value.to_owned()))?;
    Some(Presented { token, by_cookie: true })
}

/// The cookie that holds a browser's token. Browsers take one that begins with `__Host-` only over TLS, from the host itself.
pub(crate) const fn cookie_name(secure: bool) -> &'static str {
    if secure { "__Host-keen_heron" } else { "keen_heron" }
}

impl FromRequestParts<App> for Presented {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        presented(&parts.headers, app.edge.secure)
            .ok_or_else(|| Refusal(Problem::new(401, "sign_in", "Sign in first: no valid token came with the request")))
    }
}

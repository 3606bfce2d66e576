//! The checks that come before a handler: who calls, for which estate, with what body.

use api::problem::Problem;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, FromRequestParts, Query, RawPathParams, Request};
use axum::http::request::Parts;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use lorawan::Eui64;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use store::{EstateId, Person};

use super::error::{Refusal, not_found};
use super::{App, auth};

/// The cookie that holds a browser's token.
pub const COOKIE: &str = "keen_heron";

/// A JSON body, in or out; one that does not parse is answered with a problem that says where.
pub struct Json<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Json<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        match axum::Json::<T>::from_request(request, state).await {
            Ok(axum::Json(value)) => Ok(Self(value)),
            Err(rejection) => {
                let status = rejection.status().as_u16();
                let (code, title) = match (&rejection, status) {
                    (_, 413) => ("too_large", "The body is larger than the 1 MiB allowed"),
                    (JsonRejection::MissingJsonContentType(_), _) => {
                        ("not_json", "The content type must be application/json")
                    }
                    _ => ("bad_json", "The body is not the JSON expected here"),
                };
                Err(Refusal(Problem::new(status, code, title).detail(rejection.body_text())))
            }
        }
    }
}

impl<T: Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        axum::Json(self.0).into_response()
    }
}

/// The person behind a request, known by a token.
pub struct Caller(pub Person);

impl FromRequestParts<App> for Caller {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        let wanted = || Refusal(Problem::new(401, "sign_in", "Sign in first: no valid token came with the request"));
        let token = token(&parts.headers).ok_or_else(wanted)?;
        let person = app.store.signed_in(auth::token_hash(&token)).await?.ok_or_else(wanted)?;
        Ok(Self(person))
    }
}

/// The token of a request: from its `Authorization`, or a browser's cookie.
pub fn token(headers: &HeaderMap) -> Option<String> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    if let Some(bearer) = text(header::AUTHORIZATION).and_then(|value| value.strip_prefix("Bearer ")) {
        return Some(bearer.trim().to_owned());
    }
    text(header::COOKIE)?
        .split(';')
        .filter_map(|pair| pair.trim().split_once('='))
        .find_map(|(name, value)| (name == COOKIE).then(|| value.to_owned()))
}

/// The estate a path names, if the caller belongs to it. To others it does not exist.
pub struct InEstate {
    pub id: EstateId,
    /// The caller's name.
    pub person: String,
}

impl FromRequestParts<App> for InEstate {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        let Caller(person) = Caller::from_request_parts(parts, app).await?;
        let slug = path_parameter(parts, app, "estate").await?;
        let belongs = app.store.memberships(person.id).await?;
        match belongs.into_iter().find(|m| m.slug == slug) {
            Some(membership) => Ok(Self { id: membership.estate_id, person: person.name }),
            None => Err(not_found("estate", slug)),
        }
    }
}

/// The EUI a path names, in any pasted form.
pub struct PathEui(pub Eui64);

impl FromRequestParts<App> for PathEui {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        Ok(Self(api::problem::eui("eui", &path_parameter(parts, app, "eui").await?)?))
    }
}

/// The last name in a path: that of a fleet, a model or a downlink.
pub struct PathName(pub String);

impl FromRequestParts<App> for PathName {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        let parameters = RawPathParams::from_request_parts(parts, app).await.ok();
        let last = parameters.and_then(|all| all.iter().last().map(|(_, value)| value.to_owned()));
        last.map(Self).ok_or_else(|| not_found("name", parts.uri.path()))
    }
}

/// The model a path names.
pub struct PathModel(pub String);

impl FromRequestParts<App> for PathModel {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        Ok(Self(path_parameter(parts, app, "model").await?))
    }
}

async fn path_parameter(parts: &mut Parts, app: &App, name: &str) -> Result<String, Refusal> {
    let parameters = RawPathParams::from_request_parts(parts, app).await;
    let found = parameters.ok().and_then(|all| {
        let mut all = all.into_iter();
        all.find_map(|(key, value)| (key == name).then(|| value.to_owned()))
    });
    found.ok_or_else(|| not_found(name, parts.uri.path()))
}

/// Which part of a list.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Paging {
    /// The `next` of the page before.
    pub after: Option<String>,
    /// Entries a page, 1 to 500; 100 if not given.
    #[param(minimum = 1, maximum = 500)]
    pub limit: Option<u32>,
}

impl Paging {
    pub fn after(&self) -> &str {
        self.after.as_deref().unwrap_or("")
    }

    pub fn limit(&self) -> Result<u32, Refusal> {
        match self.limit {
            None => Ok(100),
            Some(limit @ 1..=500) => Ok(limit),
            Some(other) => Err(api::problem::bad_field("limit", &other.to_string(), "1 to 500 are allowed").into()),
        }
    }
}

/// A page: one more row than asked for shows that there is a next one.
pub fn page<R, T>(
    mut rows: Vec<R>,
    limit: u32,
    cursor: impl Fn(&R) -> String,
    show: impl FnMut(R) -> T,
) -> api::Page<T> {
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = if more { rows.last().map(cursor) } else { None };
    api::Page { items: rows.into_iter().map(show).collect(), next }
}

/// Query parameters; ones that do not parse are answered with a problem.
pub struct Params<T>(pub T);

impl<T: DeserializeOwned> FromRequestParts<App> for Params<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Refusal> {
        match Query::<T>::from_request_parts(parts, app).await {
            Ok(Query(value)) => Ok(Self(value)),
            Err(why) => {
                let problem = Problem::new(400, "bad_query", "The query parameters cannot be read");
                Err(problem.detail(why.body_text()).into())
            }
        }
    }
}

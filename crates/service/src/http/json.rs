//! JSON bodies, in and out.

use std::sync::Arc;

use api::problem::Problem;
use axum::body::Bytes;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, Request};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::http::contract::Contract;
use crate::http::error::{Refusal, unread};

/// What a handler gives back.
pub(crate) type Answer<T> = Result<Json<T>, Refusal>;

/// What a handler gives back that has made something.
pub(crate) type Made<T> = Result<Created<T>, Refusal>;

/// A JSON body, in or out; an invalid one is answered with a problem that says where.
pub(crate) struct Json<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Json<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        let contract = request.extensions().get::<Arc<Contract>>().cloned();
        if !is_json(request.headers()) {
            return Err(Refusal(Problem::new(415, "not_json", "The content type must be application/json")));
        }
        let bytes = Bytes::from_request(request, state).await.map_err(|why| unread(&why))?;
        if let Some(contract) = contract {
            contract.check_body(&bytes)?;
        }
        let bad_json = |why: JsonRejection| {
            let title = "The body is not the JSON expected here";
            Refusal(Problem::new(why.status().as_u16(), "bad_json", title).detail(why.body_text()))
        };
        axum::Json::<T>::from_bytes(&bytes).map(|axum::Json(value)| Self(value)).map_err(bad_json)
    }
}

/// The media type of a body, without its parameters.
pub(crate) fn media_type(headers: &HeaderMap) -> &str {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    kind.split(';').next().unwrap_or_default().trim()
}

fn is_json(headers: &HeaderMap) -> bool {
    let kind = media_type(headers);
    kind.eq_ignore_ascii_case("application/json") || kind.to_ascii_lowercase().ends_with("+json")
}

/// Something new, and where it is.
pub(crate) struct Created<T> {
    /// Its path, without `/api/v1`.
    pub at: String,
    pub made: T,
}

impl<T: Serialize> IntoResponse for Created<T> {
    fn into_response(self) -> Response {
        let at = format!("{}{}", api::BASE, self.at);
        (StatusCode::CREATED, [(header::LOCATION, at)], axum::Json(self.made)).into_response()
    }
}

impl<T: Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        axum::Json(self.0).into_response()
    }
}

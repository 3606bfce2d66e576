//! JSON bodies, in and out.

use api::problem::Problem;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, Request};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::http::error::{Refusal, too_large};

/// What a handler gives back.
pub(crate) type Answer<T> = Result<Json<T>, Refusal>;

/// What a handler gives back that has made something.
pub(crate) type Made<T> = Result<Created<T>, Refusal>;

/// A JSON body, in or out; an invalid one is answered with a problem that says where.
pub(crate) struct Json<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Json<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        match axum::Json::<T>::from_request(request, state).await {
            Ok(axum::Json(value)) => Ok(Self(value)),
            Err(rejection) => {
                let status = rejection.status().as_u16();
                if status == 413 {
                    return Err(too_large());
                }
                let (code, title) = match &rejection {
                    JsonRejection::MissingJsonContentType(_) => {
                        ("not_json", "The content type must be application/json")
                    }
                    _ => ("bad_json", "The body is not the JSON expected here"),
                };
                Err(Refusal(Problem::new(status, code, title).detail(rejection.body_text())))
            }
        }
    }
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

//! JSON bodies, in and out.

use api::problem::Problem;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, Request};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::http::error::Refusal;

/// What a handler gives back.
pub(crate) type Answer<T> = Result<Json<T>, Refusal>;

/// A JSON body, in or out; an invalid one is answered with a problem that says where.
pub(crate) struct Json<T>(pub T);

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

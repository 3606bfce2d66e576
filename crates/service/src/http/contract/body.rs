//! Checks of JSON bodies.

use std::error::Error;
use std::sync::Arc;

use api::problem::{Problem, bad_fields};
use axum::body::{Body, to_bytes};
use axum::extract::Request;
use http_body_util::LengthLimitError;
use serde_json::Value;

use crate::http::contract::LazyValidator;
use crate::http::error::{Refusal, broken_off, too_large};

/// The largest request body; a decoder's script is the largest thing sent.
pub(crate) const MAX_BODY: usize = 1 << 20;

/// A request with all of its body. Safe to cancel.
///
/// # Errors
/// The body is too large, or breaks off.
pub(crate) async fn whole(request: Request, most: usize) -> Result<Request, Refusal> {
    let (parts, body) = request.into_parts();
    let bytes =
        to_bytes(body, most).await.map_err(|why| if is_too_long(&why) { too_large() } else { broken_off(&why) })?;
    Ok(Request::from_parts(parts, Body::from(bytes)))
}

fn is_too_long(why: &axum::Error) -> bool {
    let mut cause: Option<&(dyn Error + 'static)> = Some(why);
    while let Some(one) = cause {
        if one.is::<LengthLimitError>() {
            return true;
        }
        cause = one.source();
    }
    false
}

/// What a body has to be.
pub(crate) struct BodyContract(LazyValidator);

impl BodyContract {
    pub(super) fn of(schema: &Value, schemas: &Arc<Value>) -> Self {
        Self(LazyValidator::new(schema, schemas))
    }

    pub(super) fn check(&self, body: &Value) -> Result<(), Problem> {
        match self.0.findings(body, "") {
            found if found.is_empty() => Ok(()),
            found => Err(bad_fields(found)),
        }
    }
}

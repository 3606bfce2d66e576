//! Checks of JSON bodies.

use std::sync::Arc;

use api::problem::{Problem, bad_fields};
use serde_json::Value;

use crate::http::contract::LazyValidator;

/// The largest request body; a decoder's script is the largest thing sent.
pub(crate) const MAX_BODY: usize = 1 << 20;

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

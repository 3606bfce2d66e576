//! Why a device is not heard.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::join::Verdict;

/// A condition for a device to be heard.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    /// The condition.
    pub what: String,
    /// The result.
    pub verdict: Verdict,
    /// What is known of it.
    pub known: String,
}

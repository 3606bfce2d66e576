//! Why a device is not heard.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::device::join::Verdict;

/// Something that must be true before a device is heard, and what is known of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Condition {
    /// What must be true.
    pub what: String,
    /// Whether it is.
    pub verdict: Verdict,
    /// What is known of it.
    pub known: String,
}

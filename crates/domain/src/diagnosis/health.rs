//! The health of the whole service, from that of its parts.

use api::health::{Health, HealthPart, PartState};

/// The whole, by its parts.
pub fn health(version: &str, parts: Vec<HealthPart>) -> Health {
    let status = parts.iter().map(|part| part.state).max().unwrap_or(PartState::Ok);
    Health { status, version: version.into(), parts }
}

//! The service's metrics.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The service's metrics since it was started.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Metrics {
    /// How long it has been up.
    pub up_s: f64,
    /// Processor time it has used, of all cores; not known on every system.
    pub cpu_s: Option<f64>,
    /// Memory it has in use; not known on every system.
    pub resident_bytes: Option<u64>,
    /// How long copies of one frame are collected.
    pub collect_ms: u16,
    /// Uplinks accepted and made durable.
    pub uplinks_stored: u64,
    /// Readings of uplinks made durable: uplinks whose decoder is done.
    pub uplinks_decoded: u64,
    /// How long storing took, from the first copy's datagram on.
    pub until_stored: Vec<Slice>,
}

/// How many took about as long.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Slice {
    /// The upper end of the slice; the slice before ends at its lower end.
    pub up_to_ms: f64,
    /// How many.
    pub count: u64,
}

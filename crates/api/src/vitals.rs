//! How the service itself is doing.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The service's own measurements since it was started.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Vitals {
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
    /// As long as this at most, and longer than the slice before.
    pub up_to_ms: f64,
    /// How many.
    pub count: u64,
}

/// The time within which a share of all, from 0 to 1, was done; `None` if there are none.
pub fn within_ms(slices: &[Slice], share: f64) -> Option<f64> {
    let all: u64 = slices.iter().map(|slice| slice.count).sum();
    let wanted = (all as f64 * share).ceil().max(1.0) as u64;
    let mut seen = 0;
    slices.iter().find_map(|slice| {
        seen += slice.count;
        (seen >= wanted).then_some(slice.up_to_ms)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_is_done_within_the_slice_that_completes_it() {
        let slice = |up_to_ms, count| Slice { up_to_ms, count };
        let slices = [slice(1.0, 0), slice(2.0, 98), slice(4.0, 1), slice(8.0, 1)];
        assert_eq!(within_ms(&slices, 0.5), Some(2.0));
        assert_eq!(within_ms(&slices, 0.99), Some(4.0));
        assert_eq!(within_ms(&slices, 1.0), Some(8.0));
        assert_eq!(within_ms(&slices, 0.0), Some(2.0));
        assert_eq!(within_ms(&[], 0.5), None);
    }
}

//! Shares of a distribution of times.

use api::metrics::Slice;

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

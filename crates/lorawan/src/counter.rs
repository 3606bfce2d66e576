//! Frame counters: 32 bits kept, 16 bits sent (TS001 §4.3.1.5).

/// Where a received 16-bit counter stands against the last one accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Candidates {
    /// The smallest 32-bit counter above the last accepted with these 16 low bits, if one exists.
    pub ahead: Option<u32>,
    /// The largest 32-bit counter not above the last accepted with these 16 low bits, if any.
    pub behind: Option<u32>,
}

/// The full counters a frame with `low` 16 bits may have been made with.
///
/// The MIC covers all 32 bits and so decides which it was. `ahead` is the only one to accept
/// (TS001 §4.3.1.5: the counter must have increased); `behind` is worth a second look only to tell
/// a replay or a restarted counter from a frame under another key.
pub fn candidates(last: Option<u32>, low: u16) -> Candidates {
    let Some(last) = last else {
        return Candidates { ahead: Some(u32::from(low)), behind: None };
    };
    let same_epoch = (last & 0xffff_0000) | u32::from(low);
    if same_epoch > last {
        Candidates { ahead: Some(same_epoch), behind: same_epoch.checked_sub(0x1_0000) }
    } else {
        Candidates { ahead: same_epoch.checked_add(0x1_0000), behind: Some(same_epoch) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn rolls_over_into_the_next_epoch() {
        assert_eq!(candidates(Some(0xffff), 0), Candidates { ahead: Some(0x1_0000), behind: Some(0) });
        assert_eq!(candidates(Some(0x1_0005), 4), Candidates { ahead: Some(0x2_0004), behind: Some(0x1_0004) });
        assert_eq!(candidates(Some(7), 9), Candidates { ahead: Some(9), behind: None });
        assert_eq!(candidates(None, 3), Candidates { ahead: Some(3), behind: None });
        assert_eq!(candidates(Some(u32::MAX), 5).ahead, None, "a counter never wraps to reuse itself");
    }

    proptest! {
        #[test]
        fn ahead_is_the_next_with_these_bits(last: u32, low: u16) {
            let c = candidates(Some(last), low);
            if let Some(ahead) = c.ahead {
                prop_assert!(ahead > last && ahead - last <= 0x1_0000 && ahead as u16 == low);
            }
            if let Some(behind) = c.behind {
                prop_assert!(behind <= last && last - behind < 0x1_0000 && behind as u16 == low);
            }
        }
    }
}

//! The CFList of a join-accept: sixteen bytes, the last of which says what the others are
//! (TS001 §6.2.5, RP002 "Join-Accept CFList" of each region).

use super::{array, frequency_bytes, frequency_hz};

/// Channels that a join-accept brings along.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CfList {
    /// Type 0, for dynamic channel plans: the frequencies of channels 3 to 7, or after the region's
    /// default channels; hertz in steps of 100 Hz, zero leaves a channel unused.
    Frequencies([u32; 5]),
    /// Type 1, for fixed channel plans: which channels are on, 16 a mask, lowest bit first.
    Masks([u16; 5]),
    /// A type that RP002 does not define. A device discards such a list.
    Other {
        /// The type.
        kind: u8,
        /// The fifteen bytes before it.
        bytes: [u8; 15],
    },
}

/// Length of a CFList.
pub(super) const LEN: usize = 16;

impl CfList {
    /// The CFListType.
    pub const fn kind(&self) -> u8 {
        match self {
            CfList::Frequencies(_) => 0,
            CfList::Masks(_) => 1,
            CfList::Other { kind, .. } => *kind,
        }
    }

    /// Reads the sixteen bytes.
    pub fn parse(bytes: &[u8; LEN]) -> Self {
        match bytes[LEN - 1] {
            0 => CfList::Frequencies(std::array::from_fn(|i| frequency_hz(bytes, 3 * i))),
            1 => CfList::Masks(std::array::from_fn(|i| u16::from_le_bytes(array(bytes, 2 * i)))),
            kind => CfList::Other { kind, bytes: array(bytes, 0) },
        }
    }

    /// The sixteen bytes.
    pub fn emit(&self) -> [u8; LEN] {
        let mut out = [0; LEN];
        out[LEN - 1] = self.kind();
        match self {
            CfList::Frequencies(all) => {
                for (field, hz) in out.chunks_exact_mut(3).zip(all) {
                    field.copy_from_slice(&frequency_bytes(*hz));
                }
            }
            CfList::Masks(all) => {
                for (field, mask) in out.chunks_exact_mut(2).zip(all) {
                    field.copy_from_slice(&mask.to_le_bytes());
                }
            }
            CfList::Other { bytes, .. } => out[..LEN - 1].copy_from_slice(bytes),
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_type_decides_the_meaning() {
        let mut bytes = [0; LEN];
        bytes[..3].copy_from_slice(&[0x18, 0x4f, 0x84]);
        assert_eq!(CfList::parse(&bytes), CfList::Frequencies([867_100_000, 0, 0, 0, 0]), "0x844f18 × 100 Hz");
        bytes[15] = 1;
        assert_eq!(CfList::parse(&bytes), CfList::Masks([0x4f18, 0x0084, 0, 0, 0]));
        bytes[15] = 2;
        assert_eq!(CfList::parse(&bytes).kind(), 2);
    }

    proptest! {
        #[test]
        fn round_trip(bytes: [u8; LEN]) {
            let list = CfList::parse(&bytes);
            prop_assert_eq!(CfList::parse(&list.emit()), list);
            if matches!(list, CfList::Frequencies(_) | CfList::Other { .. }) {
                prop_assert_eq!(list.emit(), bytes);
            }
        }
    }
}

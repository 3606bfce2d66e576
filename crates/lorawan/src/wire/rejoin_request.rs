//! The rejoin-request of LoRaWAN 1.1 (TS001-1.1 §6.2.4), sent in a running session.
//!
//! Type 0 lets a network hand a device new session keys or take it over while roaming, type 2 renews
//! keys only; both name the network and are signed in the session. Type 1 is a beacon to the join
//! server, for a device whose network has lost it, and is signed with a lifetime key.

use super::{FrameError, MIC_LEN, MType, array, u24};
use crate::crypto::{Mic, MicKey};
use crate::{Eui64, NetId};

mod field {
    pub(super) const KIND: usize = 1;
    pub(super) const SENDER: usize = 2;
}

const SHORT: usize = field::SENDER + 3 + 8 + 2 + MIC_LEN;
const LONG: usize = field::SENDER + 8 + 8 + 2 + MIC_LEN;

/// Whom a rejoin-request addresses, which its type decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RejoinTo {
    /// Type 0: reset radio parameters and session to this network.
    Network(NetId),
    /// Type 1: the join server that knows the device.
    JoinServer(Eui64),
    /// Type 2: renew the keys of the session with this network.
    NetworkForKeys(NetId),
}

impl RejoinTo {
    /// The rejoin type as sent.
    pub const fn kind(self) -> u8 {
        match self {
            RejoinTo::Network(_) => 0,
            RejoinTo::JoinServer(_) => 1,
            RejoinTo::NetworkForKeys(_) => 2,
        }
    }
}

/// A checked view of a rejoin-request's bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RejoinRequestView<'a>(&'a [u8]);

impl<'a> RejoinRequestView<'a> {
    /// Checks message type, rejoin type and length.
    pub fn new_checked(phy_payload: &'a [u8]) -> Result<Self, FrameError> {
        const KIND: &str = "rejoin-request";
        let len = phy_payload.len();
        if len < field::SENDER {
            return Err(FrameError::TooShort { kind: KIND, len, needed: SHORT });
        }
        match MType::from_mhdr(phy_payload[0])? {
            MType::RejoinRequest => {}
            other => return Err(FrameError::OtherType(other)),
        }
        let wanted = match phy_payload[field::KIND] {
            0 | 2 => SHORT,
            1 => LONG,
            other => return Err(FrameError::RejoinType(other)),
        };
        if len == wanted { Ok(Self(phy_payload)) } else { Err(FrameError::WrongLength { kind: KIND, len }) }
    }

    /// Whom it addresses.
    pub fn to(&self) -> RejoinTo {
        let net_id = NetId::new(u24(self.0, field::SENDER));
        match self.0[field::KIND] {
            0 => RejoinTo::Network(net_id),
            2 => RejoinTo::NetworkForKeys(net_id),
            _ => RejoinTo::JoinServer(Eui64::from_wire(array(self.0, field::SENDER))),
        }
    }

    fn dev_eui_at(&self) -> usize {
        self.0.len() - MIC_LEN - 2 - 8
    }

    /// The DevEUI.
    pub fn dev_eui(&self) -> Eui64 {
        Eui64::from_wire(array(self.0, self.dev_eui_at()))
    }

    /// `RJcount0` (types 0 and 2, from 0 in each session) or `RJcount1` (type 1, never reset). Both
    /// are counters: a value not above the last one is refused, and they never wrap.
    pub fn rj_count(&self) -> u16 {
        u16::from_le_bytes(array(self.0, self.dev_eui_at() + 8))
    }

    /// The MIC as sent.
    pub fn mic(&self) -> Mic {
        array(self.0, self.0.len() - MIC_LEN)
    }

    /// Whether the MIC was made with `key`: the SNwkSIntKey for types 0 and 2, the JSIntKey for 1.
    pub fn verify(&self, key: &MicKey) -> bool {
        key.join_mic(&self.0[..self.0.len() - MIC_LEN]) == self.mic()
    }
}

/// The values of a rejoin-request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RejoinRequestRepr {
    /// Whom it addresses.
    pub to: RejoinTo,
    /// The DevEUI.
    pub dev_eui: Eui64,
    /// RJcount0 or RJcount1.
    pub rj_count: u16,
}

impl RejoinRequestRepr {
    /// The values in a view.
    pub fn parse(view: &RejoinRequestView<'_>) -> Self {
        Self { to: view.to(), dev_eui: view.dev_eui(), rj_count: view.rj_count() }
    }

    /// The frame, signed with `key`: the SNwkSIntKey for types 0 and 2, the JSIntKey for 1.
    pub fn emit(&self, key: &MicKey) -> Vec<u8> {
        let mut frame = Vec::with_capacity(LONG);
        frame.extend([MType::RejoinRequest.mhdr(), self.to.kind()]);
        match self.to {
            RejoinTo::Network(net_id) | RejoinTo::NetworkForKeys(net_id) => {
                frame.extend(&net_id.value().to_le_bytes()[..3]);
            }
            RejoinTo::JoinServer(join_eui) => frame.extend(join_eui.to_wire()),
        }
        frame.extend(self.dev_eui.to_wire());
        frame.extend(self.rj_count.to_le_bytes());
        let mic = key.join_mic(&frame);
        frame.extend(mic);
        frame
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn type_and_length_must_agree() {
        let refused = |bytes: &[u8]| RejoinRequestView::new_checked(bytes).unwrap_err();
        assert_eq!(refused(&[0xc0]), FrameError::TooShort { kind: "rejoin-request", len: 1, needed: 19 });
        assert_eq!(refused(&[&[0xc0, 3][..], &[0; 17]].concat()), FrameError::RejoinType(3));
        assert_eq!(
            refused(&[&[0xc0, 1][..], &[0; 17]].concat()),
            FrameError::WrongLength { kind: "rejoin-request", len: 19 }
        );
        assert_eq!(refused(&[0x00, 0]), FrameError::OtherType(MType::JoinRequest));
    }

    proptest! {
        #[test]
        fn round_trip(kind in 0u8..3, net: u32, join_eui: u64, dev_eui: u64, rj_count: u16, key: [u8; 16]) {
            let key = MicKey::new(&crate::AesKey(key));
            let to = match kind {
                0 => RejoinTo::Network(NetId::new(net)),
                1 => RejoinTo::JoinServer(Eui64(join_eui)),
                _ => RejoinTo::NetworkForKeys(NetId::new(net)),
            };
            let repr = RejoinRequestRepr { to, dev_eui: Eui64(dev_eui), rj_count };
            let mut frame = repr.emit(&key);
            let view = RejoinRequestView::new_checked(&frame).unwrap();
            prop_assert!(view.verify(&key));
            prop_assert_eq!(RejoinRequestRepr::parse(&view), repr);
            frame[2] ^= 1;
            prop_assert!(!RejoinRequestView::new_checked(&frame).unwrap().verify(&key));
        }
    }
}

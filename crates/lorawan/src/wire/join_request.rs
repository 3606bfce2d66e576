//! The join-request (TS001 §6.2.4): JoinEUI, DevEUI, DevNonce, in the clear, with a MIC.

use super::{FrameError, MIC_LEN, MType, array};
use crate::Eui64;
use crate::crypto::{Mic, MicKey};

mod field {
    pub(super) const JOIN_EUI: usize = 1;
    pub(super) const DEV_EUI: usize = 9;
    pub(super) const DEV_NONCE: usize = 17;
    pub(super) const MIC: usize = 19;
    pub(super) const END: usize = MIC + super::MIC_LEN;
}

/// A checked view of a join-request's bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JoinRequestView<'a>(&'a [u8]);

impl<'a> JoinRequestView<'a> {
    /// Checks type and length.
    pub fn new_checked(phy_payload: &'a [u8]) -> Result<Self, FrameError> {
        if phy_payload.len() != field::END || phy_payload[0] != MType::JoinRequest.mhdr() {
            return Err(FrameError::WrongLength { kind: "join-request", len: phy_payload.len() });
        }
        Ok(Self(phy_payload))
    }

    /// The JoinEUI (AppEUI before 1.0.4).
    pub fn join_eui(&self) -> Eui64 {
        Eui64::from_wire(array(self.0, field::JOIN_EUI))
    }

    /// The DevEUI.
    pub fn dev_eui(&self) -> Eui64 {
        Eui64::from_wire(array(self.0, field::DEV_EUI))
    }

    /// The DevNonce: random before 1.0.4, a counter from then on.
    pub fn dev_nonce(&self) -> u16 {
        u16::from_le_bytes(array(self.0, field::DEV_NONCE))
    }

    /// The MIC as sent.
    pub fn mic(&self) -> Mic {
        array(self.0, field::MIC)
    }

    /// Whether the MIC was made with `app_key`.
    pub fn verify(&self, app_key: &MicKey) -> bool {
        app_key.join_mic(&self.0[..field::MIC]) == self.mic()
    }
}

/// The values of a join-request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JoinRequestRepr {
    /// The JoinEUI.
    pub join_eui: Eui64,
    /// The DevEUI.
    pub dev_eui: Eui64,
    /// The DevNonce.
    pub dev_nonce: u16,
}

impl JoinRequestRepr {
    /// The values in a view.
    pub fn parse(view: &JoinRequestView<'_>) -> Self {
        Self { join_eui: view.join_eui(), dev_eui: view.dev_eui(), dev_nonce: view.dev_nonce() }
    }

    /// The frame, signed with `app_key`.
    pub fn emit(&self, app_key: &MicKey) -> Vec<u8> {
        let mut frame = Vec::with_capacity(field::END);
        frame.push(MType::JoinRequest.mhdr());
        frame.extend(self.join_eui.to_wire());
        frame.extend(self.dev_eui.to_wire());
        frame.extend(self.dev_nonce.to_le_bytes());
        let mic = app_key.join_mic(&frame);
        frame.extend(mic);
        frame
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn round_trip(join_eui: u64, dev_eui: u64, dev_nonce: u16, key: [u8; 16]) {
            let key = MicKey::new(&crate::AesKey(key));
            let repr = JoinRequestRepr { join_eui: Eui64(join_eui), dev_eui: Eui64(dev_eui), dev_nonce };
            let frame = repr.emit(&key);
            let view = JoinRequestView::new_checked(&frame).unwrap();
            prop_assert!(view.verify(&key));
            prop_assert_eq!(JoinRequestRepr::parse(&view), repr);
            let mut bent = frame.clone();
            bent[18] ^= 1;
            prop_assert!(!JoinRequestView::new_checked(&bent).unwrap().verify(&key));
        }
    }
}

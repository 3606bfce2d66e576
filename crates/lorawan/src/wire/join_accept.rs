//! The join-accept of LoRaWAN 1.0.x (TS001 §6.2.5), sealed under the AppKey.

use thiserror::Error;

use super::{FrameError, MHDR_LEN, MIC_LEN, MType, array};
use crate::crypto::{MicKey, open_join_accept, seal_join_accept};
use crate::{AesKey, DevAddr, NetId};

mod field {
    pub const JOIN_NONCE: usize = 1;
    pub const NET_ID: usize = 4;
    pub const DEV_ADDR: usize = 7;
    pub const DL_SETTINGS: usize = 11;
    pub const RX_DELAY: usize = 12;
    pub const CF_LIST: usize = 13;
    pub const CF_LIST_LEN: usize = 16;
}

const SHORT: usize = field::CF_LIST + MIC_LEN;
const LONG: usize = SHORT + field::CF_LIST_LEN;

/// Why a join-accept does not open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum JoinAcceptError {
    /// Not the bytes of a join-accept.
    #[error(transparent)]
    Frame(#[from] FrameError),
    /// Opened with the key given, the MIC does not agree: it was made under another key.
    #[error("the MIC does not agree: this join-accept was made under another AppKey")]
    Mic,
    /// A CFList of a type that 1.0.x does not know.
    #[error("CFList type {0} is not known")]
    CfListType(u8),
}

/// Five more channel frequencies for a dynamic channel plan: CFList type 0 (RP002 §2.4.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CfList {
    /// In hertz, a multiple of 100 Hz; zero leaves the channel unused.
    pub frequencies_hz: [u32; 5],
}

/// The values of a join-accept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JoinAccept {
    /// The JoinNonce (AppNonce before 1.0.4), 24 bits.
    pub join_nonce: u32,
    /// The network's NetID.
    pub net_id: NetId,
    /// The address given to the device.
    pub dev_addr: DevAddr,
    /// Offset between uplink data rate and RX1 data rate, 0 to 7.
    pub rx1_data_rate_offset: u8,
    /// Data rate index of RX2.
    pub rx2_data_rate: u8,
    /// Seconds from the end of an uplink to RX1; 0 stands for 1 (TS001 §5.7).
    pub rx_delay_s: u8,
    /// More channels, where the region has them.
    pub cf_list: Option<CfList>,
}

impl JoinAccept {
    pub(super) fn check_len(phy_payload: &[u8]) -> Result<(), FrameError> {
        match phy_payload.len() {
            SHORT | LONG => Ok(()),
            len => Err(FrameError::WrongLength { kind: "join-accept", len }),
        }
    }

    /// The frame, signed and sealed under `app_key`.
    pub fn seal(&self, app_key: &AesKey) -> Vec<u8> {
        let mut frame = Vec::with_capacity(LONG);
        frame.push(MType::JoinAccept.mhdr());
        frame.extend(&self.join_nonce.to_le_bytes()[..3]);
        frame.extend(&self.net_id.value().to_le_bytes()[..3]);
        frame.extend(self.dev_addr.0.to_le_bytes());
        frame.push(((self.rx1_data_rate_offset & 0x07) << 4) | (self.rx2_data_rate & 0x0f));
        frame.push(self.rx_delay_s & 0x0f);
        if let Some(list) = &self.cf_list {
            for hz in list.frequencies_hz {
                frame.extend(&(hz / 100).to_le_bytes()[..3]);
            }
            frame.push(0);
        }
        let mic = MicKey::new(app_key).join_mic(&frame);
        frame.extend(mic);
        seal_join_accept(app_key, &mut frame[MHDR_LEN..]);
        frame
    }

    /// The device's side: opens `phy_payload` with `app_key` and checks its MIC.
    pub fn open(phy_payload: &[u8], app_key: &AesKey) -> Result<Self, JoinAcceptError> {
        Self::check_len(phy_payload)?;
        let mut frame = phy_payload.to_vec();
        match MType::from_mhdr(frame[0])? {
            MType::JoinAccept => {}
            other => return Err(FrameError::UnreadType(other).into()),
        }
        open_join_accept(app_key, &mut frame[MHDR_LEN..]);
        let (body, mic) = frame.split_at(frame.len() - MIC_LEN);
        if MicKey::new(app_key).join_mic(body) != *mic {
            return Err(JoinAcceptError::Mic);
        }
        let three = |at| {
            let [a, b, c] = array::<3>(body, at);
            u32::from_le_bytes([a, b, c, 0])
        };
        let cf_list = if body.len() > field::CF_LIST {
            match body[field::CF_LIST + 15] {
                0 => {
                    let frequencies_hz = std::array::from_fn(|i| three(field::CF_LIST + 3 * i) * 100);
                    Some(CfList { frequencies_hz })
                }
                other => return Err(JoinAcceptError::CfListType(other)),
            }
        } else {
            None
        };
        Ok(Self {
            join_nonce: three(field::JOIN_NONCE),
            net_id: NetId::new(three(field::NET_ID)),
            dev_addr: DevAddr(u32::from_le_bytes(array(body, field::DEV_ADDR))),
            rx1_data_rate_offset: (body[field::DL_SETTINGS] >> 4) & 0x07,
            rx2_data_rate: body[field::DL_SETTINGS] & 0x0f,
            rx_delay_s: body[field::RX_DELAY] & 0x0f,
            cf_list,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn accept(cf_list: Option<CfList>) -> JoinAccept {
        JoinAccept {
            join_nonce: 0x01_0203,
            net_id: NetId::new(0x13),
            dev_addr: DevAddr(0x2601_2345),
            rx1_data_rate_offset: 1,
            rx2_data_rate: 3,
            rx_delay_s: 5,
            cf_list,
        }
    }

    #[test]
    fn another_key_does_not_open_it() {
        let frame = accept(None).seal(&AesKey([1; 16]));
        assert_eq!(JoinAccept::open(&frame, &AesKey([2; 16])), Err(JoinAcceptError::Mic));
        assert!(JoinAccept::open(&frame[..16], &AesKey([1; 16])).is_err());
    }

    proptest! {
        #[test]
        fn round_trip(nonce in 0u32..1 << 24, addr: u32, offset in 0u8..8, rx2 in 0u8..16, delay in 0u8..16,
                      list in proptest::option::of(proptest::array::uniform5(0u32..1 << 24)), key: [u8; 16]) {
            let value = JoinAccept {
                join_nonce: nonce, dev_addr: DevAddr(addr), rx1_data_rate_offset: offset, rx2_data_rate: rx2,
                rx_delay_s: delay, cf_list: list.map(|l| CfList { frequencies_hz: l.map(|f| f * 100) }), ..accept(None)
            };
            prop_assert_eq!(JoinAccept::open(&value.seal(&AesKey(key)), &AesKey(key)), Ok(value));
        }

        #[test]
        fn any_bytes_are_answered(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let _ = JoinAccept::open(&bytes, &AesKey([7; 16]));
        }
    }
}

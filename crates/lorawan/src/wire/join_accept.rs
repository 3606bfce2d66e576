//! The join-accept (TS001 §6.2.5; TS001-1.1 §6.2.3): signed, then sealed as a whole.
//!
//! In 1.0.x both is done with the AppKey. In 1.1 the MIC is made with the JSIntKey and covers the
//! request; the seal is the NwkKey's, or the JSEncKey's where a rejoin-request is answered. The bit
//! *OptNeg* says which it is, and lies under the seal.

use thiserror::Error;

use super::{CfList, FrameError, MHDR_LEN, MIC_LEN, MType, array, cf_list, u24};
use crate::crypto::{JoinServerKeys, Mic, MicKey, open_join_accept, seal_join_accept};
use crate::{AesKey, DevAddr, Eui64, NetId};

mod field {
    pub(super) const JOIN_NONCE: usize = 1;
    pub(super) const NET_ID: usize = 4;
    pub(super) const DEV_ADDR: usize = 7;
    pub(super) const DL_SETTINGS: usize = 11;
    pub(super) const RX_DELAY: usize = 12;
    pub(super) const CF_LIST: usize = 13;
}

/// DLSettings bit 7: RFU in 1.0.x.
const OPT_NEG: u8 = 0x80;

const SHORT: usize = field::CF_LIST + MIC_LEN;
const LONG: usize = SHORT + cf_list::LEN;

/// Why a join-accept does not open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum JoinAcceptError {
    /// Not the bytes of a join-accept.
    #[error(transparent)]
    Frame(#[from] FrameError),
    /// Opened with the key given, the MIC does not agree: it was made under another key.
    #[error("the MIC does not agree: this join-accept was made under another key")]
    Mic,
}

/// What a join-accept answers (TS001-1.1 §6.2.3, `JoinReqType`).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum JoinKind {
    /// A join-request.
    Join,
    /// A rejoin-request of this type, 0 to 2.
    Rejoin(u8),
}

/// The request behind a join-accept of 1.1, which its MIC covers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answered {
    /// Which kind of request.
    pub kind: JoinKind,
    /// The JoinEUI of the request, or for a rejoin of type 0 or 2 that of the device.
    pub join_eui: Eui64,
    /// The DevNonce, or the rejoin-request's RJcount.
    pub dev_nonce: u16,
}

impl Answered {
    /// What stands before the frame in the MIC: `JoinReqType | JoinEUI | DevNonce`.
    fn prefix(&self) -> [u8; 11] {
        let mut out = [0; 11];
        out[0] = match self.kind {
            JoinKind::Join => 0xff,
            JoinKind::Rejoin(kind) => kind,
        };
        out[1..9].copy_from_slice(&self.join_eui.to_wire());
        out[9..].copy_from_slice(&self.dev_nonce.to_le_bytes());
        out
    }
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
    /// The network speaks 1.1 and the keys are derived as 1.1 does.
    pub opt_neg: bool,
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

    /// The frame in the clear, without its MIC.
    fn body(&self) -> Vec<u8> {
        let mut frame = Vec::with_capacity(LONG);
        frame.push(MType::JoinAccept.mhdr());
        frame.extend(&self.join_nonce.to_le_bytes()[..3]);
        frame.extend(&self.net_id.value().to_le_bytes()[..3]);
        frame.extend(self.dev_addr.0.to_le_bytes());
        let opt_neg = if self.opt_neg { OPT_NEG } else { 0 };
        frame.push(opt_neg | ((self.rx1_data_rate_offset & 0x07) << 4) | (self.rx2_data_rate & 0x0f));
        frame.push(self.rx_delay_s & 0x0f);
        if let Some(list) = &self.cf_list {
            frame.extend(list.emit());
        }
        frame
    }

    /// The frame of 1.0.x, signed and sealed under `app_key` (under the NwkKey for a 1.1 device that
    /// joins a 1.0 network).
    pub fn seal(&self, app_key: &AesKey) -> Vec<u8> {
        let mut frame = self.body();
        let mic = MicKey::new(app_key).join_mic(&frame);
        frame.extend(mic);
        seal_join_accept(app_key, &mut frame[MHDR_LEN..]);
        frame
    }

    /// The frame of 1.1, with OptNeg set, whatever the field says.
    pub fn seal_1_1(&self, nwk_key: &AesKey, keys: &JoinServerKeys, answered: &Answered) -> Vec<u8> {
        let mut frame = Self { opt_neg: true, ..*self }.body();
        let mic = mic_1_1(&frame, keys, answered);
        frame.extend(mic);
        seal_join_accept(sealing_key(nwk_key, keys, answered.kind), &mut frame[MHDR_LEN..]);
        frame
    }

    /// The device's side of [`Self::seal`]: opens `phy_payload` with `app_key` and checks its MIC.
    pub fn open(phy_payload: &[u8], app_key: &AesKey) -> Result<Self, JoinAcceptError> {
        let (frame, mic) = unseal(phy_payload, app_key)?;
        if MicKey::new(app_key).join_mic(&frame) != mic {
            return Err(JoinAcceptError::Mic);
        }
        Ok(Self::read(&frame))
    }

    /// The device's side of [`Self::seal_1_1`]. A network of 1.0.x leaves OptNeg unset, and then the
    /// MIC is the one of 1.0.x under the NwkKey.
    pub fn open_1_1(
        phy_payload: &[u8],
        nwk_key: &AesKey,
        keys: &JoinServerKeys,
        answered: &Answered,
    ) -> Result<Self, JoinAcceptError> {
        let (frame, mic) = unseal(phy_payload, sealing_key(nwk_key, keys, answered.kind))?;
        let accept = Self::read(&frame);
        let expected =
            if accept.opt_neg { mic_1_1(&frame, keys, answered) } else { MicKey::new(nwk_key).join_mic(&frame) };
        if expected == mic { Ok(accept) } else { Err(JoinAcceptError::Mic) }
    }

    /// Which of several requests a join-accept of 1.1 answers, all of one kind: the seal is opened and
    /// the key prepared once, so that all 65536 nonces can be tried.
    pub(crate) fn search_1_1(
        phy_payload: &[u8],
        nwk_key: &AesKey,
        keys: &JoinServerKeys,
        mut requests: impl Iterator<Item = Answered>,
    ) -> Option<(Self, Answered)> {
        let first = requests.next()?;
        let (frame, mic) = unseal(phy_payload, sealing_key(nwk_key, keys, first.kind)).ok()?;
        let accept = Self::read(&frame);
        let key = MicKey::new(&keys.js_int_key);
        let mut signed = [&[0; 11][..], &frame].concat();
        std::iter::once(first)
            .chain(requests)
            .filter(|_| accept.opt_neg)
            .find(|answered| {
                signed[..11].copy_from_slice(&answered.prefix());
                key.join_mic(&signed) == mic
            })
            .map(|answered| (accept, answered))
    }

    /// Reads a frame in the clear, without its MIC.
    fn read(frame: &[u8]) -> Self {
        let dl_settings = frame[field::DL_SETTINGS];
        Self {
            join_nonce: u24(frame, field::JOIN_NONCE),
            net_id: NetId::new(u24(frame, field::NET_ID)),
            dev_addr: DevAddr(u32::from_le_bytes(array(frame, field::DEV_ADDR))),
            opt_neg: dl_settings & OPT_NEG != 0,
            rx1_data_rate_offset: (dl_settings >> 4) & 0x07,
            rx2_data_rate: dl_settings & 0x0f,
            rx_delay_s: frame[field::RX_DELAY] & 0x0f,
            cf_list: (frame.len() > field::CF_LIST).then(|| CfList::parse(&array(frame, field::CF_LIST))),
        }
    }
}

/// Opens the seal: the frame in the clear without its MIC, and the MIC.
fn unseal(phy_payload: &[u8], key: &AesKey) -> Result<(Vec<u8>, Mic), JoinAcceptError> {
    JoinAccept::check_len(phy_payload)?;
    let mut frame = phy_payload.to_vec();
    match MType::from_mhdr(frame[0]).map_err(JoinAcceptError::Frame)? {
        MType::JoinAccept => {}
        other => return Err(FrameError::OtherType(other).into()),
    }
    open_join_accept(key, &mut frame[MHDR_LEN..]);
    let mic = array(&frame, frame.len() - MIC_LEN);
    frame.truncate(frame.len() - MIC_LEN);
    Ok((frame, mic))
}

fn mic_1_1(frame: &[u8], keys: &JoinServerKeys, answered: &Answered) -> Mic {
    MicKey::new(&keys.js_int_key).join_mic(&[&answered.prefix(), frame].concat())
}

fn sealing_key<'k>(nwk_key: &'k AesKey, keys: &'k JoinServerKeys, kind: JoinKind) -> &'k AesKey {
    match kind {
        JoinKind::Join => nwk_key,
        JoinKind::Rejoin(_) => &keys.js_enc_key,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::crypto::join_server_keys;
    use proptest::prelude::*;

    fn accept(cf_list: Option<CfList>) -> JoinAccept {
        JoinAccept {
            join_nonce: 0x01_0203,
            net_id: NetId::new(0x13),
            dev_addr: DevAddr(0x0301_2345),
            opt_neg: false,
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
                      list in proptest::option::of(proptest::array::uniform5(0u32..1 << 24)), key: [u8; 16], opt_neg: bool) {
            let value = JoinAccept {
                join_nonce: nonce, dev_addr: DevAddr(addr), rx1_data_rate_offset: offset, rx2_data_rate: rx2,
                rx_delay_s: delay, cf_list: list.map(|l| CfList::Frequencies(l.map(|f| f * 100))), opt_neg, ..accept(None)
            };
            prop_assert_eq!(JoinAccept::open(&value.seal(&AesKey(key)), &AesKey(key)), Ok(value));
        }

        #[test]
        fn a_1_1_accept_opens_only_for_the_request_it_answers(kind in 0u8..4, dev_nonce: u16, join_eui: u64, dev_eui: u64) {
            let nwk_key = AesKey([9; 16]);
            let keys = join_server_keys(&nwk_key, Eui64(dev_eui));
            let kind = if kind == 3 { JoinKind::Join } else { JoinKind::Rejoin(kind) };
            let answered = Answered { kind, join_eui: Eui64(join_eui), dev_nonce };
            let value = accept(Some(CfList::Masks([0xff00, 0, 0, 0, 0x0002])));
            let frame = value.seal_1_1(&nwk_key, &keys, &answered);
            let opened = JoinAccept::open_1_1(&frame, &nwk_key, &keys, &answered);
            prop_assert_eq!(opened, Ok(JoinAccept { opt_neg: true, ..value }));
            let other = Answered { dev_nonce: dev_nonce ^ 1, ..answered };
            prop_assert_eq!(JoinAccept::open_1_1(&frame, &nwk_key, &keys, &other), Err(JoinAcceptError::Mic));
        }

        #[test]
        fn a_1_1_device_takes_the_accept_of_a_1_0_network(dev_nonce: u16) {
            let nwk_key = AesKey([9; 16]);
            let keys = join_server_keys(&nwk_key, Eui64(1));
            let answered = Answered { kind: JoinKind::Join, join_eui: Eui64(2), dev_nonce };
            let frame = accept(None).seal(&nwk_key);
            prop_assert_eq!(JoinAccept::open_1_1(&frame, &nwk_key, &keys, &answered), Ok(accept(None)));
        }

        #[test]
        fn any_bytes_are_answered(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let _ = JoinAccept::open(&bytes, &AesKey([7; 16]));
        }
    }
}
